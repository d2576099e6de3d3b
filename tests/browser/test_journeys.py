"""Longer journeys: a network from nothing, the storm repaired, two places compared, a large network.

All of them by keyboard alone, but for the file that is chosen: no pointer is moved.
"""

import re
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, expect

from greyheron.demo.generator import Plan, generate
from greyheron.formats.workspace import write_workspace
from greyheron.model.changes import Change, apply
from tests.browser.conftest import Server, make_of
from tests.browser.test_journey import editor, mark, tab_to

pytestmark = pytest.mark.browser


def press(page: Page, control: Locator) -> None:
    """Go to a control by Tab, and press it with Enter."""
    tab_to(page, control)
    page.keyboard.press("Enter")


def new_list(page: Page, name: str) -> None:
    palette(page, "Go to Lists")
    tab_to(page, page.get_by_label("Name of a new list"))
    page.keyboard.type(name)
    page.keyboard.press("Enter")
    expect(editor(page, name)).to_be_visible()


def fill(page: Page, field: Locator, text: str) -> None:
    """Go to a text by Tab, and write `text` in place of what stands there."""
    tab_to(page, field)
    page.keyboard.press("Control+a")
    page.keyboard.press("Delete")
    page.keyboard.insert_text(text)
    page.keyboard.press("Escape")


def palette(page: Page, words: str) -> None:
    """Go or do by the palette: what is typed must find it first."""
    page.keyboard.press("Control+k")
    field = page.get_by_role("combobox", name="Find anything")
    expect(field).to_be_focused()
    field.fill(words)
    page.keyboard.press("Enter")
    expect(field).to_have_count(0)


def write_list(page: Page, name: str, text: str) -> None:
    """Put `text` in place of the entries of a list and save it."""
    palette(page, f"Open {name}")
    fill(page, editor(page, name), text)
    page.keyboard.press("Control+s")
    expect(page.get_by_label(f"List {name}").get_by_text("saved in the draft")).to_be_visible()


def write_test(page: Page, flow: str) -> None:
    """A new test flow, typed where `/` leads, once Escape has left whatever was being written."""
    page.keyboard.press("Escape")
    page.keyboard.press("/")
    expect(page.get_by_role("textbox", name="New test flow")).to_be_focused()
    page.keyboard.insert_text(flow)
    page.keyboard.press("Escape")
    page.keyboard.press("Enter")


def step_to(page: Page, words: str) -> None:
    """With a list picked up: step to the place that is described by `words`, each step once it is seen."""
    named = page.get_by_test_id("placing")
    expect(named).to_be_visible()
    for _ in range(120):
        before = re.split(r"\. |\n|Put down", named.inner_text())[0].strip()
        if words in before:
            return
        page.keyboard.press("ArrowRight")
        expect(named).not_to_contain_text(before)
    raise AssertionError(f"no place is called {words}")


def place_at(page: Page, words: str) -> None:
    """With a list picked up: step to the place that is described by `words`, and drop it."""
    step_to(page, words)
    page.keyboard.press("Enter")
    see_place(page, words)


def see_place(page: Page, words: str) -> None:
    """Wait for the place that is described by `words` to be shown."""
    heading = re.compile(re.escape(words), re.IGNORECASE)
    expect(
        page.get_by_role("complementary", name="Inspector").get_by_role("heading", name=heading)
    ).to_be_visible()


def write_line(page: Page, label: str, text: str) -> None:
    """Write a line of notation in the field that has the focus, and submit it."""
    field = page.get_by_role("textbox", name=label)
    expect(field).to_be_focused()
    page.keyboard.insert_text(text)
    page.keyboard.press("Enter")
    expect(field).to_have_count(0)


def choose_nothing(page: Page) -> None:
    page.goto(page.url.split("?")[0])
    expect(page.get_by_role("button", name="Add a device")).to_be_visible()


GATEWAY = "172.20.56.254"


