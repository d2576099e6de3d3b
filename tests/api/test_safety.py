"""Requests that should not be answered: each a clear error, the server and its data unharmed."""

from typing import Any

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import Engine

from greyheron.server.app import make_app
from greyheron.server.safety import LARGEST_BODY, LARGEST_FILES, Access

HERE = "http://127.0.0.1:8470"

# method, path, what else is sent, status, words of the detail
REFUSED: dict[str, tuple[str, str, dict[str, Any], int, str]] = {
    "a wrong host": ("GET", "/api/networks", {"headers": {"Host": "evil.example"}}, 421, "evil.example"),
    "a broken host": (
        "GET",
        "/api/networks",
        {"headers": {"Host": "[::1"}},
        421,
        "use the address it printed",
    ),
    "a page from elsewhere": (
        "POST",
        "/api/networks",
        {"headers": {"Origin": "http://evil.example"}, "json": {"name": "x"}},
        403,
        "may not change anything",
    ),
    "a body too large": (
        "POST",
        "/api/networks",
        {"headers": {"Content-Length": str(LARGEST_BODY + 1)}},
        413,
        "too large: 32 MiB",
    ),
    "a file too large": (
        "POST",
        "/api/networks/import",
        {"headers": {"Content-Length": str(LARGEST_FILES + 1)}},
        413,
        "too large: 128 MiB",
    ),
    "a length that is none": (
        "POST",
        "/api/networks/import",
        {"headers": {"Content-Length": "-1"}},
        413,
        "too large",
    ),
    "no such route": ("GET", "/api/nothing", {}, 404, "nothing at /api/nothing"),
    "no such network": ("GET", "/api/networks/none", {}, 404, "there is no network “none”"),
    "no such method": ("PUT", "/api/networks", {}, 405, "Method Not Allowed"),
    "no JSON": (
        "POST",
        "/api/networks",
        {"content": b"{", "headers": {"Content-Type": "application/json"}},
        422,
        "JSON",
    ),
    "a missing field": ("POST", "/api/networks", {"json": {}}, 422, "field required"),
    "an unknown field": ("POST", "/api/networks", {"json": {"name": "a", "nam": "b"}}, 422, "extra inputs"),
    "an empty name": ("POST", "/api/networks", {"json": {"name": ""}}, 422, "at least 1 character"),
    "a blank name": ("POST", "/api/networks", {"json": {"name": "   "}}, 422, "name"),
    "an edit without a version": (
        "POST",
        "/api/networks/DEMO/draft/edits",
        {"json": {"label": "x", "changes": [{"collection": "lists", "key": "hides-in"}]}},
        428,
        "send If-Match",
    ),
    "a version that is none": (
        "POST",
        "/api/networks/DEMO/draft/undo",
        {"headers": {"If-Match": "W/soon"}},
        422,
        "expected the ETag",
    ),
    "nothing to undo": (
        "POST",
        "/api/networks/DEMO/draft/undo",
        {"headers": {"If-Match": '"1"'}},
        409,
        "no edit to undo",
    ),
    "an unknown collection": (
        "POST",
        "/api/networks/DEMO/draft/edits",
        {
            "headers": {"If-Match": '"1"'},
            "json": {"label": "x", "changes": [{"collection": "cats", "key": "a"}]},
        },
        422,
        "collection",
    ),
    "removing what is not there": (
        "POST",
        "/api/networks/DEMO/draft/edits",
        {
            "headers": {"If-Match": '"1"'},
            "json": {"label": "x", "changes": [{"collection": "lists", "key": "a"}]},
        },
        409,
        "no “a” in lists to remove",
    ),
    "removing what is in use": (
        "POST",
        "/api/networks/DEMO/draft/edits",
        {
            "headers": {"If-Match": '"1"'},
            "json": {"label": "x", "changes": [{"collection": "lists", "key": "hides-in"}]},
        },
        422,
        "there is no list “hides-in”",
    ),
    "an item of the wrong shape": (
        "POST",
        "/api/networks/DEMO/draft/edits",
        {
            "headers": {"If-Match": '"1"'},
            "json": {"label": "x", "changes": [{"collection": "lists", "key": "a", "item": {"name": 7}}]},
        },
        422,
        "list a",
    ),
    "a flow that cannot be read": (
        "POST",
        "/api/networks/DEMO/trace",
        {"json": {"flow": "kiosk"}},
        422,
        "ends too early",
    ),
    "a flow from nowhere": (
        "POST",
        "/api/networks/DEMO/trace",
        {"json": {"flow": "nobody → ledger ping"}},
        422,
        "there is no device “nobody”",
    ),
    "a flow from a switch": (
        "POST",
        "/api/networks/DEMO/trace",
        {"json": {"flow": "lab-sw → ledger ping"}},
        422,
        "neither sends nor answers",
    ),
    "a flow to the other family": (
        "POST",
        "/api/networks/DEMO/trace",
        {"json": {"flow": "kiosk → 2001:db8::1 ping ipv4"}},
        422,
        "no IPv4 address, and the flow is IPv4",
    ),
    "a state that is none": (
        "POST",
        "/api/networks/DEMO/trace",
        {"json": {"flow": "kiosk → ledger ping", "state": "tomorrow"}},
        422,
        "draft",
    ),
    "no such revision": (
        "POST",
        "/api/networks/DEMO/revisions/9/restore",
        {"headers": {"If-Match": '"1"'}},
        404,
        "there is no revision 9",
    ),
}


@pytest.mark.parametrize(("method", "path", "sent", "status", "words"), REFUSED.values(), ids=REFUSED.keys())
def test_refused(
    client: TestClient, method: str, path: str, sent: dict[str, Any], status: int, words: str
) -> None:
    demo = client.post("/api/networks/demo").json()
    answer = client.request(method, path.replace("DEMO", demo["id"]), **sent)
    assert answer.status_code == status, answer.text
    assert answer.headers["content-type"] == "application/problem+json"
    document = answer.json()
    assert document["status"] == status
    assert words in document["detail"] + str(document["problems"])
    assert client.get(f"/api/networks/{demo['id']}").json() == demo


def test_a_token_is_asked_for_and_can_be_handed_over_in_the_address(engine: Engine) -> None:
    app = make_app(engine, Access(token="a-long-enough-token"), None)
    with TestClient(app, base_url=HERE, follow_redirects=False) as client:
        assert client.get("/api/networks").status_code == 401
        assert client.get("/?token=wrong").status_code == 401
        bearer = {"Authorization": "Bearer a-long-enough-token"}
        assert client.get("/api/networks", headers=bearer).status_code == 200
        handed = client.get("/?token=a-long-enough-token")
        assert (handed.status_code, handed.headers["location"]) == (303, "/")
        assert "HttpOnly" in handed.headers["set-cookie"]
        assert client.get("/api/networks").status_code == 200  # by the cookie


def test_answers_carry_a_strict_policy(client: TestClient) -> None:
    headers = client.get("/api/networks").headers
    assert "default-src 'self'" in headers["content-security-policy"]
    assert "unsafe" not in headers["content-security-policy"]
    assert headers["x-content-type-options"] == "nosniff"
