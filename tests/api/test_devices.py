"""The API: devices and their parts as lines."""

from typing import Any

import pytest
from fastapi.testclient import TestClient


@pytest.fixture
def demo(client: TestClient) -> str:
    return str(client.post("/api/networks/demo").json()["id"])


def read(client: TestClient, network: str, path: str, **body: Any) -> dict[str, Any]:
    answer = client.post(f"/api/networks/{network}/devices/{path}", json=body)
    assert answer.status_code == 200, answer.text
    found: dict[str, Any] = answer.json()
    return found


def test_parts_are_those_of_the_kind(client: TestClient, demo: str) -> None:
    def sections(device: str) -> dict[str, list[str]]:
        found = client.get(f"/api/networks/{demo}/devices/{device}/parts").json()
        return {each["section"]: each["lines"] for each in found}

    weir = sections("weir")
    assert weir["zones"] == ["inner core0,lo0", "yard yard0", "outer wan0"]
    assert weir["lines"][0].startswith("remote ssh")
    assert "gateways" not in weir
    assert sections("kiosk")["gateways"][0] == "172.20.16.1"
    assert list(sections("centre-sw")) == ["interfaces"]
    assert client.get(f"/api/networks/{demo}/devices/nobody/parts").status_code == 404


def test_a_part_becomes_a_change_that_can_be_made(client: TestClient, demo: str) -> None:
    reading = read(client, demo, "sluice/parts/routes", text="172.20.99.0/24 discard", place=None)
    assert reading["problems"] == []
    answer = client.post(
        f"/api/networks/{demo}/draft/edits",
        json={"label": "new route of sluice", "changes": [reading["change"]]},
        headers={"If-Match": '"1"'},
    )
    assert answer.status_code == 200
    parts = client.get(f"/api/networks/{demo}/devices/sluice/parts").json()
    lines = {part["section"]: part["lines"] for part in parts}
    assert lines["routes"][-1] == "172.20.99.0/24 discard"
    gone = read(client, demo, "sluice/parts/routes", text=None, place=len(lines["routes"]) - 1)
    assert gone["change"]["item"].get("routes", []) == reading["change"]["item"]["routes"][:-1]


def test_what_is_wrong_with_a_part_is_said_where_it_stands(client: TestClient, demo: str) -> None:
    misread = read(client, demo, "sluice/parts/routes", text="172.20.99.0/24 by eth0", place=None)
    assert misread["change"] is None
    assert (misread["problems"][0]["column"], misread["problems"][0]["end"]) == (16, 18)
    unsound = read(client, demo, "sluice/parts/routes", text="172.20.99.0/24 out eth77", place=None)
    assert unsound["change"] is None
    assert unsound["problems"][0]["where"] == "device sluice, route 172.20.99.0/24"
    assert "there is no interface “eth77”" in unsound["problems"][0]["message"]
    placed = read(client, demo, "centre-gw/parts/interfaces", text=None, place=0)
    assert placed["change"] is None
    assert placed["problems"], "links end at it"
    path = f"/api/networks/{demo}/devices/sluice/parts/routes"
    assert client.post(path, json={"text": None, "place": 99}).status_code == 404
    assert client.post(path, json={"text": None}).status_code == 422


def test_a_new_device_is_read_and_not_taken_for_an_old_one(client: TestClient, demo: str) -> None:
    weather = read(client, demo, "read", text="host weather 172.20.24.30/24 gateway 172.20.24.1")
    assert weather["change"]["key"] == "weather"
    again = read(client, demo, "read", text="host kiosk 172.20.24.30/24")
    assert again["change"] is None
    assert "there is a device kiosk already" in again["problems"][0]["message"]


def test_renaming_follows_everything(client: TestClient, demo: str) -> None:
    def rename(**asked: str) -> dict[str, Any]:
        found: dict[str, Any] = client.post(f"/api/networks/{demo}/rename", json=asked).json()
        return found

    found = rename(collection="devices", key="ledger", name=" register ")
    assert found["problems"] == []
    answer = client.post(
        f"/api/networks/{demo}/draft/edits",
        json={"label": "rename ledger", "changes": found["changes"]},
        headers={"If-Match": '"1"'},
    )
    assert "ledger" not in {device["name"] for device in answer.json()["draft"]["devices"]}
    book = client.get(f"/api/networks/{demo}/book").json()["tests"]
    assert book[0]["flow"] == "kiosk → register telnet block"
    taken = rename(collection="devices", key="kiosk", name="till")
    assert (taken["changes"], taken["problems"][0]["where"]) == ([], "name")


def test_completion_of_devices_and_parts(client: TestClient, demo: str) -> None:
    def offered(**asked: str) -> list[str]:
        answer = client.post(f"/api/networks/{demo}/complete", json=asked)
        return [option["text"] for option in answer.json()["options"]]

    assert "firewall" in offered(of="device", text="")
    assert "wan1" in offered(of="part", device="sluice", section="routes", text="::/0 out ")
    answer = client.post(f"/api/networks/{demo}/complete", json={"of": "part", "device": "x", "text": ""})
    assert answer.status_code == 404
