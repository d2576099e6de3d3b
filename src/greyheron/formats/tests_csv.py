"""Test flows as a table (RFC 4180): group, flow with its expectation, note; one a row under a heading."""

import csv
import io
from collections.abc import Iterable

from greyheron.formats.outgoing import from_table
from greyheron.formats.spreadsheet import write_table
from greyheron.model.document import TestFlow
from greyheron.model.notation.flows import write_expected_flow
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.read import free_ids, item_problems

COLUMNS = ("group", "flow", "note")
LARGEST = 4 * 1024 * 1024


def write_tests(tests: Iterable[TestFlow]) -> str:
    """The table that `read_tests` reads as `tests`, their ids apart."""
    rows = ((test.group, write_expected_flow(test.flow), test.note) for test in tests)
    return write_table([COLUMNS, *rows])


def read_tests(text: str, taken: Iterable[str] = ()) -> tuple[TestFlow, ...]:
    """The test flows in a table, with ids that are not `taken`. Raises DocumentError with every problem."""
    rows = csv.DictReader(io.StringIO(text.removeprefix("\ufeff"), newline=None))
    try:
        return _read(rows, set(taken))
    except csv.Error as error:
        raise DocumentError([Problem("table", f"this is no table: {error}", rows.line_num + 1)]) from None


def _read(rows: "csv.DictReader[str]", taken: set[str]) -> tuple[TestFlow, ...]:
    names = [name.strip().lower() for name in rows.fieldnames or ()]
    if "flow" not in names:
        expected = ", ".join(COLUMNS)
        raise DocumentError(
            [Problem("table", f"its first line names no column “flow”: expected {expected}", 1)]
        )
    rows.fieldnames = names
    free = free_ids("tests", taken)
    found: list[TestFlow] = []
    problems: list[Problem] = []
    for row in rows:
        values = {name: from_table((row.get(name) or "").strip()) for name in COLUMNS}
        if not any(values.values()):
            continue
        item = {"id": next(free), **values}
        wrong = item_problems(TestFlow, item, "table")
        problems += [Problem(each.where, each.message, rows.line_num) for each in wrong]
        if not wrong:
            found.append(TestFlow.model_validate(item))
    if problems:
        raise DocumentError(problems)
    return tuple(found)
