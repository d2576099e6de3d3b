"""Errors as problem documents (RFC 9457)."""

import sqlite3
from collections.abc import Callable, Iterable
from functools import partial
from http import HTTPStatus
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from msgspec import to_builtins
from pydantic import BaseModel
from sqlalchemy.exc import DatabaseError, OperationalError
from starlette.exceptions import HTTPException

from greyheron.analysis.reach.question import ReachError
from greyheron.compute.tasks import WorkersGone
from greyheron.core.walk.addressing import FlowError
from greyheron.model.changes import ChangeError
from greyheron.model.errors import GreyHeronError
from greyheron.model.notation.line import NotationError
from greyheron.model.problems import DocumentError, Problem, misread
from greyheron.server.logs import log, request_id
from greyheron.store.database import DatabaseGone
from greyheron.store.errors import (
    NothingToDo,
    UnknownNetwork,
    UnknownRevision,
    UnreadableNetwork,
    VersionConflict,
)
from greyheron.store.opening import primary_code

MEDIA_TYPE = "application/problem+json"


class ProblemItem(BaseModel):
    """One thing that is wrong: where, what, and what would be right."""

    where: str
    message: str
    line: int | None = None
    column: int | None = None
    end: int | None = None


class ProblemDocument(BaseModel):
    """An error as RFC 9457 has it; `problems` holds every single one, `current` the newest version.

    number:  of an unexpected error, to be found in the log
    """

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    problems: list[ProblemItem] = []
    current: int | None = None
    number: str | None = None


class Refusal(GreyHeronError):
    """A request that is answered with an error of a status."""

    def __init__(self, status: int, detail: str) -> None:
        super().__init__(detail)
        self.status = status


def problem_items(problems: Iterable[Problem]) -> list[ProblemItem]:
    """Problems as they go over the wire."""
    return [
        ProblemItem(
            where=found.where, message=found.message, line=found.line, column=found.column, end=found.end
        )
        for found in problems
    ]


def problem(status: int, detail: str, problems: list[Problem] | None = None, **extra: Any) -> JSONResponse:
    """The response for one error. `detail` says what happened and what to do."""
    document = {
        "type": "about:blank",
        "title": HTTPStatus(status).phrase,
        "status": status,
        "detail": detail,
        "problems": to_builtins(problems or []),
        **extra,
    }
    return JSONResponse(document, status, media_type=MEDIA_TYPE)


def unexpected(error: BaseException) -> JSONResponse:
    """The answer to an error that nobody foresaw; its number is in the log, with all that is known."""
    number = request_id.get()
    log.error("error %s", number, exc_info=error)
    detail = (
        f"Something went wrong here that should not (number {number}). Nothing was written by this request. "
        f"Try again; if it happens again, the server's log says more under that number."
    )
    return problem(500, detail, number=number)


_STATUS: dict[type[GreyHeronError], int] = {
    ChangeError: 409,
    NothingToDo: 409,
    UnreadableNetwork: 409,
    UnknownNetwork: 404,
    UnknownRevision: 404,
    WorkersGone: 503,
    DatabaseGone: 503,
    GreyHeronError: 422,
}
"""The statuses of errors that need no more than their words; of all others the last."""


def install(app: FastAPI) -> None:
    """Answer every error that the layers below raise."""

    def on(error_type: type[Exception], answer: Callable[[Any], JSONResponse]) -> None:
        async def handle(_request: Request, error: Exception) -> JSONResponse:
            return answer(error)

        app.add_exception_handler(error_type, handle)

    for kind, status in _STATUS.items():
        on(kind, partial(_answer, status))
    on(Refusal, lambda error: problem(error.status, error.advice))
    on(DocumentError, lambda error: problem(422, _count(error.problems), list(error.problems)))
    on(NotationError, _notation)
    on(FlowError, lambda error: problem(422, error.advice, [Problem("flow", str(error))]))
    on(ReachError, lambda error: problem(422, error.advice, [Problem("services", str(error))]))
    on(VersionConflict, _conflict)
    on(RequestValidationError, _invalid)
    on(OperationalError, _database)
    on(DatabaseError, _database)
    on(HTTPException, lambda error: problem(error.status_code, str(error.detail)))


def _answer(status: int, error: GreyHeronError) -> JSONResponse:
    return problem(status, error.advice)


def _conflict(error: VersionConflict) -> JSONResponse:
    detail = (
        "The draft was changed in another window since you opened it. Nothing was written and nothing "
        f"you typed is lost: {error.remedy}."
    )
    return problem(412, detail, current=error.current)


def _database(error: DatabaseError) -> JSONResponse:
    """The database could not do it: full, locked, gone, or damaged."""
    code = primary_code(error.orig)
    said = None if code is None else _SQLITE.get(code)
    return unexpected(error) if said is None else problem(*said)


_SQLITE = {
    sqlite3.SQLITE_FULL: (
        507,
        "The disk is full: nothing was written and nothing is lost. Make room, then try again.",
    ),
    sqlite3.SQLITE_BUSY: (
        503,
        "Another program holds the database: nothing was written. Try again in a moment.",
    ),
    sqlite3.SQLITE_READONLY: (
        507,
        "The database may only be read: nothing was written. Look at its folder's rights.",
    ),
    sqlite3.SQLITE_IOERR: (
        507,
        "The disk cannot be written: nothing was lost that was kept. Make room and try again.",
    ),
}
"""What is said of an error of SQLite, by its primary result code."""


def _notation(error: NotationError) -> JSONResponse:
    found = misread(error, "flow")
    return problem(422, _count(found), found)


def _invalid(error: RequestValidationError) -> JSONResponse:
    found = [
        Problem(", ".join(str(step) for step in item["loc"]), _lowered(item["msg"]))
        for item in error.errors()
    ]
    return problem(422, _count(found), found)


def _lowered(message: str) -> str:
    """A sentence's beginning in lower case, unless it begins with an abbreviation."""
    return message if message[1:2].isupper() else message[0].lower() + message[1:]


def _count(problems: tuple[Problem, ...] | list[Problem]) -> str:
    first = str(problems[0])
    return first if len(problems) == 1 else f"{len(problems)} problems; the first: {first}"
