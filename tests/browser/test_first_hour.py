"""What a stranger meets in the first hour: room, keys that have a home, no false calm, a start."""

import re
from collections.abc import Iterator
from pathlib import Path

import httpx2
import pytest
from playwright.sync_api import Browser, Page, Route, expect

from greyheron.demo.generator import Plan, generate
from greyheron.formats.workspace import write_workspace
from tests.browser.conftest import Server, make_of, open_demo, window_of
from tests.browser.test_journey import editor, mark, row

pytestmark = pytest.mark.browser

SIZES = [(1024, 768), (1280, 800), (1440, 900), (1920, 1080)]
VIEWS = ["Map", "Lists", "Reach", "Findings", "Changes", "Log"]

# What scrolls beyond its box though it is no panel, and words that are too small to read.
SCROLLED = """() => {
  const page = document.scrollingElement;
  return [page.scrollHeight - innerHeight, page.scrollWidth - innerWidth].filter((by) => by > 0);
}"""
SMALL = """() => {
  const found = [];
  const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  while (walker.nextNode()) {
    const words = walker.currentNode.textContent.trim();
    const holder = walker.currentNode.parentElement;
    if (!words || holder.closest(".sr-only, script, style, [aria-hidden=true]")) continue;
    const box = holder.getBoundingClientRect();
    if (box.width < 2 || box.bottom < 0 || box.top > innerHeight) continue;
    let size = parseFloat(getComputedStyle(holder).fontSize);
    if (holder.ownerSVGElement) size *= holder.getScreenCTM().a;
    if (size < 10.95) found.push(`${words.slice(0, 30)}: ${size.toFixed(1)}`);
  }
  return found;
}"""

# How many devices stood in the page at once, at most.
MOST_PLATES = """
  window.mostPlates = 0;
  new MutationObserver(() => {
    const now = document.querySelectorAll("[data-plate]").length;
    window.mostPlates = Math.max(window.mostPlates, now);
  }).observe(document, { childList: true, subtree: true });
"""


@pytest.fixture
def wide(browser: Browser, server: Server, request: pytest.FixtureRequest) -> Iterator[Page]:
    width, height = request.param
    context = window_of(browser, width, height)
    page = context.new_page()
    open_demo(page, server)
    yield page
    context.close()


@pytest.mark.parametrize("wide", SIZES, indirect=True, ids=lambda size: f"{size[0]}x{size[1]}")
def test_only_panels_scroll_and_every_word_can_be_read(wide: Page) -> None:
    page = wide
    row(page, "t15").click()  # five devices long, over two equal ways
    expect(page.get_by_role("complementary", name="Evidence")).to_be_visible()
    expect(page.locator("[aria-label=Trace] [data-hop]").first).to_be_visible()
    expect(page.locator("[data-ribbon=out]")).to_be_visible()
    assert page.evaluate(SCROLLED) == []
    assert page.evaluate(SMALL) == []
    page.get_by_role("button", name="Close", exact=True).click()
    for view in VIEWS:
        page.get_by_role("button", name=view, exact=True).click()
        expect(page.get_by_role("button", name=view, exact=True)).to_have_attribute("aria-current", "page")
        page.locator("body").press("Space")
        assert page.evaluate(SCROLLED) == [], view
        assert page.evaluate(SMALL) == [], view
        assert page.evaluate("scrollY") == 0
    page.get_by_role("button", name="Grey Heron: all networks").click()
    expect(page.get_by_role("heading", name="Networks")).to_be_visible()
    assert page.evaluate(SCROLLED) == []


def test_panels_are_sized_by_key_and_stay_so(page: Page) -> None:
    book = page.get_by_role("complementary", name="Book")
    before = book.bounding_box()
    splitter = page.get_by_role("separator", name="Size of the book")
    splitter.focus()
    for _ in range(3):
        page.keyboard.press("ArrowRight")
    after = book.bounding_box()
    assert before is not None
    assert after is not None
    assert after["width"] > before["width"] + 20
    page.wait_for_function("Object.keys(localStorage).some((key) => key.includes('grey-heron:workbench'))")
    page.reload()
    expect(page.get_by_test_id("book-summary")).to_contain_text("26 flows")
    again = book.bounding_box()
    assert again is not None
    assert abs(again["width"] - after["width"]) < 3


