"""What exists is brought in: looked at before anything is made, made, and merged; by keyboard."""

import csv
import json
import re
from pathlib import Path
from xml.etree import ElementTree

import pytest
from playwright.sync_api import Page, Route, expect

from greyheron.formats.workspace import write_workspace
from tests.browser.conftest import Server, bring_in
from tests.browser.test_journeys import palette, press
from tests.lab import Lab

pytestmark = pytest.mark.browser
COLLECTED = Path(__file__).parents[1] / "machines"


def test_machines_are_looked_at_and_then_made(page: Page, server: Server) -> None:
    page.goto(server.address)
    bring_in(page, *sorted(COLLECTED.iterdir()))
    expect(page.get_by_test_id("recognised")).to_contain_text(
        "Read as machines as they are: 6 devices, 5 links, 9 lists with 44 entries."
    )
    expect(page.get_by_role("img", name="A map of 6 devices")).to_contain_text("gate")
    expect(page.get_by_role("region", name="Guessed")).to_contain_text("gate:up – shed:down: joined")
    expect(page.get_by_role("region", name="Left out")).to_contain_text("Nothing was left out.")
    name = page.get_by_label("Name", exact=True)
    press(page, name)
    name.fill("The reserve as it is")
    press(page, page.get_by_role("button", name="Make this network"))
    expect(page.locator("[data-plate]")).to_have_count(6)
    expect(page).to_have_title("The reserve as it is: Grey Heron")


def test_what_was_left_out_is_named(page: Page, server: Server, tmp_path: Path) -> None:
    machine = json.loads((COLLECTED / "gate.json").read_text())
    chains = machine["ruleset"]["nftables"]
    rule = next(each["rule"] for each in chains if "rule" in each and each["rule"]["chain"] == "forward")
    rule["expr"].insert(0, {"limit": {"rate": 3, "per": "second"}})
    file = tmp_path / "gate.json"
    file.write_text(json.dumps(machine, separators=(",", ":")))
    page.goto(server.address)
    bring_in(page, file)
    left_out = page.get_by_role("region", name="Left out")
    expect(left_out).to_contain_text("rule 12: “limit”: it decides so for some packets")
    expect(left_out).to_contain_text("chain forward, policy: it denies packets of known conversations too")
    press(page, page.get_by_role("button", name="Leave it"))
    expect(page.get_by_role("dialog")).to_have_count(0)
    expect(page.get_by_role("button", name=re.compile("^Saltmarsh reserve"))).to_be_visible()


def test_chosen_items_are_merged_into_the_draft(page: Page, tmp_path: Path) -> None:
    lab = Lab()
    lab.data["devices"] = [
        {
            "name": "gauge-2",
            "kind": "host",
            "interfaces": [{"name": "eth0", "addresses": ["172.20.91.10/24"]}],
        },
        {"name": "kiosk", "kind": "host", "interfaces": [{"name": "eth0", "addresses": ["172.20.16.9/24"]}]},
    ]
    lab.data["links"] = []
    file = tmp_path / "more.yaml"
    file.write_text(write_workspace(lab.network()))
    palette(page, "Bring in")
    page.get_by_role("region", name="Files to bring in").locator("input").set_input_files(str(file))
    offer = page.get_by_role("region", name="What to merge")
    expect(offer).to_contain_text("1 new")
    expect(offer.get_by_role("checkbox", name="device gauge-2")).to_be_checked()
    expect(offer.get_by_role("checkbox", name="device kiosk")).not_to_be_checked()
    press(page, offer.get_by_role("button", name="Show device kiosk"))
    expect(offer).to_contain_text("172.20.16.9/24")
    press(page, page.get_by_role("button", name="Merge 1 into the draft"))
    expect(page.get_by_role("dialog")).to_have_count(0)
    expect(page.get_by_test_id("draft-state")).to_have_text("Draft: 1 edit")
    expect(page.locator("[data-plate=gauge-2]")).to_be_visible()
    palette(page, "Undo")
    expect(page.locator("[data-plate=gauge-2]")).to_have_count(0)


def test_what_is_not_known_is_refused_and_another_try_is_at_hand(
    page: Page, server: Server, tmp_path: Path
) -> None:
    file = tmp_path / "x.bin"
    file.write_bytes(b"\0\1")
    page.goto(server.address)
    bring_in(page, file)
    expect(page.get_by_role("alert")).to_contain_text("this is neither machines as they are nor YANG")
    page.evaluate(
        """() => {
            const data = new DataTransfer();
            data.setData("text/plain", "format: grey-heron/1\\nname: Pasted\\n");
            window.dispatchEvent(new ClipboardEvent("paste", { clipboardData: data }));
        }"""
    )
    expect(page.get_by_test_id("recognised")).to_contain_text("Read as a workspace file: 0 devices")
    expect(page.get_by_label("Name", exact=True)).to_have_value("Pasted")


