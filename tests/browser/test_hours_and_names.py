"""What depends on the hour, on a name, and on what a header says beside addresses and ports."""

import re

import pytest
from playwright.sync_api import Page, expect

from tests.browser.test_journeys import write_test

pytestmark = pytest.mark.browser


def moment(page: Page, words: str) -> None:
    """Choose what the workbench shows in the control above."""
    page.get_by_role("button", name=re.compile("^Shown: ")).click()
    page.get_by_role("menuitem", name=words, exact=True).click()


def test_a_flow_that_differs_by_the_hour_says_when_and_leads_there(page: Page) -> None:
    write_test(page, "kiosk → camhub web pass")
    sentence = page.get_by_test_id("sentence")
    expect(sentence).to_contain_text("mixed: blocked outside by-day, passes during by-day")
    times = page.get_by_role("region", name="Trace").get_by_role("list", name="By the hour")
    times.get_by_role("button", name="passes during by-day").click()
    expect(page).to_have_url(re.compile(r"at=mon\+08%3A00"))
    expect(page.get_by_role("button", name="Shown: during by-day")).to_be_visible()
    expect(sentence).to_contain_text("on the draft: passes, and the reply gets home")
    moment(page, "Outside by-day")
    expect(sentence).to_contain_text("blocked on the way home, entering hide-gw by eth1: hides-in denies")
    moment(page, "At all times")
    expect(sentence).to_contain_text("mixed")


def test_any_moment_can_be_looked_at_and_a_wrong_one_is_told(page: Page) -> None:
    page.locator("[data-test=t25]").click()
    moment(page, "Another moment…")
    field = page.get_by_label("Moment, such as tue 14:00 or 2026-12-25 10:00")
    field.fill("noon")
    field.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("Write tue 14:00")
    field.fill("2026-12-25 10:00")
    field.press("Enter")
    expect(page.get_by_role("button", name="Shown: at 2026-12-25 10:00")).to_be_visible()
    expect(page.get_by_test_id("book-summary")).to_contain_text("26 flows, 2 not as expected")


def test_the_query_for_a_name_is_part_of_the_trace(page: Page) -> None:
    page.locator("[data-test=t26]").click()
    trace = page.get_by_role("region", name="Trace")
    query = trace.get_by_role(
        "tab", name=re.compile("^query for sightings.saltmarsh.example to 172.20.40.10")
    )
    expect(trace).to_contain_text("sends tcp/443 SYN to 172.20.72.10")
    query.click()
    expect(trace).to_contain_text("sends udp/53 to 172.20.40.10")
    write_test(page, "kiosk → herons.saltmarsh.example https pass")
    expect(page.get_by_test_id("sentence")).to_contain_text(
        "the name herons.saltmarsh.example was not resolved, because 172.20.40.10 knows no such name"
    )


def test_a_fragment_and_flags_can_be_sent(page: Page) -> None:
    write_test(page, "heron-cam → camhub pictures flags fin,psh pass")
    expect(page.get_by_role("region", name="Trace")).to_contain_text("sends tcp/554 FIN+PSH")
    write_test(page, "kiosk → jetty:172.20.0.22 telnet fragment dscp ef pass")
    expect(page.get_by_role("region", name="Trace")).to_contain_text("sends tcp fragment to 172.20.0.22")
    expect(page.get_by_role("complementary", name="Evidence")).to_contain_text("Passes.")


def test_a_period_is_written_and_an_entry_is_there_in_it(page: Page) -> None:
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Add a set ▾").click()
    page.get_by_role("menuitem", name="Period").click()
    text = page.get_by_role("textbox", name="New period")
    text.fill("at-dusk daily 17:00-7:00pm")
    text.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("is no hour: write 00:00 to 24:00")
    text.fill("at-dusk daily 17:00-19:00")
    text.press("Enter")
    expect(page.get_by_role("button", name="at-dusk")).to_be_visible()