def test_what_is_made_takes_the_cursor_and_letters_go_nowhere_else(page: Page) -> None:
    page.get_by_label("Name of a new list").fill("probe")
    page.get_by_role("button", name="Make", exact=True).click()
    expect(editor(page, "probe")).to_be_focused()
    page.keyboard.type("deny tcp from any to any port telnet")
    expect(editor(page, "probe")).to_contain_text("deny tcp from any to any port telnet")
    expect(page.get_by_test_id("placing")).to_have_count(0)
    # On a control of the inspector letters are no keys either.
    page.get_by_role("button", name="Undo typing").focus()
    for key in "pmbrdjx":
        page.keyboard.press(key)
    expect(page.get_by_test_id("placing")).to_have_count(0)
    assert "state=" not in page.url
    assert "test=" not in page.url
    page.locator("[aria-label=Map]").focus()
    page.keyboard.press("j")
    expect(page.get_by_role("region", name="Trace")).to_contain_text("kiosk → ledger telnet")


def test_a_list_picked_up_by_accident_is_put_down_by_a_key_that_means_nothing(page: Page) -> None:
    page.get_by_role("button", name="Place hides-in").click()
    expect(page.locator("[data-target]").first).to_be_visible()
    page.keyboard.press("c")
    expect(page.get_by_test_id("placing")).to_contain_text("centre-gw")
    page.keyboard.press("9")
    expect(page.get_by_test_id("placing")).to_have_count(0)
    expect(page.get_by_test_id("draft-state")).to_have_text("No changes")


def test_a_line_editor_has_no_scrollbar_in_it(page: Page) -> None:
    row(page, "t13").click()
    field = page.locator("[data-field='Test flow'] .cm-scroller")
    expect(field).to_be_visible()
    assert field.evaluate("field => field.offsetHeight - field.clientHeight") == 0
    assert field.evaluate("field => field.scrollWidth - field.clientWidth") <= 0


def test_nothing_is_called_calm_before_it_was_looked_at(page: Page, server: Server) -> None:
    held: list[Route] = []
    for path in ("book", "policy", "findings"):
        page.route(f"**/api/networks/*/{path}", lambda route: held.append(route))
    page.reload()
    summary = page.get_by_test_id("book-summary")
    expect(summary).to_contain_text("26 flows, not tried yet")
    expect(row(page, "t2")).to_contain_text("not tried yet")
    expect(page.locator("[data-requirement=r2]")).to_contain_text("not proved yet")
    page.get_by_role("button", name="surprises only").click()
    expect(page.get_by_text("Everything is as expected.")).to_have_count(0)
    page.get_by_role("button", name="show all").click()
    page.get_by_role("button", name="Findings", exact=True).click()
    expect(page.get_by_text("Searching the draft")).to_be_visible()
    for route in held:
        route.continue_()
    page.unroute_all()
    expect(page.locator("[data-finding]").first).to_be_visible()
    page.get_by_role("button", name="Map", exact=True).click()
    expect(summary).to_contain_text("2 not as expected")
    assert server.address in page.url


def test_a_choice_that_is_tried_is_shown_and_named_everywhere(page: Page) -> None:
    row(page, "t1").click()
    page.get_by_role("button", name="Where should it go?").click()
    expect(page.get_by_role("region", name="Where it could go")).to_be_visible()
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_test_id("tried")).to_contain_text("Trial, not made")
    expect(page.get_by_test_id("sentence")).to_contain_text("in the trial: blocked")
    expect(page.get_by_role("radio", name="trial")).to_be_checked()
    expect(mark(page, "t1", "trial")).to_have_accessible_name("trial: blocked, as expected, would change")
    expect(page.locator("[data-ribbon=out]")).to_have_attribute("data-ending", "bar")
    expect(page.get_by_role("button", name=re.compile("tried and not in the draft")).first).to_be_visible()
    page.get_by_role("radio", name="draft").check(force=True)
    expect(page.get_by_test_id("sentence")).to_contain_text("on the draft: passes")
    page.get_by_role("button", name="Leave it").click()
    expect(page.get_by_test_id("tried")).to_have_count(0)
    expect(page.get_by_role("radio", name="trial")).to_have_count(0)
    expect(page.get_by_test_id("draft-state")).to_have_text("No changes")


