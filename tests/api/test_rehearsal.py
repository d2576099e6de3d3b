"""Rehearsals over the API: begun, watched, kept until the draft changes, refused where there are none."""

import time
from threading import Event
from typing import Any

import pytest
from fastapi.testclient import TestClient

from greyheron.core.walk.verdicts import Verdict
from greyheron.model.document import Network
from greyheron.rehearsal.report import RehearsalReport, SeenHop, TriedReport
from greyheron.rehearsal.runner import CannotRehearse, Watch
from greyheron.server import rehearsal_routes

REPORT = RehearsalReport(
    (
        TriedReport(
            test="t1",
            requirement=None,
            flow="kiosk → ledger telnet",
            query=False,
            when="at all times",
            verdict=Verdict.PASSES,
            predicted="so",
            seen="so",
            sees="a reply",
            hops=(SeenHop("kiosk", ("was sent",), ("came in",)),),
            agrees=True,
            differences=(),
            packets=(),
        ),
    ),
    ("a link: why",),
    1.0,
    2.0,
)


@pytest.fixture
def demo(client: TestClient) -> dict[str, Any]:
    opened: dict[str, Any] = client.post("/api/networks/demo").json()
    return opened


def finished(client: TestClient, begun: dict[str, Any]) -> dict[str, Any]:
    while begun["result"] is None:
        time.sleep(0.02)
        begun = client.get(f"/api/jobs/{begun['id']}").json()
    result: dict[str, Any] = begun["result"]
    return result


def test_the_last_rehearsal_is_kept_and_grows_stale(
    client: TestClient, demo: dict[str, Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    told: list[float] = []
    looked = Event()

    def rehearse(network: Network, watch: Watch) -> RehearsalReport:
        for stage, done in (("wires", 0.0), ("sending", 0.5)):
            watch(stage, done)
            told.append(done)
        assert looked.wait(20)
        assert len(network.tests) == 26
        return REPORT

    monkeypatch.setattr(rehearsal_routes, "missing", lambda _network: [])
    monkeypatch.setattr(rehearsal_routes, "run_rehearsal", rehearse)
    path = f"/api/networks/{demo['id']}/rehearsal"
    assert client.get(path).json() == {"missing": [], "last": None}
    begun = client.post(path).json()
    assert (begun["stage"], round(begun["done"], 3)) == ("sending", 0.65)
    looked.set()
    result = finished(client, begun)
    assert (result["stale"], result["report"]["tried"][0]["agrees"]) == (False, True)
    assert client.get(path).json()["last"] == result
    change = {"collection": "tests", "key": "t1", "item": None}
    client.post(
        f"/api/networks/{demo['id']}/draft/edits",
        json={"label": "less", "changes": [change]},
        headers={"If-Match": f'"{demo["version"]}"'},
    ).raise_for_status()
    assert client.get(path).json()["last"]["stale"] is True
    assert told == [0.0, 0.5]


def test_what_is_missing_is_said(
    client: TestClient, demo: dict[str, Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(_network: Network, _watch: Watch) -> RehearsalReport:
        raise CannotRehearse("The routing daemons are missing: install the package frr.")

    monkeypatch.setattr(rehearsal_routes, "missing", lambda _network: ["Install the package frr."])
    monkeypatch.setattr(rehearsal_routes, "run_rehearsal", refuse)
    path = f"/api/networks/{demo['id']}/rehearsal"
    assert client.get(path).json()["missing"] == ["Install the package frr."]
    answer = client.post(path)
    while answer.status_code == 200 and answer.json()["result"] is None:
        time.sleep(0.02)
        answer = client.get(f"/api/jobs/{answer.json()['id']}")
    assert answer.status_code == 503
    assert "install the package frr" in answer.json()["detail"]
