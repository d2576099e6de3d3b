"""A network of one's own: devices from a table, once more, set otherwise; sets and notes where they stand."""

import pytest
from playwright.sync_api import Page, expect

pytestmark = pytest.mark.browser

TABLE = "\n".join(
    "\t".join(row)
    for row in (
        ("device", "interface", "address", "neighbour"),
        ("reed", "eth0", "172.21.1.1/24", "floor"),
        ("reed", "eth1", "172.21.9.1/30", "sedge"),
        ("sedge", "eth0", "172.21.9.2/30", "reed"),
        ("desk", "eth0", "172.21.1.10/24", "floor"),
    )
)


def choose_plate(page: Page, name: str) -> None:
    page.locator(f"[data-plate={name}]").focus()
    page.keyboard.press("Enter")


def test_a_table_is_pasted_where_one_device_is_written(page: Page) -> None:
    page.get_by_role("button", name="Add a device").click()
    page.get_by_role("button", name="Several at once: paste a table…").click()
    table = page.get_by_label("Table of devices")
    table.fill(TABLE.replace("172.21.9.2/30", "172.21.9.2"))
    expect(page.get_by_role("alert")).to_contain_text("Line 4: “172.21.9.2” has no prefix length")
    table.fill(TABLE)
    expect(page.get_by_text("router reed, router sedge, host desk, switch floor; 3 links")).to_be_visible()
    table.press("Control+Enter")
    for name in ("reed", "floor", "sedge", "desk"):
        expect(page.locator(f"[data-plate={name}]")).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(page.locator("[data-plate=reed]")).to_have_count(0)


def test_a_device_stands_there_once_more_linked_like_the_first(page: Page) -> None:
    choose_plate(page, "kiosk")
    page.get_by_role("button", name="Duplicate", exact=True).click()
    expect(page.get_by_role("heading", name="kiosk2 host")).to_be_visible()
    expect(page.get_by_role("region", name="Interfaces")).to_contain_text("172.20.16.22/24")
    expect(page.get_by_role("button", name="Remove the link to centre-sw:p5")).to_be_visible()


def test_a_setting_is_a_line_and_the_trace_shows_what_it_does(page: Page) -> None:
    choose_plate(page, "sluice")
    settings = page.get_by_role("region", name="Settings")
    settings.get_by_role("button", name="denied-logins reset").click()
    line = page.get_by_role("textbox", name="denied-logins reset, of sluice")
    line.fill("denied-logins politely")
    line.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("“politely” does not fit here")
    line.fill("denied-logins nothing")
    line.press("Enter")
    expect(settings.get_by_role("button", name="denied-logins nothing")).to_be_focused()
    page.locator("[data-test=t7]").click()
    evidence = page.get_by_role("complementary", name="Evidence")
    expect(evidence).to_contain_text("The sender sees nothing: a timeout.")
    page.get_by_role("button", name="Undo").click()
    expect(evidence).to_contain_text("The sender sees reset from")


def test_what_devices_remember_of_a_flow_is_in_its_trace(page: Page) -> None:
    page.locator("[data-test=t16]").click()
    kept = page.get_by_role("region", name="Sessions and translations")
    expect(kept).to_contain_text("weir: tcp session under way, kept for 2 h 4 min")
    expect(kept).to_contain_text("→ 203.0.113.10:443")
    expect(kept).to_contain_text("as 203.0.113.1:49152 → 172.20.72.10:443")


def test_sets_are_lines_and_a_list_s_note_is_written_where_it_is_shown(page: Page) -> None:
    page.keyboard.press("Escape")
    page.get_by_role("button", name="@visitors").click()
    line = page.get_by_role("textbox", name="visitors")
    line.fill("visitors 172.20.16.0/24 172.20.300.1")
    line.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("“172.20.300.1” is no address")
    line.fill("visitors 172.20.16.0/24, 172.20.56.7")
    line.press("Enter")
    expect(page.get_by_text("172.20.16.0/24, 172.20.56.7")).to_be_visible()
    page.get_by_role("button", name="hides-in", exact=True).first.click()
    page.get_by_role("button", name="change the note").or_(
        page.get_by_role("button", name="add a note")
    ).click()
    page.get_by_label("Note of hides-in").fill("Cameras reach their hub and nothing else.")
    page.get_by_label("Note of hides-in").press("Enter")
    expect(page.get_by_text("Cameras reach their hub and nothing else.")).to_be_visible()


def test_the_tab_of_findings_counts_what_is_to_be_looked_at(page: Page) -> None:
    tab = page.get_by_role("navigation", name="Views").get_by_role("button", name="Findings")
    expect(tab).to_contain_text("1", timeout=20_000)


def test_linking_asks_which_interface_where_more_than_one_would_do(page: Page) -> None:
    for line in ("router reed 172.21.1.1/24 172.21.2.1/24", "router sedge 172.21.3.1/24"):
        page.get_by_role("button", name="Add a device").click()
        field = page.get_by_role("textbox", name="New device")
        field.fill(line)
        field.press("Enter")
        expect(page.get_by_role("heading", name=f"{line.split()[1]} router")).to_be_visible()
    page.get_by_label("Link sedge with").fill("reed")
    page.get_by_label("Link sedge with").press("Enter")
    asked = page.get_by_role("form", name="Which interfaces")
    expect(asked).to_contain_text("More than one interface fits.")
    asked.get_by_label("reed").select_option("eth1")
    asked.get_by_role("button", name="Link them there").click()
    expect(page.get_by_role("button", name="reed:eth1", exact=True)).to_be_visible()
    page.get_by_label("Link sedge with").fill("jetty")
    page.get_by_label("Link sedge with").press("Enter")
    expect(page.get_by_text("New for this link: sedge eth1, jetty eth0.")).to_be_visible()
