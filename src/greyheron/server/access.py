"""Who may ask: whoever has the access token, or a browser that showed it, or a code for it, once."""

import hmac
from hashlib import sha256
from html import escape
from http.cookies import SimpleCookie
from secrets import token_urlsafe
from threading import Lock
from urllib.parse import parse_qs

from msgspec import Struct
from starlette.datastructures import Headers
from starlette.requests import Request
from starlette.responses import HTMLResponse, RedirectResponse, Response

LOOPBACK = frozenset({"127.0.0.1", "localhost", "::1"})
COOKIE = "grey-heron-session"
ENTER = "/enter"
"""Where a token is shown once, as a form."""
LARGEST_FORM = 4096


_STYLE = (
    ":root{color-scheme:light dark}body{font:16px/1.5 system-ui,sans-serif;margin:0}"
    "main{max-width:34rem;margin:12vh auto;padding:0 2rem}h1{font-size:1.4rem}"
    "input,button{font:inherit;padding:.3rem .6rem}[role=alert]{font-weight:600}"
)


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


class Entrance:
    """What lets a browser in that cannot send a token with each request."""

    def __init__(self, token: str) -> None:
        self._token = token
        self._session = hmac.new(token.encode(), b"a browser's session", sha256).hexdigest()
        self._codes: set[str] = set()
        self._lock = Lock()

    def new_code(self) -> str:
        """A code that lets one browser in, once."""
        code = token_urlsafe(12)
        with self._lock:
            self._codes.add(code)
        return code

    def admits(self, headers: Headers) -> bool:
        """Whether a request has the token, or comes from a browser that was let in."""
        bearer = headers.get("authorization", "").removeprefix("Bearer ")
        cookie = SimpleCookie(headers.get("cookie", "")).get(COOKIE)
        session = cookie.value if cookie else ""
        return _same(bearer, self._token) | _same(session, self._session)

    def by_code(self, query: str) -> Response | None:
        """The answer to somebody who shows a code in an address; None where it is not, or no longer, one."""
        code = next(iter(parse_qs(query).get("code", [])), "")
        with self._lock:
            if code not in self._codes:
                return None
            self._codes.remove(code)
        return self._let_in()

    async def by_form(self, request: Request) -> Response:
        """The answer to somebody who shows the token in the form."""
        body = b""
        async for part in request.stream():
            body += part
            if len(body) > LARGEST_FORM:
                break
        given = next(iter(parse_qs(body[:LARGEST_FORM].decode("utf-8", "replace")).get("token", [])), "")
        return self._let_in() if _same(given.strip(), self._token) else page("This is not the token.")

    def _let_in(self) -> Response:
        answer = RedirectResponse("/", status_code=303)
        answer.set_cookie(COOKIE, self._session, httponly=True, samesite="strict")
        return answer


def page(told: str = "") -> Response:
    """What a browser is shown that is not let in yet."""
    said = f'<p role="alert">{escape(told)}</p>' if told else ""
    nonce = token_urlsafe(16)
    headers = {
        "Content-Security-Policy": content_policy(nonce),
        "Referrer-Policy": "same-origin",  # else the form would come from nowhere
        "Cache-Control": "no-store",
    }
    return HTMLResponse(
        '<!doctype html><html lang="en"><meta charset="utf-8"><title>Grey Heron: access token</title>'
        f'<meta name="viewport" content="width=device-width"><style nonce="{nonce}">{_STYLE}</style>'
        "<main><h1>Grey Heron</h1>"
        "<p>An access token is needed here. Whoever runs this server has it.</p>"
        f'{said}<form method="post" action="{ENTER}"><label for="token">Access token</label> '
        '<input id="token" name="token" type="password" autocomplete="current-password" required autofocus> '
        "<button>Enter</button></form></main></html>",
        401,
        headers,
    )


def _same(given: str, wanted: str) -> bool:
    return hmac.compare_digest(given.encode(), wanted.encode())
