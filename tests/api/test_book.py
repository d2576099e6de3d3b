"""The book through the API: tables, derived flows, history, and where traces part."""

from typing import Any

from fastapi.testclient import TestClient


def opened(client: TestClient) -> dict[str, Any]:
    found: dict[str, Any] = client.post("/api/networks/demo").json()
    return found


def edit(client: TestClient, network: dict[str, Any], label: str, *changes: dict[str, Any]) -> dict[str, Any]:
    answer = client.post(
        f"/api/networks/{network['id']}/draft/edits",
        json={"label": label, "changes": changes},
        headers={"If-Match": str(network["version"])},
    )
    assert answer.status_code == 200, answer.text
    found: dict[str, Any] = answer.json()
    return found


TAKEN_OFF = {"collection": "placements", "key": "hide-gw:eth1:in:hides-in", "item": None}


def test_since_when_a_test_fails(client: TestClient) -> None:
    network = opened(client)
    address = f"/api/networks/{network['id']}"
    client.get(f"{address}/book")
    network = edit(client, network, "take hides-in off", TAKEN_OFF)
    client.get(f"{address}/book")
    client.get(f"{address}/book")
    history = client.get(f"{address}/tests/t13/history").json()
    assert [(each["version"], each["edit"], each["verdict"]) for each in history] == [
        (network["version"], "take hides-in off", "passes"),
        (network["version"] - 1, "", "blocked"),
    ]
    assert len(client.get(f"{address}/tests/t2/history").json()) == 1


def test_a_table_goes_out_and_comes_in(client: TestClient) -> None:
    network = opened(client)
    address = f"/api/networks/{network['id']}/tests/table"
    table = client.get(address)
    assert table.headers["content-type"].startswith("text/csv")
    changes = client.post(address, content=table.text, headers={"Content-Type": "text/csv"}).json()["changes"]
    assert len(changes) == 26
    after = edit(client, network, "import", *changes)
    assert len(after["draft"]["tests"]) == 52
    wrong = client.post(address, content="flow\nkiosk → nobody web pass\n")
    assert wrong.status_code == 422
    assert "nobody" in wrong.json()["detail"]
    assert client.post(address, content=b"\xff\xfe").status_code == 422


def test_flows_are_derived_and_refused_with_the_reason(client: TestClient) -> None:
    address = f"/api/networks/{opened(client)['id']}/tests/derive"
    found = client.post(address, json={"text": "kiosk → ledger web pass", "how": "segment"}).json()
    assert found["flows"] == ["guest → ledger web pass", "till → ledger web pass"]
    refused = client.post(address, json={"text": "kiosk → camhub web pass", "how": "other family"})
    assert (refused.status_code, refused.json()["detail"]) == (422, "camhub has no IPv6 address")


def test_where_the_states_part(client: TestClient) -> None:
    network = edit(client, opened(client), "take hides-in off", TAKEN_OFF)
    found = client.post(
        f"/api/networks/{network['id']}/compare", json={"flow": "ringing-desk → camhub web"}
    ).json()
    assert [(each["first"], each["second"], each["device"], each["way"]) for each in found] == [
        ("baseline", "running", "hide-gw", "home"),
        ("running", "draft", "hide-gw", "home"),
    ]
    assert "hides-in denies" in found[0]["after"]


def test_of_a_device_that_is_in_the_draft_only_nothing_is_expected_as_running(client: TestClient) -> None:
    network = opened(client)
    host = {
        "name": "weather",
        "kind": "host",
        "interfaces": [{"name": "eth0", "addresses": ["172.20.16.90/24"]}],
        "gateway": "172.20.16.1",
    }
    flow = "weather → ledger tcp/443 pass"
    network = edit(
        client,
        network,
        "a weather station",
        {"collection": "devices", "key": "weather", "item": host},
        {"collection": "tests", "key": "new", "item": {"id": "new", "flow": flow, "group": "", "note": ""}},
    )
    book = client.get(f"/api/networks/{network['id']}/book").json()
    (marks,) = [each for each in book["tests"] if each["id"] == "new"]
    assert marks["running"] == {
        "verdict": None,
        "text": "not running yet: weather is in the draft only",
        "place": None,
        "judgement": None,
        "times": [],
    }
    assert marks["draft"]["judgement"] is not None