def test_a_flow_in_a_large_network_brings_its_own_drawing(page: Page, server: Server, tmp_path: Path) -> None:
    file = tmp_path / "large.yaml"
    file.write_text(write_workspace(generate(Plan(routers=90, lists=30, entries=10, seed=5))))
    page.goto(server.address)
    make_of(page, file)
    expect(page.get_by_test_id("book-summary")).to_contain_text("40 flows")
    expect(page.locator("[data-site]").first).to_be_visible()
    expect(page.locator("[data-site]").filter(has_text=re.compile("lists?")).first).to_be_visible()
    assert page.evaluate(SMALL) == []
    page.locator("[data-test]").nth(3).click()
    expect(page.locator("[data-ribbon=out]")).to_be_visible()
    drawn = page.locator("[data-plate]")
    expect(drawn.first).to_be_visible()
    assert drawn.count() < 20
    expect(
        page.get_by_role("button", name=re.compile("more behind .*: show the whole map")).first
    ).to_be_visible()
    assert page.evaluate(SMALL) == []
    page.get_by_role("button", name="Its path only").click()
    expect(page.get_by_role("button", name="Its path only")).to_have_attribute("aria-pressed", "false")


def test_a_large_network_is_laid_out_once_and_what_is_not_seen_is_never_made(
    page: Page, server: Server, tmp_path: Path
) -> None:
    layouts = []
    page.on("worker", lambda worker: layouts.append(worker.url))
    page.add_init_script(MOST_PLATES)
    file = tmp_path / "large.yaml"
    file.write_text(write_workspace(generate(Plan(routers=90, lists=90, entries=10, seed=5))))
    page.goto(server.address)
    make_of(page, file)
    sites = page.locator("[data-site]")
    expect(sites.first).to_be_visible()
    page.get_by_role("button", name="Lists", exact=True).click()
    expect(sites).to_have_count(0)
    names = page.get_by_role("complementary", name="Lists").get_by_role("listitem")
    expect(names.first).to_contain_text("list0")
    assert names.count() < 60
    names.first.get_by_role("button").focus()
    for number in range(1, 76):
        page.keyboard.press("Tab")
        expect(page.locator(":focus")).to_contain_text(f"list{number}")
        expect(names.filter(has_text=f"list{number + 1}").first).to_be_visible()
    page.keyboard.press("Enter")
    expect(names.locator("[aria-current=true]")).to_contain_text("list75")
    expect(names.locator("[aria-current=true]")).to_be_in_viewport()
    page.get_by_role("button", name="Map", exact=True).click()
    expect(sites.first).to_be_visible()
    assert len(layouts) == 1
    assert page.evaluate("() => window.mostPlates") < 20


def test_a_map_that_cannot_be_laid_out_says_so_and_is_laid_out_once_that_is_mended(
    page: Page, server: Server, tmp_path: Path
) -> None:
    page.route("**/elk-worker*", lambda route: route.abort())
    file = tmp_path / "large.yaml"
    file.write_text(write_workspace(generate(Plan(routers=20, lists=20, entries=5, seed=5))))
    page.goto(server.address)
    make_of(page, file)
    failed = page.get_by_role("region", name="Map").get_by_role("alert")
    expect(failed).to_contain_text("The map could not be laid out")
    expect(page.get_by_role("progressbar", name=re.compile("being laid out"))).to_have_count(0)
    page.unroute("**/elk-worker*")
    failed.get_by_role("button", name="Lay it out again").click()
    expect(page.locator("[data-plate]").first).to_be_visible()
    expect(failed).to_have_count(0)


def test_the_walk_is_done_in_the_real_workbench_and_comes_back_where_one_left(
    page: Page, server: Server
) -> None:
    page.goto(server.address)
    page.get_by_role("button", name="Begin the walk").click()
    step = page.get_by_test_id("walk")
    expect(step).to_contain_text("1 of 6")
    row(page, "t13").click()
    page.get_by_role("button", name="Done: next step").click()
    expect(step).to_contain_text("2 of 6")
    page.locator("[aria-label=Map]").focus()
    page.keyboard.press("b")
    page.get_by_role("button", name="Done: next step").click()
    page.get_by_role("button", name="Leave", exact=True).click()
    expect(step).to_have_count(0)
    page.get_by_role("button", name="Grey Heron: all networks").click()
    page.get_by_role("button", name="Continue at step 3").click()
    expect(step).to_contain_text("3 of 6")
    page.locator("[data-tag^='hides-in hide-gw']").click()
    page.get_by_role("button", name="Done: next step").click()
    editor(page, "hides-in").click()
    page.keyboard.press("Control+Home")
    page.keyboard.insert_text("25 permit tcp from @camhub to any established\n")
    page.keyboard.press("Control+s")
    page.get_by_role("button", name="Done: next step").click()
    page.keyboard.press("Escape")
    page.locator("[data-requirement=r2]").click()
    expect(page.get_by_role("button", name="Where should it go?")).to_be_visible()
    page.keyboard.press("w")
    places = page.get_by_role("region", name="Where it could go")
    expect(places).to_contain_text("ways make it hold")
    expect(places.locator("[aria-expanded=true]")).to_contain_text("Entering centre-gw by eth1")
    page.keyboard.press("a")
    page.get_by_role("button", name="Done: next step").click()
    page.get_by_role("button", name=re.compile("^Changes")).click()
    expect(page.get_by_text("+ 25 permit tcp from @camhub to any established")).to_be_visible()
    page.get_by_role("button", name="Apply", exact=True).click()
    page.get_by_role("button", name="Done: next step").click()
    expect(page.get_by_text("That was the walk.")).to_be_visible()
    page.get_by_role("button", name="Map", exact=True).click()
    expect(page.get_by_test_id("book-summary")).to_contain_text("all as expected")
    for requirement in ("r1", "r2", "r3", "r4", "r5"):
        shown = page.locator(f"[data-requirement={requirement}]").get_by_role("img", name="running: proved")
        expect(shown).to_be_visible()


