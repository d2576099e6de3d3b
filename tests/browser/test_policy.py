"""Requirements, advice and findings in the browser, by keyboard alone."""

import re

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server, take_all_lists_away
from tests.browser.test_journey import mark, row, tab_to
from tests.browser.test_journeys import palette, press

pytestmark = pytest.mark.browser


def answer(page: Page, requirement: str, state: str) -> str:
    row = page.locator(f"[data-requirement={requirement}]")
    shown = row.get_by_role("img", name=re.compile(f"^{state}:"))
    expect(shown).to_be_visible()
    return shown.get_attribute("aria-label") or ""


def test_all_requirements_are_made_to_hold_from_nothing(page: Page) -> None:
    take_all_lists_away(page)
    page.get_by_role("button", name="Make all hold…").click()
    panel = page.get_by_role("region", name="Make all hold")
    expect(panel).to_contain_text("3 requirements would hold, and no other is lost")
    expect(panel).to_contain_text("deny tcp from @visitors to @ledger port 23")
    page.keyboard.press("v")
    expect(mark(page, "t1", "trial")).to_have_accessible_name("trial: blocked, as expected, would change")
    page.keyboard.press("a")
    for number in range(1, 6):
        row = page.locator(f"[data-requirement=r{number}]")
        expect(row.get_by_role("img", name="draft: proved")).to_be_visible()
    expect(page.get_by_role("button", name="Make all hold…")).to_have_count(0)


def test_a_requirement_from_its_first_word_to_its_application(page: Page) -> None:
    page.keyboard.press("=")
    expect(page.get_by_role("textbox", name="New requirement")).to_be_focused()
    page.keyboard.insert_text("block vis")
    expect(page.get_by_role("option", name=re.compile("visitors"))).to_be_visible()
    page.keyboard.insert_text("itors → ringing-desk ping ipv4")
    page.keyboard.press("Escape")
    page.keyboard.press("Enter")
    inspector = page.get_by_role("complementary", name="Inspector")
    proof = page.get_by_test_id("proof")
    expect(proof).to_contain_text("Violated.")
    expect(proof).to_contain_text("any other host on 172.20.16.0/24, guest, kiosk, till → ringing-desk")
    expect(proof).to_contain_text("classes of packets stand for")
    assert answer(page, "r6", "draft") == "draft: violated"

    press(page, page.get_by_role("button", name="Trace it as a test flow"))
    expect(page.get_by_test_id("sentence")).to_contain_text("passes, and the reply gets home")
    expect(mark(page, "t27", "draft")).to_have_accessible_name("draft: passes, not as expected")

    palette(page, "block visitors → ringing-desk")
    expect(inspector.get_by_role("button", name="Where should it go?")).to_be_visible()
    page.keyboard.press("w")
    places = page.get_by_role("region", name="Where it could go")
    expect(places).to_contain_text("ways make it hold")
    expect(places.locator("[aria-expanded=true]")).to_contain_text("It is enough.")
    expect(page.locator("[data-lens]").first).to_be_visible()
    page.keyboard.press("v")
    expect(places.get_by_role("button", name="Stop trying")).to_be_visible()
    expect(mark(page, "t27", "trial")).to_have_accessible_name("trial: blocked, as expected, would change")
    page.keyboard.press("a")
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 2 edits")
    expect(
        page.locator("[data-requirement=r6]").get_by_role("img", name="draft: proved for every host")
    ).to_be_visible()
    assert answer(page, "r6", "running") == "running: violated"

    page.keyboard.press("5")
    tab_to(page, page.get_by_label("Note for this revision"))
    page.keyboard.type("no pings from visitors")
    page.keyboard.press("Tab")
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("draft-state")).to_have_text("No changes")
    page.keyboard.press("Escape")
    palette(page, "Go to Map")
    expect(page.locator("[data-requirement=r6]").get_by_role("img", name="running: proved")).to_be_visible()


def the_right_place_first(page: Page) -> None:
    """The demo's requirement is chosen, and asked where a list should go."""
    places = page.get_by_role("region", name="Where it could go")
    expect(places).to_contain_text("ways make it hold, the usual place first")
    first = places.get_by_role("listitem").first
    expect(first).to_contain_text("Entering centre-gw by eth1: stops them where they enter")
    expect(first).to_contain_text("centre-gw itself (172.20.16.1) gets through all the same")


def nothing_red_and_the_router_named(page: Page) -> None:
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 2 edits")
    page.locator("[data-requirement=r2]").click()
    expect(page.get_by_test_id("proof")).to_contain_text(
        "Proved for every host; centre-gw itself (172.20.16.1) gets through."
    )
    expect(page.get_by_test_id("proof")).to_contain_text("centre-gw itself (172.20.16.1) → ledger")
    assert answer(page, "r2", "draft") == "draft: proved for every host"
    expect(page.locator("[data-remains=centre-gw]")).to_be_visible()
    expect(page.get_by_test_id("book-summary")).to_contain_text("1 not as expected")  # the cameras’ replies


