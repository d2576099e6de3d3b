"""The workbench: what can be typed, moved, undone, linked to and read out."""

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from greyheron.formats.workspace import write_workspace
from tests.browser.conftest import ROOT, Server, bring_in, make_of
from tests.browser.test_journey import editor, mark, row
from tests.lab import Lab

pytestmark = pytest.mark.browser

AXE = ROOT / "ui" / "node_modules" / "axe-core" / "axe.min.js"


def test_a_test_flow_is_one_typed_line_with_completion(page: Page) -> None:
    page.keyboard.press("/")
    field = page.get_by_role("textbox", name="New test flow")
    expect(field).to_be_focused()
    page.keyboard.type("til")
    options = page.get_by_role("listbox")
    expect(options.get_by_role("option").first).to_contain_text("host: 172.20.16.30")
    page.keyboard.press("Enter")
    page.keyboard.type("→ ledger ")
    expect(options).to_contain_text("ledger listens on tcp/443")
    page.keyboard.type("telnet ")
    page.keyboard.press("Escape")
    page.keyboard.type("blok")
    page.keyboard.press("Escape")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("did you mean “block”?")
    expect(field).to_have_text("till → ledger telnet blok")  # nothing typed is lost
    for _ in range(4):
        page.keyboard.press("Backspace")
    page.keyboard.insert_text("block")
    page.keyboard.press("Escape")
    page.keyboard.press("Enter")
    expect(row(page, "t27")).to_contain_text("till → ledger telnet")
    expect(mark(page, "t27", "draft")).to_have_accessible_name("draft: passes, not as expected")
    expect(page.get_by_test_id("book-summary")).to_contain_text("27 flows, 3 not as expected")
    expect(page.get_by_test_id("draft-state")).to_have_text("No changes")  # a test changes no device


def test_errors_in_a_list_show_as_typed_and_are_not_saved(page: Page) -> None:
    page.keyboard.press("2")
    page.get_by_role("button", name="hides-in").click()
    editor(page, "hides-in").click()
    page.keyboard.press("Control+End")
    page.keyboard.insert_text("permit tcp to 172.20.16.5/24")
    expect(page.get_by_label("Problems")).to_contain_text("172.20.16.5/24 has bits set beyond the prefix")
    expect(page.locator(".cm-lintRange-error")).to_have_text("172.20.16.5/24")
    expect(page.get_by_role("button", name="Save to draft")).to_be_disabled()
    page.get_by_role("button", name="Undo typing").click()
    expect(editor(page, "hides-in")).not_to_contain_text("172.20.16.5")


def test_enter_begins_a_line_when_the_word_on_offer_stands_there(page: Page) -> None:
    page.get_by_role("button", name="Lists").click()
    page.get_by_label("Name of a new list").fill("till-out")
    page.keyboard.press("Enter")
    editor(page, "till-out").click()
    page.keyboard.type("deny tcp from @visitors to @ledger port telnet")
    offered = page.locator(".cm-tooltip-autocomplete [aria-selected]")
    expect(offered).to_contain_text("telnet")
    page.keyboard.press("Enter")
    expect(offered).to_have_count(0)
    page.keyboard.type("permit an")
    expect(offered).to_contain_text("any")
    page.keyboard.press("Enter")
    expect(editor(page, "till-out").locator(".cm-line")).to_have_text(
        ["deny tcp from @visitors to @ledger port telnet", "permit any "]
    )


def test_a_list_is_renumbered_in_its_order(page: Page) -> None:
    page.keyboard.press("2")
    page.get_by_role("button", name="hides-in").click()
    editor(page, "hides-in").click()
    page.keyboard.press("Control+Home")
    page.keyboard.insert_text("3 permit tcp established\n")
    page.get_by_role("button", name="Renumber").click()
    expect(editor(page, "hides-in")).to_contain_text("10 permit tcp from any to any established")
    expect(editor(page, "hides-in")).to_contain_text("40 deny any from @cameras to any log")
    page.get_by_role("button", name="Save to draft").click()
    expect(page.get_by_text("saved in the draft")).to_be_visible()
    expect(page.get_by_role("button", name="Renumber")).to_be_disabled()


