"""Values that nobody means well: each a clear refusal, and every network can be read after a restart."""

from typing import Any

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import Engine

from greyheron.server.access import Access
from greyheron.server.app import make_app
from tests.working import answered

POSITION = '{"label": "x", "changes": [{"collection": "positions", "key": "kiosk", "item": %s}]}'
EDITS = {
    "a place at no number": POSITION % '{"device": "kiosk", "x": NaN, "y": 1}',
    "a place beyond numbers": POSITION % '{"device": "kiosk", "x": 1e999, "y": 1}',
    "an index of 70 bits": POSITION.replace("}]}", ', "index": 1180591620717411303424}]}')
    % '{"device": "kiosk", "x": 1, "y": 1}',
}
INTENTS: dict[str, dict[str, Any]] = {
    "a frame list of a family": {"do": "new-list", "name": "odd", "kind": "frame", "family": "ipv4"},
    "a list of no family": {"do": "new-list", "name": "odd", "kind": "extended"},
    "a list of frames of IPv6 that is standard": {"do": "new-list", "kind": "standard", "family": "ipv6"},
    "a link to itself": {"do": "link", "one": "kiosk", "other": "kiosk"},
}


@pytest.fixture
def path(client: TestClient) -> str:
    return f"/api/networks/{client.post('/api/networks/demo').json()['id']}"


def tag(client: TestClient, path: str) -> dict[str, str]:
    return {"If-Match": client.get(path).headers["etag"], "Content-Type": "application/json"}


def test_what_could_not_be_read_again_is_refused_and_nothing_is_written(
    client: TestClient, path: str, engine: Engine
) -> None:
    before = client.get(path).headers["etag"]
    for name, content in EDITS.items():
        answer = client.post(f"{path}/draft/edits", headers=tag(client, path), content=content)
        assert answer.status_code == 422, name
    for name, intent in INTENTS.items():
        answer = client.post(f"{path}/draft/intents", headers=tag(client, path), json=intent)
        assert answer.status_code in (409, 422), name
        assert answer.json()["detail"], name
    assert client.get(path).headers["etag"] == before
    with TestClient(make_app(engine, Access(), None), base_url="http://127.0.0.1:8470") as again:
        assert again.get(path).status_code == 200


@pytest.mark.parametrize("given", ["9" * 5000, "²", "-1", "1e3", "\xff"])
def test_a_version_that_is_none_is_said_so(client: TestClient, path: str, given: str) -> None:
    headers = {b"if-match": f'"{given}"'.encode("latin-1")}
    answer = client.post(f"{path}/draft/undo", headers=headers)
    assert answer.status_code == 422
    assert "expected the ETag of the network" in answer.json()["detail"]


@pytest.mark.parametrize("origin", ["http://[", "http://[::1", "null", ""])
def test_an_origin_that_is_none_may_change_nothing(client: TestClient, path: str, origin: str) -> None:
    answer = client.post(f"{path}/draft/discard", headers={"Origin": origin, **tag(client, path)})
    assert answer.status_code == 403


def test_a_name_of_two_hundred_letters_is_refused(client: TestClient, path: str) -> None:
    asked = {"collection": "devices", "key": "kiosk", "name": "x" * 200}
    answer = client.post(f"{path}/rename", json=asked)
    assert answer.status_code == 200
    assert answer.json()["problems"][0]["message"] == "it has 200 letters: at most 63 are allowed"


def test_traffic_without_one_record_has_no_verdicts(client: TestClient, path: str) -> None:
    files = [("files", ("flows.csv", b"src,dst,proto\nx,y,z\n"))]
    assert answered(client, client.post(f"{path}/traffic", files=files)).json()["result"]["records"] == 0
    judged = answered(client, client.post(f"{path}/traffic/verdicts")).json()["result"]
    assert (judged["count"], judged["rows"]) == (0, [])
