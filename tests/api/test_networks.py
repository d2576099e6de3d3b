"""The API: networks, edits, verdicts and traces."""

from typing import Any

import pytest
from fastapi.testclient import TestClient

from greyheron.demo.networks import saltmarsh
from greyheron.formats.workspace import read_workspace, write_workspace
from tests.working import answered, imported


@pytest.fixture
def demo(client: TestClient) -> dict[str, Any]:
    answer = client.post("/api/networks/demo")
    assert answer.status_code == 201
    opened: dict[str, Any] = answer.json()
    return opened


def edit(client: TestClient, network: dict[str, Any], *changes: dict[str, Any]) -> dict[str, Any]:
    answer = client.post(
        f"/api/networks/{network['id']}/draft/edits",
        json={"label": "test", "changes": list(changes)},
        headers={"If-Match": f'"{network["version"]}"'},
    )
    assert answer.status_code == 200, answer.text
    opened: dict[str, Any] = answer.json()
    return opened


def visitors_in(
    entries: str = "deny tcp from @visitors to @ledger port telnet\npermit any\n",
) -> dict[str, Any]:
    item = {"name": "visitors-in", "family": "ipv4", "kind": "extended", "entries": entries}
    return {"collection": "lists", "key": "visitors-in", "item": item}


PLACED = {
    "collection": "placements",
    "key": "centre-gw:eth1:in:visitors-in",
    "item": {"list": "visitors-in", "device": "centre-gw", "at": "eth1", "direction": "in"},
}


def marks(client: TestClient, network: dict[str, Any], test: str) -> dict[str, Any]:
    book = client.get(f"/api/networks/{network['id']}/book").json()
    found: dict[str, Any] = next(each for each in book["tests"] if each["id"] == test)
    return found


def test_the_journey(client: TestClient, demo: dict[str, Any]) -> None:
    login = marks(client, demo, "t1")
    assert (login["draft"]["verdict"], login["draft"]["judgement"]["standing"]) == ("passes", "fails")
    edited = edit(client, demo, visitors_in(), PLACED)
    assert edited["version"] == 2
    assert [change["collection"] for change in edited["changes"]] == ["lists", "placements"]
    login = marks(client, edited, "t1")
    assert (login["baseline"]["verdict"], login["running"]["verdict"]) == ("passes", "passes")
    assert login["draft"]["verdict"] == "blocked"
    assert login["draft"]["judgement"]["standing"] == "holds"
    assert login["draft"]["place"] == {
        "device": "centre-gw",
        "at": "eth1",
        "direction": "in",
        "list": "visitors-in",
        "entry": 10,
    }
    assert "centre-gw:eth1:in" in login["crosses"]
    assert marks(client, edited, "t2")["draft"]["verdict"] == "passes"
    applied = client.post(
        f"/api/networks/{demo['id']}/draft/apply", json={"note": "no logins"}, headers={"If-Match": '"2"'}
    )
    assert applied.json()["changes"] == []
    assert marks(client, edited, "t1")["running"]["verdict"] == "blocked"


def test_a_trace_in_each_state(client: TestClient, demo: dict[str, Any]) -> None:
    edited = edit(client, demo, visitors_in(), PLACED)

    def trace(state: str) -> dict[str, Any]:
        answer = client.post(
            f"/api/networks/{edited['id']}/trace", json={"flow": "kiosk → ledger telnet", "state": state}
        )
        found: dict[str, Any] = answer.json()
        return found

    assert [trace(state)["verdict"] for state in ("baseline", "running", "draft")] == [
        "passes",
        "passes",
        "blocked",
    ]
    exchange = trace("draft")["exchanges"][0]
    step = next(step for hop in exchange["out"]["hops"] for step in hop["steps"] if step["deciding"])
    assert step["decision"]["entry"] == 10
    assert exchange["sees"] == {
        "what": "administratively prohibited",
        "by": "172.20.16.1",
        "text": "administratively prohibited from 172.20.16.1",
    }


def test_a_preview_shows_what_an_edit_would_do_and_does_not_do_it(
    client: TestClient, demo: dict[str, Any]
) -> None:
    answer = client.post(f"/api/networks/{demo['id']}/preview", json={"changes": [visitors_in(), PLACED]})
    previewed = next(test for test in answer.json()["tests"] if test["id"] == "t1")
    assert previewed["draft"]["verdict"] == "blocked"
    assert marks(client, demo, "t1")["draft"]["verdict"] == "passes"
    assert client.get(f"/api/networks/{demo['id']}").json()["version"] == 1