def test_traffic_is_brought_in_judged_and_made_a_test_flow(page: Page, tmp_path: Path) -> None:
    file = tmp_path / "flows.csv"
    file.write_text(
        "src,dst,proto,dport,back\n172.20.16.21,172.20.40.10,tcp,443,3\n"
        "172.20.40.20,172.20.48.5,tcp,443,2\n198.51.100.9,172.20.40.10,tcp,23,0\n172.23.7.7,172.20.40.10,tcp,23,0\n"
    )
    palette(page, "Go to Traffic")
    page.get_by_label("Traffic files").set_input_files(str(file))
    expect(page.get_by_test_id("traffic-read")).to_contain_text(
        "a table of flows: 4 records of 4 conversations"
    )
    page.get_by_role("radio", name="cannot be: 2").check()
    rows = page.locator("button[data-seen]")
    expect(rows).to_have_count(2)
    expect(page.get_by_role("main")).to_contain_text("nobody here has the source")
    press(page, rows.filter(has_text="ringing-desk"))
    chosen = page.get_by_role("complementary", name="Conversation")
    expect(chosen).to_contain_text("It cannot be: it was answered, and would not get through.")
    press(page, chosen.get_by_role("button", name="Entries for it"))
    expect(chosen.get_by_role("region", name="Just what was there")).to_contain_text(
        "permit tcp from 172.20.40.20 to 172.20.48.5 port https"
    )
    press(page, chosen.get_by_role("button", name="Require it"))
    expect(page.get_by_text("Required: allow 172.20.40.20 → 172.20.48.5 tcp/443")).to_be_visible()
    press(page, chosen.get_by_role("button", name="Make it a test flow"))
    expect(page.get_by_test_id("sentence")).to_contain_text("blocked on the way home")
    palette(page, "Go to Traffic")
    expect(page.get_by_role("radio", name="all: 4")).to_be_visible()


def test_traffic_read_before_it_is_known_that_there_was_none_is_judged(page: Page, tmp_path: Path) -> None:
    held: list[Route] = []
    page.route("**/traffic/verdicts", lambda route: held.append(route), times=1)
    file = tmp_path / "flows.csv"
    file.write_text("src,dst,proto,dport,back\n172.20.40.20,172.20.48.5,tcp,443,2\n")
    palette(page, "Go to Traffic")
    page.get_by_label("Traffic files").set_input_files(str(file))
    expect(page.get_by_test_id("traffic-read")).to_contain_text("1 record of 1 conversation")
    held[0].fulfill(status=404, json={"title": "No traffic was brought in to this network."})
    expect(page.get_by_role("radio", name="all: 1")).to_be_visible()


def test_a_network_is_taken_out_with_what_would_be_lost_and_brought_back(
    page: Page, server: Server, tmp_path: Path
) -> None:
    palette(page, "Take out")
    yang = page.get_by_role("region", name="YANG instance data", exact=True)
    expect(yang).to_contain_text("list hides-in: entry 40 asks for “during”: our own module says the list")
    expect(page.get_by_role("region", name="a workspace file")).to_contain_text("Everything of this network")
    file = tmp_path / "reserve.zip"
    with page.expect_download() as download:
        press(page, yang.get_by_role("button", name="The draft"))
    download.value.save_as(file)
    page.goto(server.address)
    bring_in(page, file)
    expect(page.get_by_test_id("recognised")).to_contain_text("Read as YANG instance data: 23 devices")
    expect(page.get_by_role("region", name="Left out")).to_contain_text("Nothing was left out.")
    press(page, page.get_by_role("button", name="Make this network"))
    expect(page.get_by_test_id("book-summary")).to_contain_text("26 flows, 2 not as expected")


def test_pictures_and_tables_are_saved_as_they_are_seen(page: Page, tmp_path: Path) -> None:
    expect(page.locator("[data-plate=weir]")).to_be_visible()
    svg = saved(page, "Save the map as SVG", tmp_path / "map.svg")
    words = set(ElementTree.fromstring(svg).itertext())
    assert {"weir", "wardens-only", "hides-in"} <= words
    assert "class=" not in svg.decode()
    png = saved(page, "Save the map as PNG", tmp_path / "map.png")
    assert png[:8] == b"\x89PNG\r\n\x1a\n"
    palette(page, "Go to Reach")
    expect(page.get_by_test_id("reach-state")).to_contain_text("0 cells differ")
    matrix = ElementTree.fromstring(saved(page, "Save the matrix as SVG", tmp_path / "reach.svg"))
    assert {"kiosk", "ledger"} <= set(matrix.itertext())
    rows = list(
        csv.reader(saved(page, "Save the matrix as CSV", tmp_path / "reach.csv").decode().splitlines())
    )
    desk, jetty = (next(row for row in rows if row[0] == name) for name in ("wardens-desk", "heron-cam"))
    assert desk[rows[0].index("sluice")] == "passes"
    assert jetty[rows[0].index("ledger")] == "blocked"


def saved(page: Page, action: str, file: Path) -> bytes:
    """What an action of the palette saves."""
    with page.expect_download() as download:
        palette(page, action)
    download.value.save_as(file)
    return file.read_bytes()
