"""The first journey: see that the kiosk can log in to the ledger, write a list, place it, see it blocked."""

import json
import re
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Locator, Page, expect

from tests.browser.conftest import Server, open_demo, window_of
from tests.command_line import run

pytestmark = pytest.mark.browser


def row(page: Page, test: str) -> Locator:
    return page.locator(f"[data-test={test}]")


def mark(page: Page, test: str, state: str) -> Locator:
    return row(page, test).get_by_role("img", name=re.compile(f"^{state}:"))


def editor(page: Page, name: str = "visitors-in") -> Locator:
    return page.get_by_role("textbox", name=f"Entries of {name}")


def expect_blocked_at_the_entry(page: Page) -> None:
    expect(mark(page, "t1", "none")).to_have_count(0)
    expect(mark(page, "t1", "no lists")).to_have_accessible_name("no lists: passes")
    expect(mark(page, "t1", "running")).to_have_accessible_name("running: passes, not as expected")
    expect(mark(page, "t1", "draft")).to_have_accessible_name("draft: blocked, as expected")
    expect(mark(page, "t2", "draft")).to_have_accessible_name("draft: passes, as expected")
    expect(page.get_by_test_id("sentence")).to_contain_text(
        "kiosk → ledger telnet on the draft: blocked entering centre-gw by eth1: visitors-in denies, entry 10"
    )
    evidence = page.get_by_role("complementary", name="Evidence")
    expect(evidence).to_contain_text("10 deny tcp from @visitors to @ledger port telnet · decides")
    expect(evidence).to_contain_text("administratively prohibited from 172.20.16.1")
    ribbon = page.locator("[data-ribbon=out]")
    expect(ribbon).to_have_attribute("data-ending", "bar")


def test_by_mouse_and_still_there_after_a_kill(page: Page, server: Server) -> None:
    row(page, "t1").click()
    expect(page.get_by_test_id("sentence")).to_contain_text("passes, and the reply gets home")
    expect(page.locator("[data-ribbon=out]")).to_have_attribute("data-ending", "arrives")
    page.get_by_role("button", name="Close", exact=True).click()

    page.get_by_label("Name of a new list").fill("visitors-in")
    page.get_by_role("button", name="Make", exact=True).click()
    expect(page.get_by_text("Not placed: it does nothing yet.")).to_be_visible()
    editor(page).click()
    page.keyboard.insert_text("deny tcp from @visitors to @ledger port telnet\npermit any")
    page.get_by_role("button", name="Save to draft").click()
    expect(editor(page)).to_contain_text("10 deny tcp from @visitors to @ledger port telnet")
    expect(page.locator("[data-implicit-deny]")).to_contain_text("deny any (implicit)")

    handle = page.get_by_role("heading", name="visitors-in").bounding_box()
    assert handle
    page.mouse.move(handle["x"] + 20, handle["y"] + 8)
    page.mouse.down()
    page.mouse.move(handle["x"] - 40, handle["y"] + 40, steps=4)
    target = page.locator("[data-target='centre-gw:eth1:in']")
    expect(target).to_be_visible()
    box = target.bounding_box()
    assert box
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2, steps=6)
    placing = page.get_by_test_id("placing")
    expect(placing).to_contain_text("entering centre-gw by eth1, from kiosk, till and guest")
    expect(placing).to_contain_text("kiosk → ledger telnet passes → blocked")
    page.mouse.up()
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 2 edits")
    expect(page.get_by_role("heading", name="Entering centre-gw by eth1")).to_be_visible()

    row(page, "t1").click()
    expect_blocked_at_the_entry(page)

    server.kill()
    server.start()
    page.reload()
    expect_blocked_at_the_entry(page)


