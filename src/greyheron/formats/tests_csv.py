"""Test flows as a table (RFC 4180): group, flow with its expectation, note; one a row under a heading."""

import csv
import io
from collections.abc import Iterable

from pydantic import ValidationError

from greyheron.model.document import TestFlow
from greyheron.model.notation.flows import write_expected_flow
from greyheron.model.notation.line import NotationError
from greyheron.model.problems import DocumentError, Problem

COLUMNS = ("group", "flow", "note")
LARGEST = 4 * 1024 * 1024


def write_tests(tests: Iterable[TestFlow]) -> str:
    """The table that `read_tests` reads as `tests`, their ids apart."""
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(COLUMNS)
    writer.writerows((test.group, write_expected_flow(test.flow), test.note) for test in tests)
    return text.getvalue()


def read_tests(text: str, taken: Iterable[str] = ()) -> tuple[TestFlow, ...]:
    """The test flows in a table, with ids that are not `taken`. Raises DocumentError with every problem."""
    rows = csv.DictReader(io.StringIO(text.removeprefix("\ufeff")))
    names = [name.strip().lower() for name in rows.fieldnames or ()]
    if "flow" not in names:
        expected = ", ".join(COLUMNS)
        raise DocumentError(
            [Problem("table", f"its first line names no column “flow”: expected {expected}", 1)]
        )
    rows.fieldnames = names
    used = set(taken)
    numbers = (f"t{number}" for number in range(1, 10**9))
    free = (each for each in numbers if each not in used)
    found: list[TestFlow] = []
    problems: list[Problem] = []
    for row in rows:
        values = {name: (row.get(name) or "").strip() for name in COLUMNS}
        if not any(values.values()):
            continue
        try:
            found.append(TestFlow.model_validate({"id": next(free), **values}))
        except ValidationError as error:
            problems += [
                Problem(
                    f"table, {item['loc'][0]}",
                    _message(item.get("ctx", {}).get("error"), item["msg"]),
                    rows.line_num,
                )
                for item in error.errors(include_url=False)
            ]
    if problems:
        raise DocumentError(problems)
    return tuple(found)


def _message(cause: object, message: str) -> str:
    if isinstance(cause, NotationError):
        return "; ".join(each.message for each in cause.misreadings)
    return message.removeprefix("Value error, ")