def test_a_second_window_is_told_and_nothing_is_overwritten(client: TestClient, demo: dict[str, Any]) -> None:
    edit(client, demo, visitors_in())
    answer = client.post(
        f"/api/networks/{demo['id']}/draft/edits",
        json={"label": "other window", "changes": [visitors_in("permit any\n")]},
        headers={"If-Match": '"1"'},
    )
    assert answer.status_code == 412
    assert answer.headers["content-type"] == "application/problem+json"
    assert answer.json()["current"] == 2
    assert "nothing you typed is lost" in answer.json()["detail"]
    kept = client.get(f"/api/networks/{demo['id']}").json()["draft"]["lists"][-1]
    assert kept["entries"].startswith("10 deny tcp")


def test_undo_redo_discard_and_restore(client: TestClient, demo: dict[str, Any]) -> None:
    edit(client, demo, visitors_in())

    def step(path: str, version: int) -> dict[str, Any]:
        answer = client.post(f"/api/networks/{demo['id']}/{path}", headers={"If-Match": f'"{version}"'})
        assert answer.status_code == 200, answer.text
        found: dict[str, Any] = answer.json()
        return found

    assert step("draft/undo", 2)["changes"] == []
    assert len(step("draft/redo", 3)["changes"]) == 1
    assert step("draft/discard", 4)["changes"] == []
    assert len(step("draft/undo", 5)["changes"]) == 1
    assert step("revisions/1/restore", 6)["changes"] == []
    assert [each["note"] for each in client.get(f"/api/networks/{demo['id']}/revisions").json()] == [
        "as created"
    ]


def test_export_and_import_give_the_same_network(client: TestClient, demo: dict[str, Any]) -> None:
    text = client.get(f"/api/networks/{demo['id']}/file").text
    assert read_workspace(text) == saltmarsh()
    again = imported(client, text.encode())
    assert again["draft"] == demo["draft"]
    assert len(client.get("/api/networks").json()) == 2


def test_an_unchanged_network_is_not_sent_again(client: TestClient, demo: dict[str, Any]) -> None:
    first = client.get(f"/api/networks/{demo['id']}")
    second = client.get(f"/api/networks/{demo['id']}", headers={"If-None-Match": first.headers["etag"]})
    assert (second.status_code, second.content) == (304, b"")


def test_reading_a_list_as_it_is_typed(client: TestClient, demo: dict[str, Any]) -> None:
    def read(entries: str) -> dict[str, Any]:
        body = {"name": "new", "family": "ipv4", "kind": "extended", "entries": entries}
        found: dict[str, Any] = client.post(f"/api/networks/{demo['id']}/lists/read", json=body).json()
        return found

    wrong = read("permit any\ndeny tcp to @nowhere")["problems"]
    assert wrong[0]["message"].startswith("there is no address set or device “nowhere”")
    misread = read("permit any\ndeny tpc")["problems"]
    assert (misread[0]["line"], misread[0]["column"]) == (2, 6)
    right = read(
        "deny tcp from 172.20.16.21~0.0.0.8\npermit any from @visitors to @none".replace(" to @none", "")
    )
    assert right["formatted"].startswith("10 deny tcp from 172.20.16.21~0.0.0.8 to any\n20 permit")
    odd = read("5 deny udp\n7 permit any # the rest")
    assert odd["renumbered"] == "10 deny udp from any to any\n20 permit any from any to any # the rest\n"
    assert right["covers"][0]["source"] == "2 of 172.20.16.21–172.20.16.29: kiosk"
    assert (
        right["covers"][1]["source"] == "@visitors = 172.20.16.0–172.20.16.255: centre-gw, kiosk, till, guest"
    )


def test_completion_knows_the_network(client: TestClient, demo: dict[str, Any]) -> None:
    def complete(**asked: str) -> list[str]:
        answer = client.post(f"/api/networks/{demo['id']}/complete", json=asked)
        return [option["text"] for option in answer.json()["options"]]

    assert "@visitors" in complete(of="entry", text="10 deny tcp from ")
    assert "@clear-text" in complete(of="entry", text="10 deny tcp from any to any port ")
    assert complete(of="flow", text="kiosk → ledger ")[:3] == ["web", "telnet", "syslog"]
    assert "sluice" in complete(of="flow", text="kiosk → ")
    assert "lab-sw" not in complete(of="flow", text="")


