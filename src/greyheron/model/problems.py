"""What is wrong with a document: where, what, and what would be right."""

from collections.abc import Iterable

from msgspec import Struct

from greyheron.model.errors import GreyHeronError
from greyheron.model.notation.line import NotationError


class Problem(Struct, frozen=True):
    """One thing that keeps a document from being accepted.

    where: the place in the trade's words: “device sluice, interface wan0”
    message: what is wrong there and what would be right
    line, column, end: within the entries of a list or a test flow, counted from 1
    """

    where: str
    message: str
    line: int | None = None
    column: int | None = None
    end: int | None = None

    def __str__(self) -> str:
        line = "" if self.line is None else f", line {self.line}"
        column = "" if self.column is None else f", column {self.column}"
        return f"{self.where}{line}{column}: {self.message}"


def misread(error: NotationError, where: str) -> list[Problem]:
    """Every misreading in a text that stands at `where`."""
    return [Problem(where, found.message, found.line, found.column, found.end) for found in error.misreadings]


class DocumentError(GreyHeronError, ValueError):
    """A document with problems, all of them."""

    def __init__(self, problems: Iterable[Problem]) -> None:
        self.problems = tuple(problems)
        super().__init__("; ".join(map(str, self.problems)))
