"""Networks as a store gives them out."""

from datetime import datetime

from msgspec import Struct

from greyheron.model.document import Network


class Summary(Struct, frozen=True):
    """What is told of a network without reading it.

    surprises:  how many test flows of this version do not do what is expected; None where that is not known
    """

    id: str
    name: str
    version: int
    changed_at: datetime
    changed_by: str
    devices: int
    lists: int
    entries: int
    surprises: int | None


class Stored(Struct, frozen=True):
    """A network as it is kept.

    undo, redo:  labels of the edits that would be undone and redone, or None
    """

    id: str
    version: int
    running: Network
    draft: Network
    undo: str | None
    redo: str | None


class Revision(Struct, frozen=True):
    number: int
    note: str
    applied_at: datetime
