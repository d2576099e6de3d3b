"""Reach through the API: matrices, cells, what an edit would change, and cancelling."""

from concurrent.futures import ThreadPoolExecutor
from typing import Any

from fastapi.testclient import TestClient

from greyheron.compute.derived import DerivedState
from greyheron.demo.networks import saltmarsh
from greyheron.model.values import Family
from tests.working import worked


def opened(client: TestClient, which: str = "saltmarsh") -> dict[str, Any]:
    found: dict[str, Any] = client.post(f"/api/networks/demo?which={which}").json()
    return found


PLACING = {
    "changes": [
        {
            "collection": "placements",
            "key": "centre-gw:eth1:in:hides-in",
            "item": {"list": "hides-in", "device": "centre-gw", "at": "eth1", "direction": "in"},
        }
    ]
}


def test_a_matrix_shows_running_and_draft(client: TestClient) -> None:
    network = opened(client)
    asked = {"services": ["telnet"], "family": "ipv4"}
    before = worked(client, f"/api/networks/{network['id']}/reach", asked)
    assert before["running"] == before["draft"]
    client.post(
        f"/api/networks/{network['id']}/draft/edits",
        json={"label": "place", **PLACING},
        headers={"If-Match": str(network["version"])},
    )
    after = worked(client, f"/api/networks/{network['id']}/reach", asked)
    assert after["running"] == before["running"]
    row, column = (after["devices"].index(name) for name in ("kiosk", "ledger"))
    assert (after["running"][row][column], after["draft"][row][column]) == ("1", "2")


def test_a_cell_opens_the_conversations_behind_it(client: TestClient) -> None:
    network = opened(client)
    asked = {"services": ["ssh"], "family": "ipv4", "source": "kiosk", "destination": "sluice"}
    found = client.post(f"/api/networks/{network['id']}/reach/cell", json=asked).json()
    assert len(found) == 6
    assert {each["draft"]["verdict"] for each in found} == {"blocked"}
    assert found[0]["flow"].startswith("kiosk → sluice:172.20.0.2 ssh")


def test_a_preview_counts_the_cells_that_would_change(client: TestClient) -> None:
    network = opened(client)
    found = client.post(f"/api/networks/{network['id']}/reach/preview", json=PLACING).json()
    assert found["change"]["changed"] > 0
    assert found["change"]["lose"] > 0
    same = client.post(f"/api/networks/{network['id']}/reach/preview", json={"changes": []}).json()
    assert same["change"]["changed"] == 0


def test_a_preview_looks_at_both_families(client: TestClient) -> None:
    network = opened(client)
    entries = "deny any from any to any"
    shut = {"name": "shut", "family": "ipv6", "kind": "extended", "entries": entries}
    placement = {"list": "shut", "device": "centre-gw", "at": "eth1", "direction": "in"}
    changes = [
        {"collection": "lists", "key": "shut", "item": shut},
        {"collection": "placements", "key": "centre-gw:eth1:in:shut", "item": placement},
    ]
    found = client.post(f"/api/networks/{network['id']}/reach/preview", json={"changes": changes}).json()
    assert found["change"]["families"] == ["ipv4", "ipv6"]
    assert found["change"]["lose"] > 0


def test_a_service_that_nobody_knows_is_refused(client: TestClient) -> None:
    network = opened(client)
    answer = client.post(f"/api/networks/{network['id']}/reach", json={"services": ["gopher-hole"]})
    assert answer.status_code == 422
    assert "gopher-hole" in answer.json()["detail"]


def test_a_matrix_can_be_cancelled(client: TestClient) -> None:
    network = opened(client)
    job = client.post(f"/api/networks/{network['id']}/reach", json={"services": ["ping"]}).json()
    assert client.delete(f"/api/jobs/{job['id']}").status_code == 204
    assert client.get(f"/api/jobs/{job['id']}").status_code == 404


def test_requests_at_once_share_one_world_for_each_document() -> None:
    derived, network = DerivedState(), saltmarsh()
    other = network.model_copy(update={"tests": ()})
    with ThreadPoolExecutor(8) as pool:
        worlds = list(pool.map(derived.world, [network, other] * 8))
    assert len({id(world) for world in worlds}) == 2
    assert worlds[0].routes.routing(Family.IPV4) is worlds[1].routes.routing(Family.IPV4)