def test_a_list_is_tidied_seen_step_by_step_and_undone_in_one(page: Page) -> None:
    page.keyboard.press("2")
    page.get_by_role("button", name="hides-in").click()
    editor(page, "hides-in").click()
    page.keyboard.press("Control+Home")
    page.keyboard.insert_text(
        "1 permit tcp from 172.20.64.0/25 to any port 8080\n"
        "2 permit tcp from 172.20.64.128/25 to any port 8080\n"
    )
    page.get_by_role("button", name="Tidy…").click()
    panel = page.get_by_role("region", name="Tidy")
    expect(panel).to_contain_text("can be one: 172.20.64.0/24")
    panel.get_by_role("button", name="Use these entries").click()
    expect(editor(page, "hides-in")).to_contain_text("1 permit tcp from 172.20.64.0/24 to any port 8080")
    expect(editor(page, "hides-in")).not_to_contain_text("172.20.64.128/25")
    page.get_by_role("button", name="Save to draft").click()
    expect(page.get_by_text("saved in the draft")).to_be_visible()
    page.get_by_role("button", name="Undo", exact=True).click()
    expect(editor(page, "hides-in")).not_to_contain_text("172.20.64.0/24")


def test_an_edit_says_which_packets_it_permits_and_two_revisions_are_compared(page: Page) -> None:
    page.keyboard.press("2")
    page.get_by_role("button", name="hides-in").click()
    editor(page, "hides-in").click()
    page.keyboard.press("Control+Home")
    page.keyboard.insert_text("5 permit tcp from @cameras to @ledger port 1-1023\n")
    said = page.get_by_role("region", name="What this edit changes")
    sentence = "permits 8 × 1 × 1,023 more: tcp from cameras to ledger, ports 1–1023"
    expect(said).to_contain_text(sentence)
    expect(said).to_contain_text("entering hide-gw by eth1")
    page.keyboard.press("Control+s")
    expect(page.get_by_text("saved in the draft")).to_be_visible()
    expect(said).to_have_count(0)
    page.get_by_role("button", name=re.compile("^Changes")).click()
    expect(page.get_by_role("main")).to_contain_text(sentence)
    page.get_by_role("main").get_by_role("button", name="Apply", exact=True).click()
    chooser = page.get_by_role("form", name="Compare revisions")
    chooser.get_by_label("From revision").select_option("1")
    chooser.get_by_label("To revision").select_option("2")
    chooser.get_by_role("button", name="Compare").click()
    compared = page.get_by_role("region", name="Comparison")
    expect(compared.get_by_role("region", name="Packets")).to_contain_text(sentence)
    expect(compared.get_by_role("region", name="Written")).to_contain_text("+ 5 permit tcp from @cameras")
    compared.get_by_role("button", name="Close").click()
    expect(compared).to_have_count(0)


def test_marks_follow_what_is_typed_before_it_is_saved(page: Page) -> None:
    page.get_by_role("button", name="hides-in", exact=True).click()
    editor(page, "hides-in").click()
    page.keyboard.press("Control+Home")
    page.keyboard.insert_text("5 permit tcp established\n")
    expect(mark(page, "t13", "trial")).to_have_accessible_name("trial: passes, as expected, would change")
    page.get_by_role("button", name="Save to draft").click()
    expect(mark(page, "t13", "draft")).to_have_accessible_name("draft: passes, as expected")
    expect(page.get_by_test_id("book-summary")).to_contain_text("1 not as expected")


def test_undo_redo_and_discard(page: Page) -> None:
    page.get_by_role("button", name=re.compile("^hides-in, entering hide-gw")).click()
    page.get_by_role("button", name="Take off").click()
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 1 edit")
    expect(mark(page, "t13", "draft")).to_have_accessible_name("draft: passes, as expected")
    gone = page.get_by_role("button", name="hides-in, entering hide-gw by eth1, taken off in the draft")
    expect(gone).to_be_visible()
    page.keyboard.press("Control+z")
    expect(page.get_by_test_id("draft-state")).to_have_text("No changes")
    page.keyboard.press("Control+Shift+z")
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 1 edit")
    page.get_by_role("button", name="Discard").click()
    expect(mark(page, "t13", "draft")).to_have_accessible_name("draft: blocked, not as expected")
    page.get_by_role("button", name="Undo", exact=True).click()
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 1 edit")


