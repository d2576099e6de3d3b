"""The reach matrix in the browser: by mouse and by keyboard alone, and what an edit changes in it."""

import re

import pytest
from playwright.sync_api import Locator, Page, expect

from tests.browser.test_journey import mark

pytestmark = pytest.mark.browser


def cell(page: Page, source: str, destination: str) -> Locator:
    return page.get_by_role("gridcell", name=re.compile(f"^{re.escape(source)} to {re.escape(destination)}:"))


def test_a_cell_opens_its_conversations_and_makes_a_test_of_one(page: Page) -> None:
    page.get_by_role("button", name="Reach", exact=True).click()
    expect(page.get_by_test_id("reach-state")).to_have_text("0 cells differ from what is running")
    expect(cell(page, "camhub", "ledger")).to_have_accessible_name("camhub to ledger: passes and blocked")
    cell(page, "camhub", "ledger").click()
    panel = page.get_by_role("complementary", name="Inspector")
    expect(panel).to_contain_text("camhub → ledger:172.20.40.10 tcp/443")
    expect(panel).to_contain_text("hides-in denies, implicit deny")
    panel.get_by_role("button", name="Trace it as a test flow").first.click()
    expect(mark(page, "t27", "draft")).to_have_accessible_name("draft: blocked, as expected")


def test_by_keyboard_services_are_asked_for_cells_chosen_and_groups_folded(page: Page) -> None:
    page.keyboard.press("3")
    page.get_by_role("textbox", name="Who reaches whom for").press("Control+a")
    page.keyboard.type("telnet")
    page.keyboard.press("Enter")
    expect(cell(page, "kiosk", "ledger")).to_have_accessible_name("kiosk to ledger: passes")
    page.get_by_role("gridcell").first.focus()
    for _ in range(3):
        page.keyboard.press("ArrowDown")
    expect(cell(page, "kiosk", "sightings")).to_be_focused()
    page.keyboard.press(" ")
    expect(cell(page, "kiosk", "sightings")).to_have_count(0)
    expect(page.get_by_role("button", name="Unfold 172.20.16.0/24")).to_be_visible()
    page.keyboard.press("Enter")
    panel = page.get_by_role("complementary", name="Inspector")
    expect(panel.get_by_role("heading")).to_contain_text("→ sightings")


def test_a_service_that_nobody_knows_is_refused_and_kept(page: Page) -> None:
    page.keyboard.press("3")
    field = page.get_by_role("textbox", name="Who reaches whom for")
    field.fill("gopher-hole")
    field.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("no service is known by the name “gopher-hole”")
    expect(field).to_have_value("gopher-hole")


def test_what_the_draft_changes_is_marked(page: Page) -> None:
    page.get_by_role("button", name=re.compile("^hides-in, entering hide-gw")).click()
    page.get_by_role("button", name="Take off").click()
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 1 edit")
    page.keyboard.press("3")
    expect(page.get_by_test_id("reach-state")).to_contain_text("cells differ from what is running")
    expect(cell(page, "camhub", "kiosk")).to_have_accessible_name(
        "camhub to kiosk: passes, changed on the draft"
    )
    page.get_by_role("button", name="Changed only").click()
    expect(page.get_by_role("rowheader", name="wardens-desk")).to_be_visible()
    expect(page.get_by_role("rowheader", name="172.20.48.0/24")).to_be_visible()
    assert "reach=" not in page.url
    page.reload()
    expect(cell(page, "camhub", "kiosk")).to_be_visible()


def test_cells_are_drawn_where_they_are_pointed_at(page: Page) -> None:
    """What stands under a cell on the canvas has the colour of its verdict, also after scrolling."""
    page.keyboard.press("3")
    for source, destination, colour in (
        ("wardens-desk", "heron-cam", "--tide"),
        ("sightings", "kiosk", "--clay"),
        ("beyond", "kiosk", "--clay"),  # at the lower edge: scrolled to
    ):
        here = cell(page, source, destination)
        here.click()
        expect(here).to_have_attribute("aria-selected", "true")
        page.wait_for_function(DRAWN, arg=[here.element_handle(), colour])


DRAWN = """([cell, colour]) => {
  const canvas = document.querySelector("canvas");
  const [at, corner] = [cell.getBoundingClientRect(), canvas.getBoundingClientRect()];
  const [x, y] = [at.x + 11.5 - corner.x, at.y + 11.5 - corner.y].map((each) => each * devicePixelRatio);
  const [red, green, blue] = canvas.getContext("2d").getImageData(x, y, 1, 1).data;
  const hex = "#" + [red, green, blue].map((each) => each.toString(16).padStart(2, "0")).join("");
  return hex === getComputedStyle(document.documentElement).getPropertyValue(colour).trim();
}"""


def test_all_groups_are_folded_and_unfolded_at_once(page: Page) -> None:
    page.keyboard.press("3")
    for words, there in (("Fold all groups", 0), ("Unfold all groups", 1)):
        page.get_by_role("button", name="Matrix ▾").click()
        page.get_by_role("menuitem", name=words, exact=True).click()
        expect(cell(page, "kiosk", "till")).to_have_count(there)


def test_a_key_that_is_held_does_not_lose_the_focus(page: Page) -> None:
    """Cells are made where the scrolling stops; the one that has the focus goes along."""
    page.keyboard.press("3")
    page.get_by_role("button", name="Matrix ▾").click()
    page.get_by_role("menuitem", name="Unfold all groups", exact=True).click()
    page.set_viewport_size({"width": 700, "height": 420})
    page.get_by_role("gridcell").first.focus()
    for key in ("ArrowDown", "ArrowRight"):
        for _ in range(16):
            page.keyboard.press(key)
    expect(page.locator("[role=gridcell]:focus")).to_have_attribute("data-cell", "16 16")
