"""Remake docs/screenshots from the demo: one picture of each main view at 1280x800."""

import re
import tempfile
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright
from tests.browser.conftest import (
    QUIET,
    SCROLLBARS,
    Server,
    bring_in,
    make_of,
    open_demo,
    take_all_lists_away,
)

from greyheron.demo.generator import Plan, generate
from greyheron.formats.workspace import write_workspace

FOLDER = Path(__file__).parent.parent / "docs" / "screenshots"
MACHINES = Path(__file__).parent.parent / "tests" / "machines"
FLOWS = """source,destination,protocol,destination_port,packets,bytes,back
172.20.16.21,172.20.40.10,tcp,https,412,301220,398
172.20.16.30,172.20.40.10,tcp,https,96,61230,91
172.20.40.20,172.20.48.5,tcp,https,18,9120,12
172.20.48.11,172.20.48.5,tcp,554,8120,9120331,8011
172.20.48.5,172.20.40.10,udp,syslog,77,12200,0
172.20.16.77,198.51.100.80,tcp,https,310,402100,300
172.20.16.21,172.20.40.10,tcp,telnet,9,540,7
172.23.7.7,172.20.40.10,tcp,telnet,3,180,0
203.0.113.1,172.20.40.10,tcp,ssh,40,2400,0
172.20.57.20,172.20.24.10,udp,5000,21,3100,0
"""
back: list[str] = []
"""Where to go on from after a look at another network."""
GONE = """fetch(`/api/networks/${location.pathname.split("/")[2]}`, {
  method: "DELETE", headers: { "if-match": '"2"' },
}).then((gone) => gone.status)"""
"""Takes a network away of which one edit was made."""
ENTRIES = """# visitors have no business with a login
deny tcp from @visitors to @ledger port telnet log
permit any
"""


def workbench(page: Page) -> None:
    """The failing flow that nobody understood: its reply is blocked."""
    page.locator("[data-test=t13]").click()
    expect(page.get_by_role("complementary", name="Evidence")).to_contain_text("hides-in")


def lens(page: Page) -> None:
    """A requirement that does not hold, all that violates it, and every place where a list would help."""
    page.locator("[data-requirement=r2]").click()
    page.get_by_role("button", name="Where should it go?").click()
    expect(page.get_by_role("region", name="Where it could go")).to_contain_text(
        "ways make it", timeout=60_000
    )


def all_holding(page: Page) -> None:
    """Lists for all requirements of the demo, from nothing, being tried."""
    here = page.url
    made = page.evaluate("fetch('/api/networks/demo', { method: 'POST' }).then((made) => made.json())")
    page.goto(re.sub("/n/[^/]+/.*", f"/n/{made['id']}/map", here))
    take_all_lists_away(page)
    back.append(here)
    page.get_by_role("button", name="Make all hold…").click()
    expect(page.get_by_role("region", name="Make all hold")).to_contain_text("would hold", timeout=60_000)
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_text("Trial, not made")).to_be_visible()


def findings(page: Page) -> None:
    """What is wrong in the network after the storm."""
    assert page.evaluate(GONE) == 204
    here = back.pop()
    page.goto(here)
    page.get_by_role("button", name="Grey Heron: all networks").click()
    page.get_by_role("button", name="After the storm: find the faults").click()
    expect(page.get_by_test_id("book-summary")).to_contain_text("31 flows")
    expect(page.get_by_text("the book is being tried")).to_have_count(0, timeout=60_000)
    page.keyboard.press("4")
    expect(page.locator("main[aria-busy=false] [data-finding]").first).to_be_visible(timeout=60_000)
    back.append(here)


def placing(page: Page) -> None:
    """A new list hovers over the place where it does the job."""
    page.goto(back.pop())
    page.get_by_role("button", name="‹ all lists").click()
    page.get_by_label("Name of a new list").fill("visitors-in")
    page.get_by_role("button", name="Make", exact=True).click()
    editor = page.get_by_role("textbox", name="Entries of visitors-in")
    editor.click()
    page.keyboard.insert_text(ENTRIES)
    page.get_by_role("button", name="Save to draft").click()
    expect(editor).to_contain_text("20 permit")
    page.get_by_role("button", name="Place…").click()
    page.locator("[data-target='centre-gw:eth1:in']").hover()
    expect(page.get_by_test_id("placing")).to_contain_text("Reach in IPv4 and IPv6:")