def test_an_occupied_place_offers_replace_or_cancel(page: Page) -> None:
    page.get_by_role("button", name="Place from-beyond").click()
    target = page.locator("[data-target='hide-gw:eth1:in']")
    target.hover()
    target.click()
    dialog = page.get_by_role("alertdialog")
    expect(dialog).to_contain_text("hides-in stands there already")
    dialog.get_by_role("button", name="Cancel").click()
    expect(page.get_by_test_id("placing")).to_be_visible()
    target.click()
    dialog.get_by_role("button", name="Replace by from-beyond").click()
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 2 edits")
    expect(page.get_by_role("button", name=re.compile("^from-beyond, entering hide-gw"))).to_be_visible()
    page.keyboard.press("m")
    expect(page.get_by_test_id("placing")).to_contain_text("from-beyond is picked up")
    page.keyboard.press("Escape")
    expect(page.get_by_test_id("placing")).to_be_hidden()


def test_the_three_states_of_a_trace_and_its_equal_paths(page: Page) -> None:
    row(page, "t13").click()
    sentence = page.get_by_test_id("sentence")
    expect(sentence).to_contain_text("on the draft: blocked on the way home, entering hide-gw by eth1")
    page.keyboard.press("b")
    expect(sentence).to_contain_text("with no lists: passes")
    expect(page).to_have_url(re.compile("state=baseline"))
    page.keyboard.press("r")
    expect(sentence).to_contain_text("as running: blocked")
    row(page, "t15").click()
    tabs = page.get_by_role("tab")
    expect(tabs).to_have_count(4)  # two ways out, each with two ways home
    expect(page.get_by_label("Trace").get_by_role("button", name="lagoon", exact=True)).to_be_visible()
    tabs.nth(3).click()
    expect(page.get_by_label("Trace").get_by_role("button", name="hide-gw", exact=True)).to_be_visible()


def test_a_link_leads_back_to_what_was_looked_at(page: Page) -> None:
    row(page, "t7").click()
    expect(page.get_by_test_id("sentence")).to_contain_text(
        "sluice’s remote line: wardens-only denies, entry 20"
    )
    page.get_by_role("button", name="show the place").first.click()
    expect(page.get_by_role("heading", name="Sluice’s remote line")).to_be_visible()
    page.goto(page.url)
    expect(page.get_by_role("heading", name="Sluice’s remote line")).to_be_visible()
    expect(page.get_by_test_id("sentence")).to_contain_text("kiosk → sluice ssh")
    page.go_back()
    page.go_back()
    expect(page.get_by_text("Choose a test flow to see its path")).to_be_visible()


def test_plates_stay_where_they_are_put(page: Page) -> None:
    plate = page.locator("[data-plate=jetty]")
    before = plate.bounding_box()
    assert before
    page.mouse.move(before["x"] + 50, before["y"] + 12)
    page.mouse.down()
    page.mouse.move(before["x"] + 10, before["y"] + 42, steps=5)
    page.mouse.up()
    expect(page.get_by_role("button", name="Undo", exact=True)).to_have_attribute(
        "title", "Undo: move jetty on the map"
    )
    expect(page.get_by_test_id("draft-state")).to_have_text("No changes")
    page.reload()
    expect(plate).to_be_visible()
    after = plate.bounding_box()
    assert after
    assert after["x"] < before["x"] - 20
    plate.focus()
    page.keyboard.press("Alt+ArrowRight")
    expect(page.get_by_role("button", name="Undo", exact=True)).to_be_enabled()


def test_a_network_without_positions_is_laid_out(page: Page, server: Server, tmp_path: Path) -> None:
    file = tmp_path / "lab.yaml"
    file.write_text(write_workspace(Lab().network()))
    page.goto(server.address)
    make_of(page, file)
    plates = page.locator("[data-plate]")
    expect(plates).to_have_count(10)
    expect(page.get_by_role("group", name="Devices and placed lists")).to_have_attribute("aria-busy", "false")
    expect(plates).to_have_count(10)
    centres = {tuple(plate.bounding_box().values())[:2] for plate in plates.all()}  # type: ignore[union-attr]
    assert len(centres) == 10


