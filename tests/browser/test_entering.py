"""A browser that is let in, and a network of which not all reads."""

import re
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest
from playwright.sync_api import Browser, expect

from tests.browser.conftest import Server, window_of

TOKEN = "a-long-enough-token"


@pytest.fixture
def guarded(tmp_path: Path) -> Iterator[Server]:
    running = Server(tmp_path / "data", TOKEN)
    yield running
    running.stop()


def test_the_printed_address_lets_a_browser_in_and_the_token_any_other(
    browser: Browser, guarded: Server
) -> None:
    printed = re.search(r"http://\S+", guarded.told.read_text())
    assert printed
    assert TOKEN not in printed[0]
    for by_code in (True, False):
        window = window_of(browser)
        page = window.new_page()
        page.goto(printed[0])  # the second time its code is used up
        if not by_code:
            field = page.get_by_label("Access token")
            field.fill("something else")
            field.press("Enter")
            expect(page.get_by_role("alert")).to_have_text("This is not the token.")
            field.fill(TOKEN)
            page.get_by_role("button", name="Enter").click()
        expect(page.get_by_role("button", name=re.compile("^Saltmarsh reserve"))).to_be_visible()
        assert "code" not in page.url
        window.close()


def test_what_reads_of_a_damaged_network_is_made_into_one(browser: Browser, tmp_path: Path) -> None:
    running = Server(tmp_path / "data")
    try:
        with closing(sqlite3.connect(tmp_path / "data" / "networks.db")) as opened, opened:
            opened.execute(
                "UPDATE documents SET draft = replace(draft, '\"firewall\"', '\"bridge of sighs\"')"
            )
            opened.execute("UPDATE network SET version = version + 1")
        window = window_of(browser)
        page = window.new_page()
        page.goto(running.address)
        page.get_by_role("button", name=re.compile("^Saltmarsh reserve")).click()
        expect(page.get_by_role("alert")).to_contain_text("device weir, kind")
        with page.expect_download() as kept:
            page.get_by_role("button", name="Take out the stored file").click()
        assert "sighs" in Path(kept.value.path()).read_text()
        page.get_by_role("button", name="Make a network from what can be read").click()
        left_out = page.get_by_role("region", name="What was left out")
        expect(left_out).to_contain_text("link weir:core0")
        left_out.get_by_role("button", name="Open it").click()
        expect(page.get_by_test_id("book-summary")).to_contain_text("26 flows")
        window.close()
    finally:
        running.stop()