def lists(page: Page) -> None:
    """Room to write: entries as typed, which packets they permit, and in how few they could be."""
    page.locator("[data-target='centre-gw:eth1:in']").click()
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 2 edits")
    page.keyboard.press("2")
    page.get_by_role("button", name="hides-in").click()
    page.get_by_role("textbox", name="Entries of hides-in").click()
    page.keyboard.press("Control+Home")
    page.keyboard.insert_text(
        "1 permit tcp from @camhub to 172.20.40.0/25 port https\n"
        "2 permit tcp from @camhub to 172.20.40.128/25 port https # the new rack\n"
        "3 permit tcp from @camhub to 172.20.40.10 port https\n"
    )
    expect(page.get_by_role("region", name="What this edit changes")).to_contain_text("permits")
    page.get_by_role("button", name="Tidy…").click()
    expect(page.get_by_role("region", name="Tidy")).to_contain_text("can be one")


def changes(page: Page) -> None:
    """What will change, what that does to the book, and the ways back."""
    page.get_by_role("button", name="Undo typing").click()
    page.get_by_role("button", name="Changes").click()
    expect(page.get_by_text("Effect on the test flows")).to_be_visible()
    expect(page.get_by_text("being worked out")).to_have_count(0, timeout=60_000)


def rehearsal(page: Page) -> None:
    """The draft on real wires: everything as predicted."""
    page.get_by_role("button", name="Rehearse the draft").click()
    told = page.get_by_test_id("rehearsed")
    expect(told).to_contain_text("all went as predicted", timeout=120_000)
    page.get_by_role("button", name="show all of them").click()
    told.scroll_into_view_if_needed()


def log(page: Page) -> None:
    """What three sent flows left at the lists."""
    page.keyboard.press("1")
    for test, times in (("t17", 5), ("t12", 3), ("t10", 41)):
        page.locator(f"[data-test={test}]").click()
        page.get_by_label("How many times").fill(str(times))
        page.get_by_role("button", name="Send", exact=True).click()
        expect(page.get_by_role("status").filter(has_text="Sent")).to_contain_text(f"Sent {times} times")
    page.get_by_role("button", name="Close", exact=True).last.click()
    page.keyboard.press("6")
    expect(page.get_by_role("row")).to_have_count(2)


def device(page: Page) -> None:
    """The weir, with the way of a published page through it."""
    page.keyboard.press("1")
    page.locator("[data-test=t16]").click()
    page.locator("[data-plate=weir]").click()
    expect(page.get_by_role("complementary", name="Inspector")).to_contain_text("OSPF neighbours")


def reach(page: Page) -> None:
    """What the draft changes in who reaches whom, and the conversations behind a cell."""
    page.keyboard.press("3")
    page.get_by_role("gridcell", name=re.compile("^kiosk to ledger:")).click()
    expect(page.get_by_role("button", name="Trace it as a test flow").first).to_be_visible()


def palette(page: Page) -> None:
    """Finding anything by a few letters."""
    page.keyboard.press("1")
    page.keyboard.press("Control+k")
    page.get_by_role("combobox", name="Find anything").fill("lagoon")
    expect(page.get_by_role("option").first).to_contain_text("lagoon")


def closed(page: Page) -> None:
    page.keyboard.press("Escape")
    expect(page.get_by_role("combobox", name="Find anything")).to_have_count(0)


def hours(page: Page) -> None:
    """A flow that passes by day and not by night: the marks, the trace, and the moment that is shown."""
    page.get_by_role("button", name="Grey Heron: all networks").click()
    page.get_by_role("button", name=re.compile("^Saltmarsh reserve")).last.click()
    expect(page.get_by_test_id("book-summary")).to_contain_text("26 flows")
    page.get_by_role("textbox", name="New test flow").click()
    page.keyboard.insert_text("kiosk → camhub web block")
    page.keyboard.press("Escape")
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("sentence")).to_contain_text("mixed: blocked outside by-day")
    expect(page.get_by_test_id("book-summary")).to_contain_text("not as expected")


