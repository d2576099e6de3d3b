"""The map of networks that nobody drew: nothing lies over anything else, and what is moved is moved."""

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from greyheron.formats.workspace import write_workspace
from tests.browser.conftest import Server, make_of
from tests.browser.overlapping import overlaps
from tests.random_networks import random_network

MAP = 'svg[aria-label="Devices and placed lists"]'


def open_map(page: Page, server: Server, folder: Path, seed: int) -> None:
    network = random_network(seed).model_copy(update={"positions": (), "name": f"Network {seed}"})
    file = folder / f"network-{seed}.yaml"
    file.write_text(write_workspace(network))
    page.goto(server.address)
    make_of(page, file)
    expect(page.locator(f"{MAP}[aria-busy=false] [data-plate]")).to_have_count(len(network.devices))


def come_near(page: Page, says: str = "") -> None:
    """Zoom until interfaces are drawn, and one says this."""
    for _ in range(8):
        if page.locator("[data-tab]").filter(has_text=says).count():
            return
        page.get_by_role("button", name="Zoom in").click()
        page.wait_for_timeout(150)
    raise AssertionError("interfaces are never drawn")


def say(page: Page, wording: str) -> None:
    page.get_by_role("button", name="Interfaces show").click()
    page.get_by_role("menuitem", name=wording, exact=True).click()


@pytest.mark.parametrize(("seed", "width", "height"), [(4, 1024, 768), (9, 1280, 800), (11, 1920, 1080)])
def test_nothing_on_the_map_of_a_network_that_nobody_drew_overlaps(
    page: Page, server: Server, tmp_path: Path, seed: int, width: int, height: int
) -> None:
    page.set_viewport_size({"width": width, "height": height})
    open_map(page, server, tmp_path, seed)
    assert overlaps(page) == []
    for wording in ("Names", "Names and addresses"):
        say(page, wording)
        come_near(page)
        assert overlaps(page) == []


def test_the_demo_at_its_ordinary_size_says_all_and_nothing_overlaps(page: Page) -> None:
    expect(page.locator(f"{MAP}[aria-busy=false]")).to_be_visible()
    expect(page.locator("[data-tag^='from-beyond']")).to_contain_text("from-beyond")
    assert overlaps(page) == []


def test_with_a_trace_open_nothing_overlaps_whether_the_map_has_room_for_its_way_or_not(page: Page) -> None:
    for test, own in (("t3", False), ("t15", True)):
        page.locator(f"[data-test={test}]").click()
        expect(page.locator("[data-ribbon=out]")).to_be_visible()
        alone = page.get_by_role("button", name="Its path only")
        expect(alone).to_have_count(int(own))
        assert overlaps(page) == []


def test_a_plate_put_on_others_stays_and_they_make_room_until_the_map_is_tidied(
    page: Page, server: Server, tmp_path: Path
) -> None:
    open_map(page, server, tmp_path, 9)
    come_near(page)
    hosts = page.locator("[data-plate^=h]")
    one, other = hosts.nth(0), hosts.nth(1)
    start, goal = one.bounding_box(), other.bounding_box()
    assert start
    assert goal
    page.mouse.move(start["x"] + 20, start["y"] + 8)
    page.mouse.down()
    page.mouse.move(goal["x"] + 20, goal["y"] + 8, steps=5)
    page.mouse.up()
    name = one.get_attribute("data-plate")
    undo = page.get_by_role("button", name="Undo")
    expect(undo).to_have_attribute("title", f"Undo: move {name} on the map")
    assert overlaps(page) == []
    page.get_by_role("button", name="Lay out", exact=True).click()
    expect(undo).to_have_attribute("title", "Undo: lay out the map")
    assert overlaps(page) == []
    undo.click()
    expect(undo).to_have_attribute("title", f"Undo: move {name} on the map")


def test_an_interface_says_what_it_is_and_opens(page: Page) -> None:
    tab = page.locator("[data-tab='centre-gw:eth1']")
    tab.hover()
    note = page.get_by_role("status").filter(has_text="centre-gw:eth1")
    expect(note).to_contain_text(
        re.compile(r"172\.20\.16\.1/24, 2001:db8.*inbound no list; outbound no list")
    )
    tab.click()
    expect(page).to_have_url(re.compile("point"))
    say(page, "Addresses")
    come_near(page, says="172.20.")
    page.reload()
    expect(page.get_by_role("button", name="Interfaces show: addresses")).to_be_visible()
