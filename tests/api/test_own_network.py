"""Devices from tables, sets as lines, what a link could take, copies: over the API."""

from typing import Any

import pytest
from fastapi.testclient import TestClient

Json = Any


@pytest.fixture
def demo(client: TestClient) -> str:
    made: str = client.post("/api/networks/demo").json()["id"]
    return made


def post(client: TestClient, path: str, **body: object) -> Json:
    found: Json = client.post(f"/api/networks/{path}", json=body).json()
    return found


def test_a_table_is_read_to_changes_or_to_problems_by_line(client: TestClient, demo: str) -> None:
    found = post(
        client, f"{demo}/devices/table", text="reed,eth0,172.21.1.1/24,floor\ndesk,,172.21.1.9/24,floor"
    )
    assert found["problems"] == []
    assert {"reed", "floor", "desk"} < {each["key"] for each in found["changes"]}
    wrong = post(client, f"{demo}/devices/table", text="device,address\nreed,172.21.1.1")
    assert (wrong["changes"], wrong["problems"][0]["line"]) == ([], 2)
    taken = post(client, f"{demo}/devices/table", text="kiosk,eth0,172.21.1.1/24")
    assert "there is a device kiosk already" in taken["problems"][0]["message"]


def test_a_set_is_read_from_its_line_and_keeps_its_note(client: TestClient, demo: str) -> None:
    before = next(each for each in draft(client, demo)["address_sets"] if each["name"] == "visitors")
    found = post(
        client, f"{demo}/sets/address_sets", key="visitors", text="visitors 172.20.16.0/24 172.20.56.7"
    )
    assert found["change"]["item"]["members"] == ["172.20.16.0/24", "172.20.56.7"]
    assert found["change"]["item"].get("note", "") == before.get("note", "")
    other = post(client, f"{demo}/sets/address_sets", key="visitors", text="guests 172.20.16.0/24")
    assert "the name stays visitors here" in other["problems"][0]["message"]
    twice = post(client, f"{demo}/sets/port_sets", text="web 80")
    assert "there is a web already" in twice["problems"][0]["message"]
    gone = client.post(f"/api/networks/{demo}/sets/periods", json={"key": "nights", "text": "nights sat"})
    assert gone.status_code == 404
    used = post(client, f"{demo}/sets/address_sets", key="visitors", text=None)
    assert used["problems"] != []


def test_which_interfaces_a_link_could_take(client: TestClient, demo: str) -> None:
    found = client.get(f"/api/networks/{demo}/joining", params={"one": "kiosk", "other": "till"}).json()
    assert found == {"one": [], "other": []}
    missing = client.get(f"/api/networks/{demo}/joining", params={"one": "kiosk", "other": "heron"})
    assert missing.status_code == 404


def test_a_device_stands_there_once_more(client: TestClient, demo: str) -> None:
    answer = client.post(
        f"/api/networks/{demo}/draft/intents",
        json={"do": "duplicate", "devices": ["kiosk"]},
        headers={"If-Match": '"1"'},
    )
    assert answer.status_code == 200
    assert "kiosk2" in [each["name"] for each in draft(client, demo)["devices"]]


def draft(client: TestClient, demo: str) -> Json:
    found: Json = client.get(f"/api/networks/{demo}").json()["draft"]
    return found