def traffic(page: Page) -> None:
    """What was really there: one conversation that cannot be, and the entries that would let it through."""
    flows = Path(tempfile.mkdtemp()) / "yesterday.csv"
    flows.write_text(FLOWS, encoding="utf-8")
    page.get_by_role("button", name="Traffic", exact=True).click()
    page.get_by_label("Traffic files").set_input_files(flows)
    expect(page.get_by_test_id("traffic-read")).to_be_visible()
    page.locator("button[data-seen]").filter(has_text="ringing-desk").first.click()
    page.get_by_role("button", name="Entries for it").click()
    expect(page.get_by_role("region", name="Just what was there")).to_be_visible()


def bringing(page: Page) -> None:
    """Machines as they are: what was recognised and guessed, before anything is made."""
    page.get_by_role("button", name="Grey Heron: all networks").click()
    bring_in(page, *sorted(MACHINES.iterdir()))
    expect(page.get_by_role("img", name="A map of 6 devices")).to_contain_text("ledger")


def dark_workbench(page: Page) -> None:
    """The workbench in the dark."""
    page.get_by_role("button", name="Leave it").click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.get_by_role("button", name=re.compile("^Saltmarsh reserve")).last.click()
    expect(page.get_by_test_id("book-summary")).to_contain_text(re.compile("2[67] flows"))
    page.keyboard.press("Control+k")
    page.get_by_role("combobox", name="Find anything").fill("dark theme")
    page.keyboard.press("Enter")
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")
    page.locator("[data-test=t13]").click()
    expect(page.get_by_role("complementary", name="Evidence")).to_contain_text("hides-in")


def start(page: Page) -> None:
    """The start page."""
    closed(page)
    page.get_by_role("button", name="Grey Heron: all networks").click()
    expect(page.get_by_role("button", name="Begin the walk")).to_be_visible()


def walk(page: Page) -> None:
    """The walk, while a repair is a trial everywhere."""
    page.get_by_role("button", name="Begin the walk").click()
    page.locator("[data-test=t13]").click()
    for _ in range(3):
        page.get_by_role("button", name=re.compile("next step|Skip")).click()
    page.locator("[data-tag^='hides-in hide-gw']").click()
    page.get_by_role("textbox", name="Entries of hides-in").click()
    page.keyboard.press("Control+Home")
    page.keyboard.insert_text("25 permit tcp from @camhub to any established\n")
    expect(page.get_by_test_id("sentence")).to_contain_text("in the trial: passes")


def large(page: Page) -> None:
    """A flow in a network of a hundred routers, in a drawing of its own."""
    page.get_by_role("button", name="Grey Heron: all networks").click()
    file = Path(tempfile.mkdtemp()) / "large.yaml"
    file.write_text(write_workspace(generate(Plan(100, 60, 20, 3))), encoding="utf-8")
    make_of(page, file)
    expect(page.locator("[data-site]").first).to_be_visible(timeout=60_000)
    page.locator("[data-test]").nth(3).click()
    expect(page.locator("[data-ribbon=out]")).to_be_visible()


VIEWS: list[Callable[[Page], None]] = [
    workbench,
    lens,
    all_holding,
    findings,
    placing,
    lists,
    changes,
    rehearsal,
    log,
    device,
    reach,
    palette,
    start,
    walk,
    large,
    hours,
    traffic,
    bringing,
    dark_workbench,
]


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as data, sync_playwright() as playwright:
        server = Server(Path(data))
        try:
            browser = playwright.chromium.launch(
                executable_path="/usr/bin/chromium-headless-shell",
                args=QUIET,
                ignore_default_args=SCROLLBARS,
            )
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            open_demo(page, server)
            for view in VIEWS:
                view(page)
                page.wait_for_load_state("networkidle")
                page.screenshot(path=FOLDER / f"{view.__name__.replace('_', '-')}.png", animations="disabled")
            browser.close()
        finally:
            server.stop()


if __name__ == "__main__":
    main()