def test_the_right_place_comes_first_by_mouse(page: Page) -> None:
    page.locator("[data-requirement=r2]").click()
    page.get_by_role("button", name="Where should it go?").click()
    the_right_place_first(page)
    page.get_by_role("button", name="Try it").click()
    expect(mark(page, "t1", "trial")).to_have_accessible_name("trial: blocked, as expected, would change")
    page.get_by_role("button", name="Take it").click()
    nothing_red_and_the_router_named(page)


def test_the_right_place_comes_first_by_keyboard(page: Page) -> None:
    palette(page, "block visitors → ledger telnet")
    expect(page.get_by_role("button", name="Where should it go?")).to_be_visible()
    page.keyboard.press("w")
    the_right_place_first(page)
    page.keyboard.press("v")
    expect(mark(page, "t1", "trial")).to_have_accessible_name("trial: blocked, as expected, would change")
    page.keyboard.press("a")
    nothing_red_and_the_router_named(page)


def test_filters_of_hosts_are_offered_last_and_apart(page: Page) -> None:
    palette(page, "block visitors → ledger telnet")
    expect(page.get_by_role("button", name="Where should it go?")).to_be_visible()
    page.keyboard.press("w")
    the_right_place_first(page)
    places = page.get_by_role("region", name="Where it could go")
    places.get_by_role("button", name=re.compile("^[0-9]+ more$")).click()
    words = places.get_by_role("list").inner_text()
    network_devices, _, hosts = words.partition("Filters of hosts themselves")
    assert "Entering ledger by eth0" in hosts
    assert "Entering ledger by eth0" not in network_devices.replace("where entering ledger", "")


def test_the_map_marks_the_usual_place_of_a_list_that_is_carried(page: Page) -> None:
    palette(page, "Go to Lists")
    tab_to(page, page.get_by_label("Name of a new list"))
    page.keyboard.type("visitors-in")
    page.keyboard.press("Enter")
    editor = page.get_by_role("textbox", name="Entries of visitors-in")
    expect(editor).to_be_visible()
    editor.click()
    page.keyboard.insert_text("deny tcp from @visitors to @ledger port telnet\npermit any\n")
    page.keyboard.press("Control+s")
    expect(page.get_by_text("saved in the draft")).to_be_visible()
    page.get_by_role("button", name="Place…").click()
    usual = page.locator("[data-target]").filter(has=page.locator("[data-usual]"))
    expect(usual).to_have_count(1)
    expect(usual).to_have_attribute("data-target", "centre-gw:eth1:in")
    expect(usual).to_have_accessible_name(re.compile("the usual place$"))
    further = page.locator("[data-target='lagoon:eth2:out']")
    further.hover()
    placing = page.get_by_test_id("placing")
    expect(placing).to_contain_text("Here packets come 2 routers further than entering centre-gw by eth1.")
    further.click()
    expect(page.get_by_role("status").filter(has_text="visitors-in stands leaving lagoon")).to_be_visible()
    expect(page.locator("[data-tag^='visitors-in lagoon']").first).to_be_visible()


def test_a_requirement_that_cannot_be_read_keeps_what_was_typed(page: Page) -> None:
    page.keyboard.press("=")
    expect(page.get_by_role("textbox", name="New requirement")).to_be_focused()
    page.keyboard.insert_text("block kiosk → nobody telnet")
    page.keyboard.press("Escape")
    page.keyboard.press("Enter")
    section = page.get_by_role("region", name="Requirements")
    expect(section.get_by_role("alert")).to_contain_text("there is no device or address set “nobody”")
    expect(page.get_by_role("textbox", name="New requirement")).to_contain_text("block kiosk → nobody telnet")


def test_enter_submits_a_word_that_is_whole(page: Page) -> None:
    """The completion that is still open for it has nothing to add."""
    page.keyboard.press("=")
    expect(page.get_by_role("textbox", name="New requirement")).to_be_focused()
    page.keyboard.insert_text("block kiosk → ledger telnet")
    expect(page.get_by_role("option", name=re.compile("^telnet"))).to_be_visible()
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("proof")).to_contain_text(
        "kiosk:172.20.16.21 → ledger:172.20.40.10 tcp/23 gets through"
    )