def test_a_bad_file_is_refused_with_every_problem(page: Page, server: Server, tmp_path: Path) -> None:
    file = tmp_path / "bad.yaml"
    file.write_text("format: grey-heron/1\nname: x\ndevices:\n- {name: a, kind: b}\n- {name: c, kind: d}\n")
    page.goto(server.address)
    bring_in(page, file)
    alert = page.get_by_role("alert")
    expect(alert).to_contain_text("2 problems; the first: device a, kind")
    expect(alert).to_contain_text("device c, kind")


def test_devices_and_placements_can_be_read_out(page: Page) -> None:
    expect(
        page.get_by_role("button", name="hide-gw, router, 5 interfaces, hides-in placed inbound at eth1")
    ).to_be_visible()
    plate = page.locator("[data-plate=lagoon]")
    plate.focus()
    page.keyboard.press("Enter")
    inspector = page.get_by_role("complementary", name="Inspector")
    expect(inspector).to_contain_text("172.20.40.1/24")
    expect(inspector).to_contain_text("wardens-only")
    expect(inspector).to_contain_text("172.20.56.0/24")


def test_sent_flows_are_counted_in_the_margin_and_logged(page: Page) -> None:
    row(page, "t17").click()
    page.get_by_label("How many times").fill("5")
    page.get_by_role("button", name="Send", exact=True).click()
    expect(page.get_by_role("status").filter(has_text="Sent 5 times")).to_contain_text(
        "5 counted at lists, 1 logged"
    )
    page.get_by_role("button", name="from-beyond, entering weir by wan0").click()
    expect(page.locator(".cm-hits .cm-gutterElement").filter(has_text="5")).to_be_visible()
    page.keyboard.press("6")
    expect(page.get_by_role("row").first).to_contain_text("denied")
    expect(page.get_by_role("row").first).to_contain_text("172.20.40.10 port 23 × 5")
    page.get_by_label("Filter by address, port or protocol").fill("172.20.99")
    expect(page.get_by_text("No line is like that.")).to_be_visible()
    page.get_by_role("button", name="Reset counters and log").click()
    expect(page.get_by_text("All are at zero.")).to_be_visible()


def test_a_device_is_edited_as_text_and_checked_as_typed(page: Page) -> None:
    page.locator("[data-plate=weir]").click()
    inspector = page.get_by_role("complementary", name="Inspector")
    zones = inspector.get_by_role("region", name="Zones").get_by_role("listitem")
    expect(zones).to_have_text(["inner core0,lo0", "yard yard0", "outer wan0"])
    expect(inspector).to_contain_text("sluice by core0, v2, cost 10")
    inspector.get_by_role("button", name="Edit as text…").click()
    text = inspector.get_by_role("textbox", name="weir as text")
    expect(text).to_contain_text("kind: firewall")
    text.click()
    page.keyboard.press("Control+End")
    page.keyboard.insert_text("same_zon: true\n")
    expect(inspector.get_by_role("alert")).to_contain_text("there is no such field")
    page.keyboard.press("Control+z")
    page.keyboard.insert_text("same_zone: true\n")
    inspector.get_by_role("button", name="Save to draft").click()
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 1 edit")


