"""Requests that should not be answered: each a clear error, the server and its data unharmed."""

from collections.abc import Iterator
from typing import Any

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import Engine

from greyheron.server import security
from greyheron.server.access import Access
from greyheron.server.app import make_app
from greyheron.server.security import LARGEST_BODY, LARGEST_FILES

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


TOKEN = "a-long-enough-token"


@pytest.fixture
def guarded(engine: Engine) -> Iterator[TestClient]:
    app = make_app(engine, Access(token=TOKEN), None)
    with TestClient(app, base_url=HERE, follow_redirects=False) as client:
        yield client


def test_a_token_is_asked_for(guarded: TestClient) -> None:
    assert guarded.get("/api/networks").status_code == 401
    assert guarded.get("/api/networks", headers={"Authorization": "Bearer wrong"}).status_code == 401
    bearer = {"Authorization": f"Bearer {TOKEN}"}
    assert guarded.get("/api/networks", headers=bearer).status_code == 200
    assert guarded.get("/health").status_code == 200


def test_a_token_in_an_address_lets_nobody_in(guarded: TestClient) -> None:
    """Addresses end in logs."""
    answer = guarded.get(f"/?token={TOKEN}")
    assert answer.status_code == 401
    assert "set-cookie" not in answer.headers


def test_a_code_lets_one_browser_in_once(guarded: TestClient) -> None:
    code = guarded.app.state.entrance.new_code()  # type: ignore[attr-defined]
    assert guarded.get("/?code=wrong").status_code == 401
    entered = guarded.get(f"/?code={code}")
    assert (entered.status_code, entered.headers["location"]) == (303, "/")
    cookie = entered.headers["set-cookie"]
    assert "HttpOnly" in cookie
    assert "SameSite=strict" in cookie
    assert TOKEN not in cookie
    assert guarded.get("/api/networks").status_code == 200  # by the cookie
    guarded.cookies.clear()
    assert guarded.get(f"/?code={code}").status_code == 401


def test_a_browser_is_let_in_by_the_token_in_a_form(
    guarded: TestClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(security, "SLOWED", 0.0)
    page = guarded.get("/map")
    assert page.status_code == 401
    assert 'action="/enter"' in page.text
    wrong = guarded.post("/enter", data={"token": "<b>wrong"})
    assert (wrong.status_code, "This is not the token." in wrong.text) == (401, True)
    assert guarded.post("/enter", content=b"token=" + b"x" * 100_000).status_code == 401
    other = guarded.post("/enter", data={"token": TOKEN}, headers={"Origin": "http://elsewhere.example"})
    assert other.status_code == 403
    entered = guarded.post("/enter", data={"token": TOKEN})
    assert entered.status_code == 303
    assert guarded.get("/api/networks").status_code == 200


def test_answers_carry_a_strict_policy(client: TestClient) -> None:
    headers = client.get("/api/networks").headers
    assert "default-src 'self'" in headers["content-security-policy"]
    assert "unsafe" not in headers["content-security-policy"]
    assert headers["x-content-type-options"] == "nosniff"
