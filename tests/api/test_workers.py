"""The server with worker processes answers as the one without."""

import os
import signal
from collections.abc import Iterator
from time import monotonic, sleep
from typing import Any

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import Engine

from greyheron.compute.derived import MEMORY
from greyheron.compute.workers import Workers
from greyheron.server.access import Access
from greyheron.server.app import make_app

QUESTION = {"services": ["services", "ping"], "family": "ipv4"}


@pytest.fixture
def working(engine: Engine) -> Iterator[TestClient]:
    app = make_app(engine, Access(), None, pool=Workers(1, MEMORY))
    with TestClient(app, base_url="http://127.0.0.1:8470") as client:
        yield client


def result(client: TestClient, path: str, body: Any = None) -> Any:
    """What a computation comes to."""
    answer = client.post(path, json=body).raise_for_status().json()
    last = monotonic() + 60
    while answer["result"] is None:
        assert monotonic() < last
        sleep(0.05)
        answer = client.get(f"/api/jobs/{answer['id']}").raise_for_status().json()
    return answer["result"]


@pytest.mark.long
def test_long_work_is_done_by_workers(client: TestClient, working: TestClient) -> None:
    name = client.post("/api/networks/demo").json()["id"]
    for what, body in (
        ("findings", None),
        ("policy", None),
        ("advice", {"text": "block visitors → ledger ssh"}),
        ("reach", QUESTION),
    ):
        path = f"/api/networks/{name}/{what}"
        assert result(working, path, body) == result(client, path, body)
    preview = working.post(f"/api/networks/{name}/reach/preview", json={"changes": []}).json()
    same = {"services": QUESTION["services"], "families": ["ipv4", "ipv6"]}
    assert preview["change"] == same | {"changed": 0, "lose": 0, "gain": 0}


def test_a_server_whose_workers_end_answers_all_the_same(working: TestClient) -> None:
    name = working.post("/api/networks/demo").json()["id"]
    before = result(working, f"/api/networks/{name}/findings")
    for pid in working.app.state.pool.pids():  # type: ignore[attr-defined]
        os.kill(pid, signal.SIGKILL)
    assert result(working, f"/api/networks/{name}/findings") == before
