"""Frame lists from the first word to a blocked flow, and the mistakes that findings name."""

import re

import pytest
from playwright.sync_api import Page, expect

from tests.browser.test_journeys import new_list, palette, place_at, press, write_list, write_test

pytestmark = pytest.mark.browser


def test_a_frame_list_is_written_placed_on_a_switch_port_and_seen_to_stop_arp(page: Page) -> None:
    palette(page, "Go to Lists")
    lists = page.get_by_role("complementary", name="Lists")  # the map has such a field too
    name = lists.get_by_label("Name of a new list")
    name.fill("hub-port")
    lists.get_by_label("Kind of list").select_option(label="Frames, for switch ports")
    name.press("Enter")
    editor = page.get_by_role("textbox", name="Entries of hub-port")
    expect(editor).to_be_visible()
    page.get_by_role("button", name="permit ipv4", exact=True).click()
    expect(editor).to_contain_text("permit ipv4")
    editor.press("Control+s")
    expect(page.get_by_label("List hub-port").get_by_text("saved in the draft")).to_be_visible()
    palette(page, "Place hub-port")
    placing = page.get_by_test_id("placing")
    expect(placing).to_be_visible()
    place_at(page, "entering hide-sw by p2")
    write_test(page, "camhub → heron-cam ping pass")
    expect(page.get_by_test_id("sentence")).to_contain_text(
        "blocked as ARP is stopped entering hide-sw by p2: hub-port denies, implicit deny"
    )
    evidence = page.get_by_role("complementary", name="Evidence")
    expect(evidence).to_contain_text("hub-port on hide-sw p2")
    expect(evidence).to_contain_text("10 permit ipv4 · EtherType differs")
    palette(page, "Go to Findings")
    expect(page.locator("[data-finding='frame list that stops ARP: hub-port']")).to_contain_text(
        "lets IPv4 through in entry 10 and stops ARP by the implicit deny"
    )
    write_list(page, "hub-port", "permit ipv4\npermit arp")
    palette(page, "Go to Map")
    expect(page.get_by_test_id("sentence")).to_contain_text("on the draft: passes, and the reply gets home")
    expect(page.get_by_role("region", name="Trace")).to_contain_text(
        "leaves by eth0 to heron-cam, 172.20.48.11, through hide-sw"
    )
    expect(page.get_by_role("region", name="Trace")).to_contain_text(
        "entering hide-sw by p2 permits, entry 10"
    )


def test_mistakes_of_many_kinds_are_named_and_one_leads_to_its_trace(page: Page) -> None:
    new_list(page, "lab-outbound")
    write_list(
        page,
        "lab-outbound",
        "deny tcp from @visitors to @ledger port telnet\n"
        "deny icmp host-unreachable from any to any # stop pings\n"
        "deny tcp from 172.20.0.22 to any port ssh\n"
        "permit any from any to any",
    )
    palette(page, "Place lab-outbound")
    place_at(page, "entering centre-gw by eth1")
    palette(page, "Go to Findings")
    for kind, words in (
        ("ICMP type that does not fit its note", "speaks of pings"),
        ("name of another direction", "named for the other direction"),
        ("one address of several", "covers 172.20.0.22 of jetty only"),
        ("hole for fragments", "fragment"),
    ):
        found = page.locator(f"[data-finding^='{kind}']").first
        expect(found).to_contain_text(re.compile(words))
    hole = page.locator("[data-finding^='hole for fragments']").first
    press(page, hole.get_by_role("button", name=re.compile("^trace .*fragment")))
    expect(page.get_by_role("region", name="Trace")).to_contain_text("sends tcp fragment")
