"""Proposals: what could be done with a list, and where, before anybody has tried it."""

from enum import StrEnum
from itertools import count

from msgspec import Struct

from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import Change
from greyheron.model.document import Network
from greyheron.model.requirement import Statement
from greyheron.model.values import Family, ListKind


class Measure(StrEnum):
    """What is done with the list of a proposal."""

    NEW = "new"
    EXTENDED = "extended"
    WIDENED = "widened"
    """Extended, and made a full list of a source-only one."""
    MOVED = "moved"
    OPENED = "opened"
    """A new list that overrules zones, and keeps what else they say."""


class Proposal(Struct, frozen=True):
    """What to do with one list, at attachment points; see `Choice`, which is a proposal that was tried.

    exact:  whether a source-only list says just what is asked
    """

    points: tuple[AttachmentPoint, ...]
    list: str
    kind: ListKind
    family: Family
    measure: Measure
    entries: tuple[str, ...]
    changes: tuple[Change, ...]
    exact: bool = False


def free_name(statement: Statement, network: Network) -> str:
    """A name for a new list that says what it is for."""
    words = [str(term) for term in (*statement.sources, *statement.destinations)[:2]]
    plain = ["".join(sign if sign.isalnum() else "-" for sign in word) for word in words]
    base = "-".join([statement.kind, *plain])[:50].rstrip("-")
    taken = {taken_by.name for taken_by in network.lists}
    names = (base if number == 1 else f"{base}-{number}" for number in count(1))
    return next(name for name in names if name not in taken)