def test_by_keyboard_alone(page: Page) -> None:
    press, write = page.keyboard.press, page.keyboard.insert_text
    press("j")
    expect(row(page, "t1")).to_have_attribute("aria-current", "true")
    expect(page.get_by_test_id("sentence")).to_contain_text("passes")
    press("2")
    tab_to(page, page.get_by_label("Name of a new list"))
    write("visitors-in")
    press("Enter")
    expect(editor(page)).to_be_visible()
    tab_to(page, editor(page))
    write("deny tcp from @visitors to @ledger port telnet")
    press("Enter")
    write("permit any")
    press("Control+s")
    expect(page.get_by_text("saved in the draft")).to_be_visible()
    press("Escape")
    tab_to(page, page.get_by_role("button", name="Place…"))
    press("Enter")
    placing = page.get_by_test_id("placing")
    expect(placing).to_contain_text("is picked up")
    press("c")
    for _ in range(20):
        if "visitors-in entering centre-gw by eth1" in placing.inner_text():
            break
        press("ArrowRight")
    expect(placing).to_contain_text("kiosk → ledger telnet passes → blocked")
    press("Enter")
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 2 edits")
    expect_blocked_at_the_entry(page)
    press("t")
    deciding = page.locator("[data-decides]")
    expect(deciding).to_be_focused()
    press("ArrowLeft")
    expect(page.locator("[data-hop=out0]")).to_be_focused()
    press("5")
    tab_to(page, page.get_by_label("Note for this revision"))
    write("no logins for visitors")
    press("Tab")
    press("Enter")
    expect(page.get_by_test_id("draft-state")).to_have_text("No changes")
    expect(page.get_by_text("no logins for visitors")).to_be_visible()


def tab_to(page: Page, goal: Locator) -> None:
    """Press Tab until `goal` has the focus."""
    for _ in range(160):
        if goal.evaluate("element => element === document.activeElement"):
            return
        page.keyboard.press("Tab")
    raise AssertionError("Tab does not lead there")


def test_two_windows_on_one_draft(page: Page, browser: Browser, server: Server) -> None:
    context = window_of(browser)
    other = context.new_page()
    # The other window does not look for changes by itself here, so that it is surely behind.
    other.add_init_script("window.setInterval = () => 0")
    open_demo(other, server)
    for window in (other, page):
        window.keyboard.press("2")
        window.get_by_role("button", name="hides-in").click()
        expect(editor(window, "hides-in")).to_contain_text("30 deny any")
    first_line(page, "hides-in", "5 permit tcp established # mine")
    page.get_by_role("button", name="Save to draft").click()
    expect(editor(page, "hides-in")).to_contain_text("5 permit tcp from any to any established")
    first_line(other, "hides-in", "7 permit tcp from @camhub to any")
    other.get_by_role("button", name="Save to draft").click()
    expect(other.get_by_text("The draft was changed in another window")).to_be_visible()
    expect(other.get_by_text("This list was changed in another window")).to_be_visible()
    expect(editor(other, "hides-in")).to_contain_text("7 permit tcp from @camhub to any")
    expect(editor(other, "hides-in")).not_to_contain_text("mine")
    other.reload()
    expect(editor(other, "hides-in")).to_contain_text(
        "7 permit tcp from @camhub to any"
    )  # kept through a reload
    other.get_by_role("button", name=re.compile("Save")).click()
    expect(other.get_by_text("saved in the draft")).to_be_visible()
    expect(editor(page, "hides-in")).to_contain_text(
        "7 permit tcp from @camhub to any"
    )  # the first window follows
    context.close()


def first_line(page: Page, name: str, text: str) -> None:
    editor(page, name).click()
    page.keyboard.press("Control+Home")
    page.keyboard.insert_text(f"{text}\n")


def test_the_command_line_gives_the_verdicts_on_the_screen(page: Page, tmp_path: Path) -> None:
    file = tmp_path / "demo.yaml"
    with page.expect_download() as download:
        page.get_by_role("button", name=re.compile("^Saltmarsh reserve")).click()
        page.get_by_role("menuitem", name="Take out…").click()
        workspace = page.get_by_role("region", name="a workspace file")
        workspace.get_by_role("button", name="The draft").click()
    download.value.save_as(file)
    page.get_by_role("button", name="Close").click()
    result = json.loads(run(["check", str(file), "--json"]).output)
    assert len(result["tests"]) == 26
    for test in result["tests"]:
        expect(mark(page, test["id"], "draft")).to_have_accessible_name(
            re.compile(f"^draft: {test['verdict']['verdict']}")
        )