def test_findings_are_looked_at_mended_and_accepted(page: Page) -> None:
    palette(page, "Go to Lists")
    tab_to(page, page.get_by_label("Name of a new list"))
    page.keyboard.type("spare-in")
    page.keyboard.press("Enter")
    page.keyboard.press("Escape")
    palette(page, "Go to Findings")
    spare = page.locator("[data-finding='placed nowhere: spare-in']")
    expect(spare).to_contain_text("spare-in is not placed")
    press(page, spare.get_by_role("button", name="accept…"))
    page.keyboard.type("for next season")
    page.keyboard.press("Enter")
    expect(spare).to_have_count(0)
    press(page, page.get_by_role("button", name="show the 1 accepted"))
    expect(spare).to_contain_text("Accepted: for next season")
    reply = page.locator("[data-finding^='reply blocked']")
    expect(reply).to_contain_text("stops replies")
    press(page, reply.get_by_role("button", name=re.compile("^trace")))
    expect(page.get_by_test_id("sentence")).to_contain_text("blocked on the way home")


def test_a_repair_is_tried_before_it_is_made(page: Page, server: Server) -> None:
    page.goto(server.address)
    press(page, page.get_by_role("button", name="After the storm: find the faults"))
    expect(page.get_by_test_id("book-summary")).to_contain_text("31 flows, 18 not as expected")
    for key, edits in (("v", "No changes"), ("a", "Draft: 1 edit")):
        palette(page, "Go to Findings")
        guard = page.locator("[data-finding='list of denies only: lab-guard']")
        press(page, guard.get_by_role("button", name="try it first"))
        tried = page.get_by_test_id("tried")
        expect(tried).to_contain_text("Trial, not made: permit the rest at the end of lab-guard")
        expect(tried).to_contain_text("kiosk → ledger web blocked → passes")
        expect(mark(page, "t2", "trial")).to_have_accessible_name("trial: passes, as expected, would change")
        page.keyboard.press(key)
        expect(tried).to_have_count(0)
        expect(page.get_by_test_id("draft-state")).to_have_text(edits)
    expect(mark(page, "t2", "draft")).to_have_accessible_name("draft: passes, as expected")
    palette(page, "Go to Findings")
    expect(page.locator("[data-finding]").first).to_be_visible()
    expect(page.locator("[data-finding='list of denies only: lab-guard']")).to_have_count(0)


def test_choices_are_shown_as_they_are_found(page: Page, server: Server) -> None:
    """The first can be looked at while others are tried, and stays looked at when all have been."""
    network = page.url.split("/n/")[1].split("/")[0]
    begin = f"{server.address}/api/networks/{network}/advice"
    text = "block kiosk → ledger telnet"
    told = page.request.post(begin, data={"text": text}).json()
    while told["result"] is None:
        told = page.request.get(f"{server.address}/api/jobs/{told['id']}").json()
    choices = told["result"]["choices"]
    some = {"text": "", "choices": choices[1:3]}
    early = {"id": "slow", "done": 0.4, "stage": "", "early": some, "result": None}
    answered = [early]
    page.route("**/api/networks/*/advice", lambda route: route.fulfill(json=early))
    page.route("**/api/jobs/slow", lambda route: route.fulfill(json=answered[0]))
    row(page, "t1").click()
    page.get_by_role("button", name="Where should it go?").click()
    places = page.get_by_role("region", name="Where it could go")
    expect(places.get_by_role("status")).to_contain_text("Trying every place, 40%")
    expect(places.get_by_role("listitem")).to_have_count(2)
    second = places.get_by_role("button", name=choices[2]["text"])
    second.click()
    expect(second).to_have_attribute("aria-expanded", "true")
    answered[0] = {**told, "id": "slow"}
    expect(places).to_contain_text(told["result"]["text"])
    expect(places.get_by_role("listitem")).to_have_count(min(len(choices), 6))
    expect(second).to_have_attribute("aria-expanded", "true")


def test_requirements_on_the_screen_are_proved_before_others(page: Page, server: Server) -> None:
    network = page.url.split("/n/")[1].split("/")[0]
    path = f"{server.address}/api/networks/{network}"
    version = page.request.get(path).json()["version"]
    items = [
        {"id": f"more{number}", "statement": f"block visitors → ledger tcp/{5000 + number} ipv4"}
        for number in range(40)
    ]
    changes = [{"collection": "requirements", "key": each["id"], "item": each} for each in items]
    edit = {"label": "require more", "changes": changes}
    page.request.post(f"{path}/draft/edits", data=edit, headers={"If-Match": f'"{version}"'})
    page.reload()
    last = page.locator("[data-requirement=more39]")
    expect(last.get_by_role("img", name=re.compile("^draft: "))).to_have_count(1)
    last.scroll_into_view_if_needed()
    page.get_by_role("textbox", name="New requirement").fill("block till → ledger ssh")
    with page.expect_request("**/policy*") as asked:
        page.keyboard.press("Enter")
    body = asked.value.post_data_json
    assert body is not None
    sooner = body["sooner"]
    assert "more39" in sooner
    assert "r1" not in sooner
    assert len(sooner) < 20
