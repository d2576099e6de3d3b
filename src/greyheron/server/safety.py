"""What stands between the network and the routes: hosts, origins, tokens, sizes and headers."""

import hmac
from http.cookies import SimpleCookie
from urllib.parse import parse_qs, urlsplit

from msgspec import Struct
from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import RedirectResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from greyheron.server.problems import Refusal, problem, unexpected
from greyheron.server.watching import HEALTH

LARGEST_BODY = 32 * 1024 * 1024
LARGEST_FILES = 128 * 1024 * 1024
"""Whole networks may be larger than what is said of one."""
_TAKE_FILES = frozenset({"/api/networks/import", "/api/bring"})
LOOPBACK = frozenset({"127.0.0.1", "localhost", "::1"})
COOKIE = "grey-heron-token"
_MOST_DIGITS = 18
_CHANGING = frozenset({"POST", "PUT", "PATCH", "DELETE"})


def content_policy(nonce: str | None = None) -> str:
    """The Content-Security-Policy. `nonce` allows the style elements that an editor makes for itself."""
    styles = "style-src 'self'" + (f" 'nonce-{nonce}'" if nonce else "")
    return "; ".join(
        (
            "default-src 'self'",
            styles,
            "img-src 'self' data:",
            "object-src 'none'",
            "base-uri 'none'",
            "form-action 'self'",
            "frame-ancestors 'none'",
        )
    )


class Access(Struct, frozen=True):
    """Who may ask. `hosts`: names in the Host header; `token`: needed when not None."""

    hosts: frozenset[str] = LOOPBACK
    token: str | None = None


class Safety:
    """ASGI middleware: refuses a wrong Host or Origin, a missing token and a body that is too large."""

    def __init__(self, app: ASGIApp, access: Access) -> None:
        self._app = app
        self._access = access

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        refusal = self._refusal(scope, headers)
        if refusal is not None:
            await problem(refusal.status, refusal.detail)(scope, receive, send)
            return
        handed = _token_in_query(scope)
        if handed is not None:
            response = RedirectResponse("/", status_code=303)
            response.set_cookie(COOKIE, handed, httponly=True, samesite="strict")
            await response(scope, receive, send)
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
        if scope["path"] != HEALTH and not self._allowed(scope, headers):
            return Refusal(401, "An access token is needed: open the address that the server printed.")
        length = headers.get("content-length", "0")
        if not is_number(length) or int(length) > _largest(scope):
            return _too_large(scope)
        return None

    def _allowed(self, scope: Scope, headers: Headers) -> bool:
        token = self._access.token
        if token is None:
            return True
        cookie = SimpleCookie(headers.get("cookie", "")).get(COOKIE)
        given = (
            headers.get("authorization", "").removeprefix("Bearer "),
            cookie.value if cookie else "",
            _token_in_query(scope) or "",
        )
        return any(hmac.compare_digest(candidate.encode(), token.encode()) for candidate in given)


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


def _token_in_query(scope: Scope) -> str | None:
    """A token handed over in the first address that is opened, `/?token=…`."""
    if scope["path"] != "/":
        return None
    return next(iter(parse_qs(scope["query_string"].decode("latin-1")).get("token", [])), None)


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
            headers["Referrer-Policy"] = "no-referrer"
            headers["Cross-Origin-Opener-Policy"] = "same-origin"
        await send(message)

    return sending