def test_the_exercise_counts_what_was_found(page: Page, server: Server) -> None:
    page.goto(server.address)
    page.get_by_role("button", name="After the storm: find the faults").click()
    told = page.get_by_test_id("exercise")
    expect(told).to_contain_text("0 of 13 faults found and fixed")
    page.get_by_role("button", name="Hints").click()
    page.get_by_role("button", name="a mask and its inverse").click()
    expect(page.get_by_test_id("sentence")).to_contain_text("wardens-only denies, entry 20")
    with httpx2.Client(base_url=f"{server.address}/api") as api:
        network = api.get(f"/networks/{page.url.split('/n/')[1].split('/')[0]}").json()
        wardens = next(each for each in network["draft"]["lists"] if each["name"] == "wardens-only")
        entries = "10 permit from 172.20.24.0~0.0.0.255\n20 deny from any log"
        change = {"collection": "lists", "key": "wardens-only", "item": {**wardens, "entries": entries}}
        api.post(
            f"/networks/{network['id']}/draft/edits",
            json={"label": "mask", "changes": [change]},
            headers={"If-Match": f'"{network["version"]}"'},
        ).raise_for_status()
    expect(told).to_contain_text("1 of 13 faults found and fixed")
    page.get_by_role("button", name="Leave", exact=True).click()
    expect(page.get_by_role("region", name="After the storm")).to_contain_text("1 of 13 faults")


def test_networks_are_renamed_copied_and_removed_with_a_way_back(page: Page, server: Server) -> None:
    page.goto(server.address)
    network = page.get_by_role("button", name=re.compile("^Saltmarsh reserve"))
    expect(network).to_contain_text("23 devices, 5 lists, 15 entries")

    def choose(item: str) -> None:
        page.get_by_role("button", name=re.compile("^More for Saltmarsh reserve$")).click()
        page.get_by_role("menuitem", name=item).click()

    choose("Remove")
    expect(network).to_have_count(0)
    page.get_by_role("button", name="Bring it back").click()
    expect(network).to_be_visible()
    choose("Copy")
    expect(page.get_by_role("button", name=re.compile("^Saltmarsh reserve, copy"))).to_be_visible()
    page.get_by_role("button", name="Remove it again").click()
    expect(network).to_have_count(1)
    choose("Rename…")
    field = page.get_by_label("New name of Saltmarsh reserve")
    expect(field).to_be_focused()
    field.fill("Reed bank")
    field.press("Enter")
    expect(page.get_by_role("button", name=re.compile("^Reed bank"))).to_be_visible()
    page.get_by_role("button", name="Undo the rename").click()
    expect(network).to_be_visible()