def test_a_device_is_added_linked_by_drawing_changed_line_by_line_and_removed(page: Page) -> None:
    inspector = page.get_by_role("complementary", name="Inspector")
    page.get_by_role("button", name="Add a device").click()
    field = page.get_by_role("textbox", name="New device")
    expect(field).to_be_focused()
    page.keyboard.insert_text("host ledger 172.20.24.30")
    page.keyboard.press("Enter")
    dialog = page.get_by_role("region", name="New device")
    expect(dialog.get_by_role("alert")).to_contain_text("172.20.24.30/24, say")
    page.keyboard.insert_text("/24 gateway 172.20.24.1")
    page.keyboard.press("Enter")
    expect(dialog.get_by_role("alert")).to_contain_text("there is a device ledger already")
    expect(field).to_contain_text("host ledger 172.20.24.30/24 gateway 172.20.24.1")
    page.keyboard.press("Control+a")
    page.keyboard.insert_text("host weather 172.20.24.30/24 gateway 172.20.24.1")
    page.keyboard.press("Enter")
    plate = page.locator("[data-plate=weather]")
    expect(plate).to_be_visible()
    expect(inspector.get_by_role("heading", name="weather host")).to_be_visible()
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 1 edit")

    grip, goal = (
        page.locator(f"[{name}]").bounding_box() for name in ("data-link-grip=weather", "data-plate=sluice")
    )
    assert grip
    assert goal
    page.mouse.move(grip["x"] + grip["width"] / 2, grip["y"] + grip["height"] / 2)
    page.mouse.down()
    page.mouse.move(goal["x"] + goal["width"] / 2, goal["y"] + 8, steps=5)
    page.mouse.up()
    expect(inspector.get_by_role("button", name="Remove the link to sluice:eth0")).to_be_visible()

    inspector.get_by_role("button", name="service", exact=True).click()
    page.keyboard.insert_text("page tcp/80a")
    page.keyboard.press("Enter")
    expect(inspector.get_by_role("alert")).to_contain_text("“80a” is no port")
    page.keyboard.press("Backspace")
    page.keyboard.press("Enter")
    services = inspector.get_by_role("region", name="Listens on")
    services.get_by_role("button", name="page tcp/80").click()
    services.get_by_role("button", name="Remove it").click()
    expect(services).to_have_count(0)

    inspector.get_by_role("button", name="rename").click()
    name = inspector.get_by_label("Another name for weather")
    expect(name).to_be_focused()
    name.fill("sluice")
    page.keyboard.press("Enter")
    expect(inspector.get_by_role("alert")).to_contain_text("there is a sluice already")
    name.fill("vane")
    page.keyboard.press("Enter")
    expect(inspector.get_by_role("heading", name="vane host")).to_be_visible()
    expect(inspector.get_by_role("button", name="Remove the link to sluice:eth0")).to_be_visible()
    expect(plate).to_have_count(0)

    inspector.get_by_role("button", name="Remove", exact=True).click()
    expect(page.locator("[data-plate=vane]")).to_have_count(0)


def test_the_storm_network_shows_its_surprises(page: Page, server: Server) -> None:
    page.goto(server.address)
    page.get_by_role("button", name="After the storm").click()
    expect(page.get_by_test_id("book-summary")).to_contain_text("31 flows, 18 not as expected")
    page.get_by_role("button", name="surprises only").click()
    expect(page.locator("[data-test]")).to_have_count(18)
    page.locator("[data-plate=hide-gw]").click()
    inspector = page.get_by_role("complementary", name="Inspector")
    expect(inspector).to_contain_text(
        "sluice is no neighbour: hides-core entering hide-gw by wan0 denies, implicit deny"
    )


VIEWS = [
    "map",
    "trace",
    "device",
    "policy",
    "lists",
    "reach",
    "findings",
    "changes",
    "log",
    "shortcuts",
    "palette",
    "home",
]