def test_where_the_trade_would_put_a_list_is_said(client: TestClient, demo: dict[str, Any]) -> None:
    path = f"/api/networks/{demo['id']}/lists"
    found = client.get(f"{path}/hides-in/places").json()
    assert found["rule"] == "A full list belongs where its sources enter."
    assert {"device": "hide-gw", "at": "eth1", "direction": "in"} in found["points"]
    assert all(each["words"] for each in found["elsewhere"] if each["point"]["device"] == "hide-gw")
    assert client.get(f"{path}/cam-ports/places").json() == {"rule": "", "points": [], "elsewhere": []}
    missing = client.get(f"{path}/nothing/places")
    assert (missing.status_code, "There is no list “nothing”" in missing.json()["detail"]) == (404, True)


def test_places_are_described_from_the_device(client: TestClient, demo: dict[str, Any]) -> None:
    places = client.get(f"/api/networks/{demo['id']}/places").json()
    words = {f"{each['device']}:{each['at']}:{each['direction']}": each for each in places["points"]}
    assert words["centre-gw:eth1:in"]["words"] == "entering centre-gw by eth1, from kiosk, till and guest"
    assert words["weir:wan0:in"]["placed"] == ["from-beyond"]
    assert words["weir:wan0:in"]["takes"] == ["ipv6", "frame"]
    assert words["hide-sw:p3:in"]["words"] == "entering hide-sw by p3, from heron-cam"
    assert (words["hide-sw:p3:in"]["placed"], words["hide-sw:p3:in"]["takes"]) == (["cam-ports"], [])
    assert words["hide-sw:p3:out"]["takes"] == ["frame"]
    assert words["sluice:console:in"]["words"] == "sluice’s console line, for no network login"
    segment = next(each for each in places["segments"] if "centre-sw" in each["switches"])
    assert segment["prefixes"] == ["172.20.16.0/24", "2001:db8:16::/64"]


def test_a_file_that_is_imported_may_be_anything(client: TestClient) -> None:
    for content in (
        b"",
        b"\xff\xfe",
        b"[" * 5000,
        b"format: grey-heron/1\nname: x\ndevices: {a: 1}",
        b"a: &b 1\nc: *b",
    ):
        answer = answered(client, client.post("/api/networks/import", content=content))
        assert answer.status_code == 422
        assert answer.json()["problems"]
    assert client.get("/api/networks").json() == []
    assert imported(client, write_workspace(saltmarsh()).encode())["draft"]["name"] == saltmarsh().name


def test_an_intent_is_carried_out_and_told(client: TestClient, demo: dict[str, Any]) -> None:
    address = f"/api/networks/{demo['id']}/draft/intents"
    intent = {"do": "new-tests", "flows": ["ringing-desk → camhub web pass"], "group": "Mine"}
    done = client.post(address, json=intent, headers={"If-Match": '"1"'}).json()
    (made,) = done["made"]
    assert made["collection"] == "tests"
    assert done["draft"]["tests"][-1]["id"] == made["key"]
    assert done["undo"] == "test ringing-desk → camhub web pass"
    stale = client.post(address, json=intent, headers={"If-Match": '"1"'})
    assert (stale.status_code, stale.json()["current"]) == (412, 2)
    gone = {"do": "remove", "collection": "lists", "key": "no-list"}
    refused = client.post(address, json=gone, headers={"If-Match": '"2"'})
    assert refused.status_code == 409
    assert "no-list" in refused.json()["detail"]


def test_an_intent_is_foreseen_and_not_carried_out(client: TestClient, demo: dict[str, Any]) -> None:
    placed = demo["draft"]["placements"][0]
    off = {key: placed[key] for key in ("device", "at", "direction")}
    intent = {"do": "take-off", "list": placed["list"], "off": off}
    foreseen = client.post(f"/api/networks/{demo['id']}/preview", json={"intent": intent}).json()
    assert len(foreseen["placements"]) == len(demo["draft"]["placements"]) - 1
    assert foreseen["lists"] == []
    assert client.get(f"/api/networks/{demo['id']}").json()["version"] == 1
