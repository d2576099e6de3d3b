"""A backup that is put back while the server runs: what was there is not mixed with what is."""

from pathlib import Path

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import Engine

from greyheron.server.access import Access
from greyheron.server.app import make_app
from greyheron.store.backup import back_up, restore


def require(client: TestClient, path: str, statement: str) -> str:
    """Adds a requirement, and returns the version that it was acknowledged with."""
    headers = {"If-Match": client.get(path).headers["etag"]}
    answer = client.post(
        f"{path}/draft/intents", headers=headers, json={"do": "require", "statement": statement}
    )
    assert answer.status_code == 200, answer.text
    return answer.headers["etag"]


def required(client: TestClient, path: str) -> list[str]:
    return [each["statement"] for each in client.get(path).json()["draft"]["requirements"]]


@pytest.mark.parametrize("edits", [1, 2, 5])
def test_what_is_put_back_is_a_state_of_its_own(
    client: TestClient, engine: Engine, tmp_path: Path, edits: int
) -> None:
    database, copy = tmp_path / "networks.db", tmp_path / "copy.db"
    path = f"/api/networks/{client.post('/api/networks/demo').json()['id']}"
    before = required(client, path)
    back_up(database, copy)
    lost = [f"block kiosk → ledger tcp/{port}" for port in range(1000, 1000 + edits)]
    versions = [require(client, path, each) for each in lost]
    restore(copy, database)
    assert required(client, path) == before
    assert client.get(path).headers["etag"] not in versions
    kept = "block till → ledger tcp/2000"
    versions.append(require(client, path, kept))
    assert required(client, path) == [*before, kept]
    applied = client.post(f"{path}/draft/apply", headers={"If-Match": versions[-1]}, json={})
    assert applied.status_code == 200
    assert client.get(f"{path}/book").status_code == 200
    with TestClient(make_app(engine, Access(), None), base_url="http://127.0.0.1:8470") as again:
        assert required(again, path) == [*before, kept]
        running = again.get(path).json()
        assert running["running"]["collections"] == {}
    stale = client.post(f"{path}/draft/undo", headers={"If-Match": versions[0]})
    assert stale.status_code == 412
