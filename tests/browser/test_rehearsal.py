"""The draft on real wires, from Changes to the mark in the book, by keyboard."""

import re

import pytest
from playwright.sync_api import Page, expect

from greyheron.rehearsal.runner import missing
from tests.browser.test_journeys import palette, press, write_list

pytestmark = [
    pytest.mark.browser,
    pytest.mark.skipif(bool(missing()), reason=" ".join(missing()) or "a rehearsal can be had"),
]


def test_the_draft_is_rehearsed_and_its_marks_grow_stale(page: Page) -> None:
    palette(page, "Go to Changes")
    press(page, page.get_by_role("button", name="Rehearse the draft"))
    expect(page.get_by_role("progressbar", name="Rehearsing")).to_be_visible()
    expect(page.get_by_test_id("stage")).to_have_text(
        re.compile("beginning|namespaces|wires|addresses and routes|lists|routing daemons|sending")
    )
    told = page.get_by_test_id("rehearsed")
    expect(told).to_contain_text("75 conversations, all went as predicted")
    press(page, page.get_by_role("button", name="show all of them"))
    rehearsal = page.get_by_role("region", name="Rehearsal")
    press(page, rehearsal.get_by_role("button", name="ringing-desk → camhub web").first)
    inspector = page.get_by_role("complementary", name="Inspector")
    expect(inspector).to_contain_text("the sender sees nothing. As predicted, outside by-day")
    row = page.locator("[data-test=t13]")
    expect(row.get_by_role("img", name="tried: as predicted", exact=True)).to_be_visible()
    press(page, row)
    seen = page.locator("[data-seen=out]")
    expect(seen.first).to_have_text("was sent")
    expect(page.locator("[data-seen=home]").first).to_contain_text("saw nothing")
    required = page.locator("[data-requirement=r5]")
    expect(required.get_by_role("img", name="tried: as predicted", exact=True)).to_be_visible()
    press(page, required)
    expect(inspector).to_contain_text("bittern-cam:172.20.48.12 → beyond:203.0.113.1 tcp/1")
    write_list(page, "wardens-only", "10 permit from @wardens-desk\n20 deny from any")
    palette(page, "Go to Map")
    expect(row.get_by_role("img", name="tried: as predicted, before the last changes")).to_be_visible()
    palette(page, "Go to Changes")
    expect(told).to_contain_text("The draft has changed since.")


def test_a_rehearsal_can_be_cancelled(page: Page) -> None:
    palette(page, "Go to Changes")
    press(page, page.get_by_role("button", name="Rehearse the draft"))
    press(page, page.get_by_role("button", name="Cancel", exact=True))
    expect(page.get_by_role("progressbar", name="Rehearsing")).to_have_count(0)
    expect(page.get_by_role("button", name="Rehearse the draft")).to_be_enabled()
    expect(page.get_by_test_id("rehearsed")).to_have_count(0)