def test_an_empty_network_and_an_empty_list_offer_first_lines(page: Page, server: Server) -> None:
    page.goto(server.address)
    page.get_by_label("Name of a new network").fill("Reed bank")
    page.get_by_role("button", name="Create").click()
    page.get_by_role("button", name="router gate 172.20.1.1/24").click()
    line = page.get_by_role("textbox", name="New device")
    expect(line).to_be_focused()
    expect(line).to_contain_text("router gate 172.20.1.1/24")
    page.keyboard.press("Enter")
    expect(page.locator("[data-plate=gate]")).to_be_visible()
    page.get_by_role("button", name="‹ all lists").click()
    for kind, first in (
        ("ipv4 extended", "permit tcp from any to any port https"),
        ("ipv4 standard", "permit from 172.20.0.0/16"),
        ("ipv6 extended", "permit icmp packet-too-big from any to any"),
    ):
        name = kind.replace(" ", "-")
        page.get_by_label("Name of a new list").fill(name)
        page.get_by_label("Kind of list").select_option(kind)
        page.get_by_role("button", name="Make", exact=True).click()
        page.get_by_role("button", name=first).click()
        expect(editor(page, name)).to_be_focused()
        page.keyboard.press("Control+s")
        expect(page.get_by_text("saved in the draft")).to_be_visible()
        page.get_by_role("button", name="‹ all lists").click()


MOST_CLICKS, MOST_KEYS = 12, 120
"""Before, at least 216 signs had to be typed for the same, whichever way, and the keys between them."""


def blocked_and_proved(page: Page) -> None:
    expect(page.get_by_test_id("proof")).to_contain_text("Proved, for every packet")
    expect(page.get_by_test_id("draft-state")).to_contain_text("Draft:")


def test_a_newcomer_proves_a_block_on_a_network_of_their_own_by_mouse_alone(
    page: Page, server: Server
) -> None:
    page.goto(server.address)
    clicks = 0

    def click(name: str | re.Pattern[str], exact: bool = True) -> None:
        nonlocal clicks
        clicks += 1
        page.get_by_role("button", name=name, exact=exact).first.click()

    click("Create")
    click("Take a first network: a router between two hosts")
    expect(page.locator("[data-plate=store]")).to_be_visible()
    click("block desk → store login")
    expect(page.get_by_test_id("proof")).to_contain_text("Violated")
    click("‹ all lists")
    click("Make")
    click("deny tcp from any to any port telnet log")
    click("permit any from any to any")
    click("Save to draft")
    click("Place…")
    clicks += 1
    page.locator("[data-target='gate:eth0:in']").click()
    expect(page.get_by_role("button", name=re.compile("^list1, entering gate by eth0"))).to_be_visible()
    clicks += 1
    page.locator("[data-requirement=r1]").click()
    blocked_and_proved(page)
    assert clicks <= MOST_CLICKS, f"{clicks} clicks"


def test_a_newcomer_proves_a_block_on_a_network_of_their_own_by_keyboard_alone(
    page: Page, server: Server
) -> None:
    page.goto(server.address)
    expect(page.get_by_role("button", name="Create")).to_be_visible()
    keys = 0

    def press(*wanted: str) -> None:
        nonlocal keys
        for key in wanted:
            keys += 1
            page.keyboard.press(key)

    def write(text: str) -> None:
        nonlocal keys
        keys += len(text)
        page.keyboard.type(text)

    def tab_to(name: str, back: bool = False) -> None:
        goal = page.get_by_role("button", name=name, exact=True).first
        expect(goal).to_be_visible()
        for _ in range(60):
            if goal.evaluate("element => element === document.activeElement"):
                return
            press("Shift+Tab" if back else "Tab")
        raise AssertionError(f"Tab does not lead to {name}")

    tab_to("Create")
    press("Enter")
    expect(page.get_by_text("This network has no devices yet")).to_be_visible()
    tab_to("Take a first network: a router between two hosts")
    press("Enter")
    expect(page.locator("[data-plate=store]")).to_be_visible()
    press("=")
    expect(page.get_by_role("textbox", name="New requirement")).to_be_focused()
    write("block desk → store login")
    press("Escape", "Enter")
    expect(page.get_by_test_id("proof")).to_contain_text("Violated")
    press("Escape", "2")
    tab_to("Make")
    press("Enter")
    expect(editor(page, "list1")).to_be_focused()
    write("deny tcp to any port 23\npermit any")
    press("Control+s")
    expect(page.get_by_text("saved in the draft")).to_be_visible()
    tab_to("Place…", back=True)
    press("Enter", "g")
    placing = page.get_by_test_id("placing")
    expect(placing).to_contain_text("gate")
    for _ in range(6):
        if "entering gate by eth0" in placing.inner_text():
            break
        press("ArrowRight")
    press("Enter")
    expect(page.get_by_role("button", name=re.compile("^list1, entering gate by eth0"))).to_be_visible()
    press("Control+k")
    write("block desk")
    press("Enter")
    blocked_and_proved(page)
    assert keys <= MOST_KEYS, f"{keys} keys"