@pytest.mark.parametrize("view", VIEWS)
def test_no_serious_axe_violation_in_light_or_dark(page: Page, view: str, server: Server) -> None:
    if view == "reach":
        page.keyboard.press("3")
        page.get_by_role("gridcell", name=re.compile("^camhub to ledger")).click()
        expect(page.get_by_role("button", name="Trace it as a test flow").first).to_be_visible()
    elif view == "palette":
        page.keyboard.press("Control+k")
        expect(page.get_by_role("combobox", name="Find anything")).to_be_focused()
    elif view == "trace":
        row(page, "t13").click()
        expect(page.get_by_role("complementary", name="Evidence")).to_be_visible()
    elif view == "device":
        page.locator("[data-plate=weir]").click()
        page.get_by_role("button", name="Add a route").click()
        expect(page.get_by_role("option", name=re.compile("everywhere, IPv4"))).to_be_visible()
    elif view == "policy":
        page.locator("[data-requirement=r2]").click()
        page.get_by_role("button", name="Where should it go?").click()
        expect(page.get_by_role("region", name="Where it could go")).to_be_visible()
    elif view == "findings":
        page.keyboard.press("4")
        expect(page.locator("[data-finding]").first).to_be_visible()
    elif view == "log":
        page.keyboard.press("6")
        expect(page.get_by_text("All are at zero.")).to_be_visible()
    elif view == "lists":
        page.keyboard.press("2")
    elif view == "changes":
        page.get_by_role("button", name=re.compile("^hides-in, entering hide-gw")).click()
        page.get_by_role("button", name="Take off").click()
        expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 1 edit")
        page.keyboard.press("5")
        expect(page.get_by_text("Effect on the test flows")).to_be_visible()
    elif view == "shortcuts":
        page.keyboard.press("?")
        expect(page.get_by_role("dialog")).to_be_visible()
    elif view == "home":
        page.goto(server.address)
        expect(page.get_by_role("heading", name="Grey Heron")).to_be_visible()
    page.evaluate(AXE.read_text())
    for theme in ("light", "dark"):
        page.evaluate("theme => { document.documentElement.dataset.theme = theme }", theme)
        found = page.evaluate("() => axe.run({ resultTypes: ['violations'] })")
        serious = [
            (theme, each["id"], [node["html"][:400] for node in each["nodes"]][:4])
            for each in found["violations"]
            if each["impact"] in ("serious", "critical")
        ]
        assert serious == []


def test_the_theme_is_the_systems_until_it_is_chosen_and_kept(page: Page) -> None:
    expect(page.locator("html")).to_have_attribute("data-theme", "light")
    page.keyboard.press("Control+k")
    page.keyboard.insert_text("dark theme")
    page.keyboard.press("Enter")
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")


def test_entries_move_and_their_numbers_stay(page: Page) -> None:
    page.keyboard.press("2")
    page.get_by_role("button", name="hides-in").click()
    text = editor(page, "hides-in")
    text.click()
    page.keyboard.press("Control+End")
    for _ in range(3):  # past the last entry and its remark
        page.keyboard.press("ArrowUp")
    page.keyboard.press("Alt+ArrowUp")
    expect(text).to_contain_text(
        "# cameras talk to the hub and to nobody else20 deny any from @cameras to any log"
    )
    expect(text).to_contain_text("30 permit icmp echo-reply from any to @inner")
    page.keyboard.press("Alt+ArrowDown")
    expect(text).to_contain_text("20 permit icmp echo-reply from any to @inner")
    page.keyboard.press("Shift+Alt+ArrowDown")
    page.keyboard.press("Control+s")
    expect(text).to_contain_text("35 deny any from @cameras to any log")


def test_two_lists_side_by_side(page: Page) -> None:
    page.keyboard.press("2")
    page.get_by_role("button", name="from-beyond").click()
    page.get_by_label("Beside it").select_option("hides-in")
    expect(editor(page, "hides-in")).to_be_visible()
    expect(page.get_by_text("Only in hides-in")).to_be_visible()
    expect(page.get_by_role("definition").filter(has_text="permit udp from @camhub")).to_be_visible()
    page.reload()
    expect(editor(page, "hides-in")).to_be_visible()


def test_flows_are_duplicated_in_other_shapes(page: Page) -> None:
    row(page, "t2").click()
    page.get_by_role("button", name="Duplicate").click()
    page.get_by_role("menuitem", name="From every host of its segment").click()
    expect(row(page, "t28")).to_contain_text("till → ledger")
    expect(page.get_by_test_id("book-summary")).to_contain_text("28 flows")
    row(page, "t11").click()
    page.get_by_role("button", name="Duplicate").click()
    page.get_by_role("menuitem", name="In the other family").click()
    expect(page.get_by_role("alert")).to_contain_text("has no IPv6 address")


