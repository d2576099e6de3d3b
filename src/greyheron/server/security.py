"""What stands between the network and the routes: hosts, origins, tokens, sizes and headers."""

import asyncio
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.requests import Request
from starlette.responses import Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from greyheron.server.access import ENTER, Access, Entrance, content_policy, page
from greyheron.server.observability import HEALTH, METRICS
from greyheron.server.problems import Refusal, problem, unexpected

LARGEST_BODY = 32 * 1024 * 1024
LARGEST_FILES = 128 * 1024 * 1024
"""Whole networks may be larger than what is said of one."""
_TAKE_FILES = frozenset({"/api/networks/import", "/api/bring"})
_MOST_DIGITS = 18
_CHANGING = frozenset({"POST", "PUT", "PATCH", "DELETE"})


SLOWED = 1.0
"""Seconds that a wrong token takes."""


class Safety:
    """ASGI middleware: refuses a wrong Host or Origin, a missing token and a body that is too large."""

    def __init__(self, app: ASGIApp, access: Access, entrance: Entrance | None = None) -> None:
        """entrance:  how browsers come in where a token is needed"""
        self._app = app
        self._access = access
        self._entrance = entrance

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        refusal = self._refusal(scope, headers)
        if refusal is not None:
            await problem(refusal.status, refusal.advice)(scope, receive, send)
            return
        if self._entrance is not None and scope["path"] != HEALTH:
            answer = await self._at_entrance(self._entrance, Request(scope, receive), headers)
            if answer is not None:
                await answer(scope, receive, _with_headers(send))
                return
        begun = False

        async def watched(message: Message) -> None:
            nonlocal begun
            begun = True
            await send(message)

        try:
            await self._app(scope, _bounded(scope, receive), _with_headers(watched))
        except Exception as error:
            if begun:
                raise
            await unexpected(error)(scope, receive, _with_headers(send))

    def _refusal(self, scope: Scope, headers: Headers) -> Refusal | None:
        host = _host_name(headers.get("host", ""))
        if host not in self._access.hosts:
            return Refusal(
                421, f"This server does not answer for the host “{host}”: use the address it printed."
            )
        origin = headers.get("origin")
        elsewhere = origin is not None and _place_of(origin) != headers.get("host")
        if scope["method"] in _CHANGING and elsewhere:
            return Refusal(403, f"A page from {origin} may not change anything here.")
        length = headers.get("content-length", "0")
        if not is_number(length) or int(length) > _largest(scope):
            return _too_large(scope)
        return None

    async def _at_entrance(self, entrance: Entrance, request: Request, headers: Headers) -> Response | None:
        """The answer to who is let in now, or not at all; None to who may go on."""
        if request.url.path == "/" and "code" in request.query_params:
            let_in = entrance.by_code(request.url.query)
            if let_in is not None:
                return let_in
        if entrance.admits(headers):
            return None
        if request.method == "POST" and request.url.path == ENTER:
            answer = await entrance.by_form(request)
            if answer.status_code == 401:
                await asyncio.sleep(SLOWED)
            return answer
        if request.method == "GET" and not request.url.path.startswith(("/api/", METRICS)):
            return page()
        return problem(401, "An access token is needed: send it as “Authorization: Bearer …”.")


def is_number(text: str) -> bool:
    """Whether a header says a number that is one, and not larger than any that there is."""
    return text.isascii() and text.isdigit() and len(text) <= _MOST_DIGITS


def _place_of(origin: str) -> str | None:
    """Host and port of an origin; None where it is none."""
    try:
        return urlsplit(origin).netloc
    except ValueError:
        return None


def _host_name(host: str) -> str:
    try:
        return urlsplit(f"//{host}").hostname or ""
    except ValueError:
        return ""


def _largest(scope: Scope) -> int:
    return LARGEST_FILES if scope["path"] in _TAKE_FILES else LARGEST_BODY


def _too_large(scope: Scope) -> Refusal:
    return Refusal(413, f"The request is too large: {_largest(scope) // 2**20} MiB at most.")


def _bounded(scope: Scope, receive: Receive) -> Receive:
    """Stop reading a body without a length once it is too large."""
    read = 0

    async def bounded() -> Message:
        nonlocal read
        message = await receive()
        read += len(message.get("body", b""))
        if read > _largest(scope):
            raise _too_large(scope)
        return message

    return bounded


def _with_headers(send: Send) -> Send:
    async def sending(message: Message) -> None:
        if message["type"] == "http.response.start":
            headers = MutableHeaders(scope=message)
            headers.setdefault("Content-Security-Policy", content_policy())
            headers["X-Content-Type-Options"] = "nosniff"
            headers.setdefault("Referrer-Policy", "no-referrer")
            headers["Cross-Origin-Opener-Policy"] = "same-origin"
        await send(message)

    return sending
