"""Counters and the log: what sending leaves at the lists it meets."""

from typing import Any

import pytest
from fastapi.testclient import TestClient


@pytest.fixture
def demo(client: TestClient) -> str:
    network: str = client.post("/api/networks/demo").json()["id"]
    return network


def send(client: TestClient, demo: str, flow: str, **more: Any) -> dict[str, Any]:
    answer = client.post(f"/api/networks/{demo}/send", json={"flow": flow, **more})
    assert answer.status_code == 200, answer.text
    found: dict[str, Any] = answer.json()
    return found


def counts(client: TestClient, demo: str) -> dict[str, int]:
    found = client.get(f"/api/networks/{demo}/counters").json()
    return {
        f"{place['device']} {place['at']} {place['list']} {place['entry']}": each["packets"]
        for each in found
        if (place := each["place"])
    }


def test_each_packet_counts_at_each_list_it_meets(client: TestClient, demo: str) -> None:
    assert send(client, demo, "camhub → ledger syslog")["verdict"] == "passes"
    assert counts(client, demo) == {"hide-gw eth1 hides-in 10": 1}
    send(client, demo, "camhub → ledger syslog", times=40)
    send(client, demo, "heron-cam → 198.51.100.80 https", times=2)
    assert counts(client, demo) == {
        "hide-gw eth1 hides-in 10": 41,
        "hide-gw eth1 hides-in 30": 2,
        "hide-sw p3 cam-ports 10": 2,
    }


def test_the_implicit_deny_has_its_own_counter(client: TestClient, demo: str) -> None:
    sent = send(client, demo, "ringing-desk → camhub web", times=3)
    assert "implicit deny" in sent["text"]
    assert counts(client, demo) == {"hide-gw eth1 hides-in None": 3}


def test_a_line_counts_at_its_placement_and_not_at_the_others(client: TestClient, demo: str) -> None:
    send(client, demo, "kiosk → sluice ssh")
    send(client, demo, "wardens-desk → sluice ssh")
    assert counts(client, demo) == {"sluice remote wardens-only 20": 1, "sluice remote wardens-only 10": 1}


def test_tracked_packets_meet_no_list_and_are_not_counted(client: TestClient, demo: str) -> None:
    send(client, demo, "beyond → 203.0.113.10 https")
    assert counts(client, demo) == {
        "weir wan0 from-beyond 10": 1
    }  # SYN only: the rest belongs to the session


def test_entries_with_log_write_lines_that_can_be_filtered(client: TestClient, demo: str) -> None:
    send(client, demo, "beyond → ledger telnet", times=5)
    send(client, demo, "heron-cam → 198.51.100.80 https")
    send(client, demo, "camhub → ledger syslog")

    def log(**wanted: str) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = client.get(f"/api/networks/{demo}/log", params=wanted).json()
        return found

    newest, oldest = log()
    assert oldest["line"] == {
        "place": {"device": "weir", "at": "wan0", "direction": "in", "list": "from-beyond", "entry": 20},
        "action": "deny",
        "protocol": "tcp/23 SYN",
        "source": "203.0.113.1 port 49152",
        "destination": "172.20.40.10 port 23",
        "count": 5,
        "denial": None,
    }
    assert newest["line"]["place"]["device"] == "hide-gw"
    assert len(log(device="weir")) == len(log(access_list="hides-in")) == len(log(text="172.20.40.10")) == 1
    assert log(action="permit") == []


def test_evaluating_counts_nothing_and_reset_forgets(client: TestClient, demo: str) -> None:
    client.post(f"/api/networks/{demo}/trace", json={"flow": "beyond → ledger telnet"})
    client.get(f"/api/networks/{demo}/book")
    assert counts(client, demo) == {}
    send(client, demo, "beyond → ledger telnet")
    assert client.delete(f"/api/networks/{demo}/counters").status_code == 204
    assert counts(client, demo) == {}
    assert client.get(f"/api/networks/{demo}/log").json() == []


def test_sending_is_bounded(client: TestClient, demo: str) -> None:
    assert send(client, demo, "camhub → ledger syslog", times=1_000_000)["counted"] == 1_000_000
    for times in (0, 1_000_001):
        answer = client.post(
            f"/api/networks/{demo}/send", json={"flow": "camhub → ledger syslog", "times": times}
        )
        assert answer.status_code == 422


def test_of_equal_paths_the_first_is_sent_along(client: TestClient, demo: str) -> None:
    network = client.get(f"/api/networks/{demo}").json()
    item = {"name": "count", "family": "ipv4", "kind": "extended", "entries": "permit any"}
    changes = [{"collection": "lists", "key": "count", "item": item}] + [
        {
            "collection": "placements",
            "key": f"{device}:wan0:in:count",
            "item": {"list": "count", "device": device, "at": "wan0", "direction": "in"},
        }
        for device in ("lagoon", "hide-gw")
    ]
    edit = {"label": "count", "changes": changes}
    headers = {"If-Match": f'"{network["version"]}"'}
    assert client.post(f"/api/networks/{demo}/draft/edits", json=edit, headers=headers).status_code == 200
    send(client, demo, "wardens-desk → tide-gauge readings", state="draft", times=10)
    assert counts(client, demo) == {"lagoon wan0 count 10": 10}  # wan2 of sluice comes before wan3


def test_a_group_and_the_whole_book_are_run_at_once(client: TestClient, demo: str) -> None:
    every = client.post(f"/api/networks/{demo}/run", json={}).json()
    assert (every["ran"], every["untried"]) == (26, [])
    book = client.get(f"/api/networks/{demo}/book").json()["tests"]
    expected = [each["id"] for each in book if each["running"]["judgement"]["standing"] != "holds"]
    assert every["surprises"] == expected
    assert sum(counts(client, demo).values()) == every["counted"]
    two = client.post(f"/api/networks/{demo}/run", json={"tests": ["t1", "t2"], "state": "baseline"}).json()
    assert (two["ran"], two["counted"]) == (2, 0)  # with no lists nothing is counted