def test_the_book_as_a_table(page: Page, tmp_path: Path) -> None:
    page.get_by_role("button", name="The whole book").click()
    with page.expect_download() as download:
        page.get_by_role("menuitem", name="Export as CSV").click()
    assert "ringing-desk → camhub web pass" in Path(download.value.path()).read_text()
    table = tmp_path / "more.csv"
    table.write_text("group,flow,note\nDoors,till → ledger telnet block,why not\n")
    page.get_by_label("Table of test flows").set_input_files(table)
    expect(page.get_by_role("status").filter(has_text="1 test flows were added")).to_be_visible()
    expect(row(page, "t27")).to_contain_text("till → ledger")
    page.get_by_role("button", name="Run Doors").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("status").filter(has_text="Ran 1 flow on the draft")).to_be_visible()
    page.get_by_role("button", name="Doors", exact=True).click()
    expect(row(page, "t27")).not_to_be_visible()
    table.write_text("flow\ntill → nobody web pass\n")
    page.get_by_label("Table of test flows").set_input_files(table)
    expect(page.get_by_role("alert")).to_contain_text("nobody")


def test_since_when_a_flow_does_what_it_does(page: Page) -> None:
    row(page, "t13").click()
    inspector = page.get_by_role("complementary", name="Inspector")
    expect(inspector.locator("summary")).to_contain_text("blocked since")
    page.get_by_role("button", name=re.compile("^hides-in, entering hide-gw")).click()
    page.get_by_role("button", name="Take off").click()
    row(page, "t13").click()
    expect(inspector.locator("summary")).to_contain_text("take hides-in off hide-gw eth1")
    inspector.locator("summary").click()
    expect(inspector).to_contain_text("blocked from")
    expect(page.get_by_role("complementary", name="Evidence")).to_contain_text(
        "Draft parts from running at hide-gw"
    )


def test_only_a_device_and_its_neighbours(page: Page) -> None:
    page.locator("[data-plate=jetty]").click()
    page.keyboard.press("n")
    expect(page.get_by_role("button", name="Neighbours")).to_have_attribute("aria-pressed", "true")
    expect(page.locator("g.opacity-30 > [data-plate=kiosk]")).to_have_count(1)
    expect(page.locator("g.opacity-30 > [data-plate=boat-desk]")).to_have_count(0)


NUMBER_CONTROLS = """() => {
  const wanted = 'button:not([disabled]), input:not([disabled]):not([type=file]), select, summary, ' +
    'a[href], [tabindex="0"], .cm-content';
  const seen = (each) => each.checkVisibility() && each.tabIndex >= 0;
  const controls = [...document.querySelectorAll(wanted)].filter(seen);
  controls.forEach((each, number) => { each.dataset.control = number; });
  const radios = controls.filter((each) => each.type === 'radio' && !each.checked);
  const skipped = new Set(radios.map((each) => each.dataset.control));
  return controls.filter((each) => !skipped.has(each.dataset.control))
    .map((each) => [each.dataset.control, each.outerHTML.slice(0, 120)]);
}"""


@pytest.mark.parametrize("view", ["map", "trace", "device", "lists", "reach", "findings", "changes", "log"])
def test_every_control_is_reached_by_tab(page: Page, view: str) -> None:
    keys = {"lists": "2", "reach": "3", "findings": "4", "changes": "5", "log": "6"}
    if view == "trace":
        page.keyboard.press("j")
        expect(page.get_by_role("complementary", name="Evidence")).to_be_visible()
    elif view == "device":
        page.locator("[data-plate=weir]").click()
        expect(page.get_by_role("button", name="Add a route")).to_be_visible()
        expect(page.get_by_text("sluice by core0, v2, cost 10")).to_be_visible()
    elif view in keys:
        page.keyboard.press(keys[view])
        expect(page).to_have_url(re.compile(f"/{view}$"))
    if view == "findings":
        expect(page.locator("[data-finding]").first).to_be_visible()
    page.wait_for_load_state("networkidle")
    controls = dict(page.evaluate(NUMBER_CONTROLS))
    assert len(controls) > 8
    page.evaluate("document.body.tabIndex = -1, document.body.focus()")
    reached = set()
    for _ in range(len(controls) + 10):
        page.keyboard.press("Tab")
        reached.add(page.evaluate("document.activeElement.dataset.control"))
    assert [html for number, html in controls.items() if number not in reached] == []
