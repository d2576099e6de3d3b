"""Rows of networks: looked up, described, and what is written in them."""

from datetime import UTC, datetime

from msgspec import Struct
from sqlalchemy import select
from sqlalchemy.orm import Session

from greyheron.model.document import Network
from greyheron.store.errors import UnknownNetwork, UnknownRevision, VersionConflict
from greyheron.store.tables import DocumentsRow, EditRow, NetworkRow, RevisionRow


class AsWritten(Struct, frozen=True):
    """A network as it stands in the database.

    draft:  as it was written last;  since:  the changes that make of it what it is now, in order
    """

    id: str
    name: str
    version: int
    running: str
    draft: str
    since: tuple[str, ...]
    labels: tuple[str | None, str | None]

    @classmethod
    def of(cls, session: Session, row: NetworkRow) -> "AsWritten":
        done, written = row.edits_done, row.edits_written
        low, high = sorted((done, written))
        edits = session.scalars(
            select(EditRow)
            .where(EditRow.network_id == row.id, EditRow.number > low, EditRow.number <= high)
            .order_by(EditRow.number)
        ).all()
        again = done > written
        since = [each.forward for each in edits] if again else [each.backward for each in edits[::-1]]
        texts, labels = session.get_one(DocumentsRow, row.id), labels_of(session, row)
        return cls(row.id, row.name, row.version, texts.running, texts.draft, tuple(since), labels)


def require_network(session: Session, network_id: str) -> None:
    """Raise UnknownNetwork unless there is one with that id."""
    network_row(session, network_id)


def network_row(session: Session, network_id: str, version: int | None = None) -> NetworkRow:
    row = session.get(NetworkRow, network_id)
    if row is None or row.removed_at is not None:
        raise UnknownNetwork(f"there is no network “{network_id}”")
    if version is not None and row.version != version:
        raise VersionConflict(version, row.version)
    return row


def labels_of(session: Session, row: NetworkRow) -> tuple[str | None, str | None]:
    """What undoing and redoing would be called."""
    undo, redo = edit_row(session, row, row.edits_done), edit_row(session, row, row.edits_done + 1)
    return (undo.label if undo else None), (redo.label if redo else None)


def edit_row(session: Session, row: NetworkRow, number: int) -> EditRow | None:
    return session.scalar(select(EditRow).where(EditRow.network_id == row.id, EditRow.number == number))


def revision_row(session: Session, network_id: str, number: int) -> RevisionRow:
    found = session.scalar(
        select(RevisionRow).where(RevisionRow.network_id == network_id, RevisionRow.number == number)
    )
    if found is None:
        raise UnknownRevision(f"there is no revision {number}")
    return found


def describe(row: NetworkRow, network: Network) -> None:
    """Put into a row what is told of its draft without reading it."""
    row.name = network.name
    row.devices, row.lists = len(network.devices), len(network.lists)
    row.entries = sum(len(each.body.entries) for each in network.lists)


def in_utc(moment: datetime) -> datetime:
    """SQLite forgets the zone of what was written in UTC."""
    return moment.replace(tzinfo=UTC)