def test_a_network_of_three_routers_from_nothing_and_one_block_proved(page: Page, server: Server) -> None:
    page.goto(server.address)
    tab_to(page, page.get_by_label("Name of a new network"))
    page.keyboard.type("Reed bank")
    page.keyboard.press("Enter")
    expect(page.get_by_text("This network has no devices yet.")).to_be_visible()
    inspector = page.get_by_role("complementary", name="Inspector")
    for name, first, others in (
        ("router reed1", "172.21.1.1/24", {"interface": ["eth1 172.21.9.1/30 ospf"]}),
        ("router reed2", "172.21.9.2/30", {"interface": ["eth1 172.21.9.5/30 ospf"]}),
        ("router reed3", "172.21.9.6/30", {"interface": ["eth1 172.21.3.1/24 ospf"]}),
        ("host bittern", "172.21.1.10/24 gateway 172.21.1.1", {}),
        ("host warbler", "172.21.3.10/24 gateway 172.21.3.1", {"service": ["page tcp/80"]}),
    ):
        page.keyboard.press("+")
        write_line(page, "New device", f"{name} {first}")
        kind, called = name.split()
        expect(inspector.get_by_role("heading", name=f"{called} {kind}")).to_be_visible()
        if kind == "router":
            press(page, inspector.get_by_role("button", name=f"eth0 {first}"))
            write_line(page, f"eth0 {first}, of {called}", " ospf")
        for part, lines in others.items():
            for line in lines:
                press(page, inspector.get_by_role("button", name=re.compile(f"^(Add an? )?{part}$")))
                write_line(page, f"New {part} of {called}", line)
                expect(inspector.get_by_role("button", name=line)).to_be_visible()
    for one, other in (("bittern", "reed1"), ("reed1", "reed2"), ("reed2", "reed3"), ("reed3", "warbler")):
        palette(page, one)
        expect(inspector.get_by_role("heading", name=re.compile(f"^{one} "))).to_be_visible()
        expect(inspector).to_be_focused()
        page.keyboard.press("l")
        expect(page.get_by_label(f"Link {one} with")).to_be_focused()
        page.keyboard.insert_text(other)
        page.keyboard.press("Enter")
        expect(page.get_by_role("button", name=re.compile(f"^Remove the link to {other}:"))).to_be_visible()
    write_test(page, "bittern → warbler page block")
    expect(mark(page, "t1", "draft")).to_have_accessible_name("draft: passes, not as expected")
    choose_nothing(page)
    new_list(page, "no-page")
    write_list(page, "no-page", "deny tcp from @bittern to @warbler port http\npermit any")
    palette(page, "Place no-page")
    place_at(page, "entering reed1 by eth0")
    expect(mark(page, "t1", "draft")).to_have_accessible_name("draft: blocked, as expected")
    expect(mark(page, "t1", "no lists")).to_have_accessible_name("no lists: passes")
    palette(page, "Go to Reach")
    expect(
        page.get_by_role("gridcell", name=re.compile("^bittern to warbler: passes and blocked"))
    ).to_be_visible()


