"""The server as something that is run: faults with numbers, health, metrics, and networks that come back."""

import logging
from pathlib import Path
from random import Random

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import Engine, text

from greyheron.server.access import Access
from greyheron.server.app import make_app
from greyheron.store.database import open_database
from greyheron.store.networks import NetworkStore
from tests.fuzz import Requests, failures

HERE = "http://127.0.0.1:8470"


def calm(engine: Engine, access: Access | None = None) -> TestClient:
    """A client that is answered as a browser would be, whatever happens."""
    app = make_app(engine, access or Access(), None)
    return TestClient(app, base_url=HERE, raise_server_exceptions=False)


def test_an_unexpected_error_is_a_problem_with_a_number_that_is_in_the_log(
    engine: Engine, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    def broken(_store: NetworkStore) -> list[object]:
        raise RuntimeError("the heron flew away")

    with calm(engine) as client:
        monkeypatch.setattr(NetworkStore, "summaries", broken)
        with caplog.at_level(logging.ERROR):
            answer = client.get("/api/networks")
    assert answer.status_code == 500
    assert answer.headers["content-type"] == "application/problem+json"
    number = answer.json()["number"]
    assert number == answer.headers["x-request-id"]
    assert number in answer.json()["detail"]
    assert any(number in record.getMessage() for record in caplog.records)
    assert "flew away" not in answer.text


@pytest.mark.long
def test_no_request_is_answered_by_an_error_of_ours(engine: Engine) -> None:
    with calm(engine) as client:
        made = [
            client.post(f"/api/networks/demo?which={which}").json()["id"] for which in ("saltmarsh", "storm")
        ]
        document = client.get("/api/openapi.json").json()
        requests = Requests(document, made, Random(20261126))
        assert list(failures(client, requests.every(), 500)) == []
        assert list(failures(client, iter(requests), 250)) == []


def test_a_document_that_no_longer_reads_is_said_and_harms_nobody_else(engine: Engine) -> None:
    with calm(engine) as client:
        broken, whole = (client.post("/api/networks/demo").json()["id"] for _ in range(2))
        with engine.begin() as connection:
            damage = text("UPDATE documents SET draft = '{' WHERE network_id = :id")
            connection.execute(damage, {"id": broken})
    with calm(engine) as client:
        for answer in (
            client.get(f"/api/networks/{broken}"),
            client.get(f"/api/networks/{broken}/book"),
            client.post(f"/api/networks/{broken}/draft/undo", headers={"If-Match": '"1"'}),
        ):
            assert answer.status_code == 409
            assert "does not read" in answer.json()["detail"]
        assert client.get(f"/api/networks/{whole}").is_success
        assert len(client.get("/api/networks").json()) == 2


def test_a_full_disk_loses_nothing_and_recovers(tmp_path: Path) -> None:
    engine = open_database(tmp_path / "networks.db")
    with calm(engine) as client:
        made = client.post("/api/networks/demo").json()

        def limit(pages: int) -> None:
            engine.dispose()
            with engine.connect() as connection:
                connection.exec_driver_sql(f"PRAGMA max_page_count = {pages}")

        limit(1)
        note = "x" * 900_000
        item = {
            "name": "full",
            "family": "ipv4",
            "kind": "extended",
            "entries": f"permit any # {note[:200]}\n" * 4000,
        }
        edit = {"label": "x", "changes": [{"collection": "lists", "key": "full", "item": item}]}
        answer = client.post(
            f"/api/networks/{made['id']}/draft/edits", json=edit, headers={"If-Match": '"1"'}
        )
        assert (answer.status_code, "disk is full" in answer.json()["detail"]) == (507, True)
        limit(1_000_000)
        answer = client.post(
            f"/api/networks/{made['id']}/draft/edits", json=edit, headers={"If-Match": '"1"'}
        )
        assert answer.is_success


def test_health_needs_no_token_and_metrics_do(engine: Engine) -> None:
    with calm(engine, Access(token="a-long-enough-token")) as client:
        assert client.get("/health").json()["status"] == "well"
        assert client.get("/metrics").status_code == 401
        headers = {"Authorization": "Bearer a-long-enough-token"}
        client.get("/api/networks", headers=headers)
        metrics = client.get("/metrics", headers=headers).text
    for name in (
        "grey_heron_answers_total",
        "grey_heron_kept_bytes",
        "grey_heron_jobs_running",
        "process_resident",
    ):
        assert name in metrics


def test_networks_are_described_without_being_read(client: TestClient) -> None:
    made = client.post("/api/networks/demo", headers={"Grey-Heron-Author": "Ada%20%E2%9C%93"}).json()
    (told,) = client.get("/api/networks").json()
    assert (told["devices"], told["lists"], told["changed_by"]) == (23, 5, "Ada ✓")
    assert told["surprises"] is None
    client.get(f"/api/networks/{made['id']}/book")
    assert client.get("/api/networks").json()[0]["surprises"] == 2
    version = {"If-Match": '"1"'}
    change = {"collection": "tests", "key": "t1"}
    edit = {"label": "x", "changes": [change]}
    client.post(f"/api/networks/{made['id']}/draft/edits", json=edit, headers=version).raise_for_status()
    assert client.get("/api/networks").json()[0]["surprises"] is None


def test_networks_are_renamed_copied_removed_and_brought_back(client: TestClient) -> None:
    made = client.post("/api/networks/demo").json()
    path = f"/api/networks/{made['id']}"
    renamed = client.post(f"{path}/name", json={"name": "Reed bank"}, headers={"If-Match": '"1"'}).json()
    assert (renamed["draft"]["name"], renamed["changes"]) == ("Reed bank", [])
    assert renamed["running"] == {"collections": {}, "fields": {}}
    drop = {"label": "x", "changes": [{"collection": "tests", "key": "t1"}]}
    client.post(f"{path}/draft/edits", json=drop, headers={"If-Match": '"2"'}).raise_for_status()
    copy = client.post(f"{path}/copy", json={"name": "Other bank"}).json()
    there = client.get(f"/api/networks/{copy['id']}").json()
    dropped, kept = there["running"]["collections"]["tests"]
    assert (dropped["id"], kept) == ("t1", [0, len(there["draft"]["tests"])])
    assert client.delete(path, headers={"If-Match": '"3"'}).status_code == 204
    assert client.get(path).status_code == 404
    assert [each["name"] for each in client.get("/api/networks").json()] == ["Other bank"]
    assert client.post(f"{path}/bring-back").json()["name"] == "Reed bank"
    assert client.get(path).json()["version"] == 3


def test_a_trial_is_traced_without_being_made(client: TestClient) -> None:
    made = client.post("/api/networks/demo").json()["id"]
    flow = {"flow": "kiosk → ledger telnet"}
    item = {"name": "no", "family": "ipv4", "kind": "extended", "entries": "deny tcp to any port telnet"}
    placed = {"list": "no", "device": "centre-gw", "at": "eth1", "direction": "in"}
    changes = [
        {"collection": "lists", "key": "no", "item": item},
        {"collection": "placements", "key": "centre-gw:eth1:in:no", "item": placed},
    ]
    tried = client.post(f"/api/networks/{made}/trace", json={**flow, "changes": changes}).json()
    assert (tried["verdict"], "no denies" in tried["text"]) == ("blocked", True)
    assert client.post(f"/api/networks/{made}/trace", json=flow).json()["verdict"] == "passes"
    assert client.get(f"/api/networks/{made}").json()["version"] == 1