def test_the_storm_is_repaired_fault_by_fault(page: Page, server: Server) -> None:
    page.goto(server.address)
    press(page, page.get_by_role("button", name="After the storm: find the faults"))
    expect(page.get_by_test_id("book-summary")).to_contain_text("31 flows, 18 not as expected")

    write_list(page, "wardens-only", "10 permit from 172.20.24.0~0.0.0.255\n20 deny from any log")
    palette(page, "Go to Map")
    expect(mark(page, "t6", "draft")).to_have_accessible_name("draft: passes, as expected")

    palette(page, "lagoon console in")
    see_place(page, "lagoon’s console line")
    page.keyboard.press("m")
    place_at(page, "lagoon’s remote line")
    expect(mark(page, "t9", "draft")).to_have_accessible_name("draft: blocked, as expected")

    palette(page, "Open from-beyond")
    tab_to(page, editor(page, "from-beyond"))
    page.keyboard.press("Control+End")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("Alt+ArrowUp")
    expect(editor(page, "from-beyond")).to_contain_text(
        "# the sightings page, by its outside address10 permit tcp from any to 203.0.113.10 port https"
    )
    page.keyboard.press("Control+s")
    palette(page, "Go to Map")
    expect(mark(page, "t16", "draft")).to_have_accessible_name("draft: passes, as expected")

    for point, list_name in (
        ("hide-gw wan0 in", "hides-core"),
        ("hide-gw wan1 in", "hides-core"),
        ("hide-gw wan2 in", "hides-core"),
        ("lagoon eth2 out", "lab-guard"),
    ):
        palette(page, point)
        panel = page.get_by_role("complementary", name="Inspector")
        expect(panel).to_contain_text(list_name)
        press(page, panel.get_by_role("button", name="Take off").first)
        expect(panel.get_by_role("button", name="Take off")).to_have_count(0)
    expect(mark(page, "t2", "draft")).to_have_accessible_name("draft: passes, as expected")

    write_list(
        page,
        "hides-in",
        "10 permit udp from @camhub to @ledger port 514,1514\n"
        "20 permit icmp echo-reply from any to @inner\n"
        "25 permit tcp from @camhub to @inner established\n"
        "30 deny any from @cameras to any log",
    )
    write_list(
        page,
        "lab-six",
        "10 permit tcp from any to @ledger port https\n20 permit tcp from any to any established",
    )
    write_list(
        page,
        "no-jetty-login",
        "10 deny tcp from @visitors to @jetty port telnet\n"
        "15 deny tcp from @visitors to @ledger port telnet\n"
        "20 permit any from any to any",
    )
    write_list(page, "cam-ports", "10 permit ipv4\n20 permit ipv6\n30 permit arp\n40 deny any log")
    palette(page, "lagoon eth2 in")
    see_place(page, "entering lagoon by eth2")
    page.keyboard.press("m")
    place_at(page, "leaving lagoon by eth2")
    palette(page, "Place boat-guard")
    place_at(page, "leaving jetty by eth1.57")
    palette(page, "boat-desk")
    inspector = page.get_by_role("complementary", name="Inspector")
    gateway = inspector.get_by_role("region", name="Gateway").get_by_role("button", name=GATEWAY)
    press(page, gateway)
    page.keyboard.press("Control+a")
    write_line(page, f"{GATEWAY}, of boat-desk", "172.20.56.1")
    expect(page.get_by_test_id("book-summary")).to_contain_text("31 flows, 1 not as expected")
    press(page, page.locator("[data-test=s2]"))  # the service moved to another port, which no list can mend
    expect(inspector).to_contain_text("Refused by ledger: nobody listens")
    expect(inspector).to_contain_text("No list is to blame")


def test_one_list_inbound_here_or_outbound_there(page: Page) -> None:
    """The same list at two places: what each would do is read before anything is dropped."""
    new_list(page, "no-login")
    write_list(page, "no-login", "deny tcp from any to any port telnet\npermit any")
    palette(page, "Place no-login")
    placing = page.get_by_test_id("placing")
    seen = {}
    for words in ("entering centre-gw by eth1", "leaving lagoon by eth2"):
        step_to(page, words)
        expect(placing).to_contain_text("kiosk → ledger telnet passes → blocked")
        expect(placing).to_contain_text("Reach in IPv4 and IPv6:")
        seen[words] = placing.inner_text()
    assert len(set(seen.values())) == 2
    page.keyboard.press("Enter")
    press(page, page.locator("[data-test=t1]"))
    expect(page.get_by_test_id("sentence")).to_contain_text("blocked leaving lagoon by eth2: no-login denies")
    evidence = page.get_by_role("complementary", name="Evidence")
    expect(evidence).to_contain_text("Draft parts from running at lagoon")


def test_who_blocks_a_flow_in_a_large_network(page: Page, server: Server, tmp_path: Path) -> None:
    network = generate(Plan(routers=120, lists=0, entries=0, seed=7))
    entries = "deny tcp from any to @h77 port https\npermit any"
    network = apply(
        network,
        [
            Change(
                collection="lists",
                key="hidden",
                item={"name": "hidden", "family": "ipv4", "kind": "extended", "entries": entries},
            ),
            Change(
                collection="placements",
                key="r77:eth0:out:hidden",
                item={"list": "hidden", "device": "r77", "at": "eth0", "direction": "out"},
            ),
        ],
    )
    file = tmp_path / "large.yaml"
    file.write_text(write_workspace(network))
    page.goto(server.address)
    make_of(page, file)
    expect(page.get_by_test_id("book-summary")).to_contain_text("40 flows")
    write_test(page, "h3 → h77 tcp/443 pass")
    expect(page.get_by_test_id("sentence")).to_contain_text(
        "blocked leaving r77 by eth0: hidden denies, entry 10"
    )
    expect(page.locator("[data-plate=r77]")).to_be_visible()
    expect(page.locator("[data-ribbon=out]")).to_have_attribute("data-ending", "bar")
    palette(page, "h77")
    expect(page.locator("[data-plate=h77]")).to_have_attribute("aria-pressed", "true")
