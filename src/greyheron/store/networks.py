"""Networks in the database: every write in one transaction, based on a stated version."""

import json
import secrets
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from threading import Lock

from sqlalchemy import Engine, delete, func, select
from sqlalchemy.orm import Session

from greyheron.model.changes import Change, apply, difference, reversed_edit
from greyheron.model.document import Network, to_data
from greyheron.model.read import edited, read_network
from greyheron.store.database import reading
from greyheron.store.tables import EditRow, NetworkRow, RevisionRow, now

MOST_DOCUMENTS = 32


class UnknownNetwork(LookupError):
    """There is no network with that id."""


class UnknownRevision(LookupError):
    """The network has no revision with that number."""


class NothingToDo(ValueError):
    """There is no edit to undo or redo, or nothing to apply."""


class VersionConflict(Exception):
    """The network was changed since the version that a write was based on."""

    def __init__(self, based_on: int, current: int) -> None:
        self.based_on = based_on
        self.current = current
        super().__init__(f"based on version {based_on}, but the network is at version {current}")


@dataclass(frozen=True, slots=True)
class Summary:
    id: str
    name: str
    version: int
    changed_at: datetime


@dataclass(frozen=True, slots=True)
class Stored:
    """A network as it is kept.

    undo, redo:  labels of the edits that would be undone and redone, or None
    """

    id: str
    version: int
    running: Network
    draft: Network
    undo: str | None
    redo: str | None


@dataclass(frozen=True, slots=True)
class Revision:
    number: int
    note: str
    applied_at: datetime


class NetworkStore:
    """The networks in one database. Safe to share between threads."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._reading = reading(engine)
        self._documents = _Documents()

    def summaries(self) -> list[Summary]:
        """Every network, the latest changed first."""
        with Session(self._reading) as session:
            rows = session.scalars(select(NetworkRow).order_by(NetworkRow.changed_at.desc(), NetworkRow.id))
            return [Summary(row.id, row.name, row.version, _utc(row.changed_at)) for row in rows]

    def create(self, network: Network) -> Stored:
        """Keep a new network, running and draft alike."""
        text = self._documents.text_of(network)
        row = NetworkRow(id=secrets.token_hex(6), name=network.name, running=text, draft=text)
        with Session(self._engine) as session, session.begin():
            session.add(row)
            session.add(RevisionRow(network_id=row.id, number=1, note="as created", document=text))
            session.flush()
            return self._stored(session, row)

    def get(self, network_id: str) -> Stored:
        with Session(self._reading) as session:
            row = _row(session, network_id)
            labels = _labels(session, row)
            session.expunge(row)
        return self._read(row, labels)  # a large document takes long to read: nobody waits for it

    def remove(self, network_id: str, version: int) -> None:
        with Session(self._engine) as session, session.begin():
            session.delete(_row(session, network_id, version))

    def edit(self, network_id: str, version: int, label: str, changes: Sequence[Change]) -> Stored:
        """Make `changes` to the draft. Raises DocumentError or ChangeError and keeps the draft as it was."""
        with self._changing(network_id, version) as (session, row):
            draft = self._documents.parsed(row.draft)
            after = edited(draft, changes)
            return self._edited(session, row, label, changes, reversed_edit(draft, changes), after)

    def undo(self, network_id: str, version: int) -> Stored:
        """Take back the draft's last edit."""
        with self._changing(network_id, version) as (session, row):
            edit = _edit(session, row, row.edits_done)
            if edit is None:
                raise NothingToDo("there is no edit to undo")
            row.edits_done -= 1
            return self._moved(session, row, _changes(edit.backward))

    def redo(self, network_id: str, version: int) -> Stored:
        """Make the draft's next edit again."""
        with self._changing(network_id, version) as (session, row):
            edit = _edit(session, row, row.edits_done + 1)
            if edit is None:
                raise NothingToDo("there is no edit to redo")
            row.edits_done += 1
            return self._moved(session, row, _changes(edit.forward))

    def apply(self, network_id: str, version: int, note: str) -> Stored:
        """Put the draft in force, and keep it as a revision."""
        with self._changing(network_id, version) as (session, row):
            if row.running == row.draft:
                raise NothingToDo("the draft is the same as what is running")
            row.running = row.draft
            last = session.scalar(
                select(func.max(RevisionRow.number)).where(RevisionRow.network_id == network_id)
            )
            session.add(
                RevisionRow(network_id=network_id, number=(last or 0) + 1, note=note, document=row.draft)
            )
            return self._written(session, row)

    def discard(self, network_id: str, version: int) -> Stored:
        """Make the draft what is running; an edit like any other, so it can be undone."""
        with self._changing(network_id, version) as (session, row):
            return self._replaced(session, row, "discard the draft", row.running)

    def restore(self, network_id: str, version: int, number: int) -> Stored:
        """Make the draft what revision `number` was; it can be undone."""
        with self._changing(network_id, version) as (session, row):
            revision = _revision(session, network_id, number)
            return self._replaced(session, row, f"go back to revision {number}", revision.document)

    def revisions(self, network_id: str) -> list[Revision]:
        """Every revision, newest first."""
        with Session(self._reading) as session:
            _row(session, network_id)
            rows = session.scalars(
                select(RevisionRow)
                .where(RevisionRow.network_id == network_id)
                .order_by(RevisionRow.number.desc())
            )
            return [Revision(row.number, row.note, _utc(row.applied_at)) for row in rows]

    def _replaced(self, session: Session, row: NetworkRow, label: str, text: str) -> Stored:
        before, after = self._documents.parsed(row.draft), self._documents.parsed(text)
        changes = difference(before, after)
        if not changes:
            raise NothingToDo("the draft is the same already")
        return self._edited(session, row, label, changes, difference(after, before), after)

    def _edited(
        self,
        session: Session,
        row: NetworkRow,
        label: str,
        forward: Sequence[Change],
        backward: Sequence[Change],
        after: Network,
    ) -> Stored:
        """Record an edit and its way back; edits that had been undone are gone."""
        session.execute(delete(EditRow).where(EditRow.network_id == row.id, EditRow.number > row.edits_done))
        row.edits_done += 1
        session.add(
            EditRow(
                network_id=row.id,
                number=row.edits_done,
                label=label,
                forward=_changes_text(forward),
                backward=_changes_text(backward),
            )
        )
        row.draft = self._documents.text_of(after)
        return self._written(session, row)

    def _moved(self, session: Session, row: NetworkRow, changes: Sequence[Change]) -> Stored:
        row.draft = self._documents.text_of(apply(self._documents.parsed(row.draft), changes))
        return self._written(session, row)

    def _written(self, session: Session, row: NetworkRow) -> Stored:
        row.version += 1
        row.changed_at = now()
        row.name = self._documents.parsed(row.draft).name
        session.flush()
        return self._stored(session, row)

    @contextmanager
    def _changing(self, network_id: str, version: int) -> Iterator[tuple[Session, NetworkRow]]:
        """One transaction on a network as it is in `version`. Raises VersionConflict."""
        self.get(network_id)  # its documents are read before the database is locked
        with Session(self._engine) as session, session.begin():
            yield session, _row(session, network_id, version)

    def _stored(self, session: Session, row: NetworkRow) -> Stored:
        return self._read(row, _labels(session, row))

    def _read(self, row: NetworkRow, labels: tuple[str | None, str | None]) -> Stored:
        running, draft = self._documents.parsed(row.running), self._documents.parsed(row.draft)
        return Stored(row.id, row.version, running, draft, *labels)


class _Documents:
    """Documents by their text, so that each is read once; the least used are forgotten."""

    def __init__(self) -> None:
        self._read: OrderedDict[str, Network] = OrderedDict()
        self._lock = Lock()
        self._reading = Lock()

    def parsed(self, text: str) -> Network:
        found = self._found(text)
        if found is None:
            with self._reading:  # whoever asks meanwhile waits, and then finds it read
                found = self._found(text) or read_network(json.loads(text))
                self._keep(text, found)
        return found

    def text_of(self, network: Network) -> str:
        """The text of a document that is about to be written: it need not be read again."""
        text = _text(network)
        self._keep(text, network)
        return text

    def _found(self, text: str) -> Network | None:
        with self._lock:
            if text in self._read:
                self._read.move_to_end(text)
            return self._read.get(text)

    def _keep(self, text: str, network: Network) -> None:
        with self._lock:
            self._read[text] = network
            while len(self._read) > MOST_DOCUMENTS:
                self._read.popitem(last=False)


def require_network(session: Session, network_id: str) -> None:
    """Raise UnknownNetwork unless there is one with that id."""
    _row(session, network_id)


def _row(session: Session, network_id: str, version: int | None = None) -> NetworkRow:
    row = session.get(NetworkRow, network_id)
    if row is None:
        raise UnknownNetwork(f"there is no network “{network_id}”")
    if version is not None and row.version != version:
        raise VersionConflict(version, row.version)
    return row


def _labels(session: Session, row: NetworkRow) -> tuple[str | None, str | None]:
    """What undoing and redoing would be called."""
    undo, redo = _edit(session, row, row.edits_done), _edit(session, row, row.edits_done + 1)
    return (undo.label if undo else None), (redo.label if redo else None)


def _edit(session: Session, row: NetworkRow, number: int) -> EditRow | None:
    return session.scalar(select(EditRow).where(EditRow.network_id == row.id, EditRow.number == number))


def _revision(session: Session, network_id: str, number: int) -> RevisionRow:
    found = session.scalar(
        select(RevisionRow).where(RevisionRow.network_id == network_id, RevisionRow.number == number)
    )
    if found is None:
        raise UnknownRevision(f"there is no revision {number}")
    return found


def _text(network: Network) -> str:
    return json.dumps({"format": network.format, **to_data(network)}, ensure_ascii=False)


def _changes_text(changes: Sequence[Change]) -> str:
    return json.dumps([change.model_dump(mode="json") for change in changes], ensure_ascii=False)


def _changes(text: str) -> list[Change]:
    return [Change.model_validate(change) for change in json.loads(text)]


def _utc(moment: datetime) -> datetime:
    """SQLite forgets the zone of what was written in UTC."""
    return moment.replace(tzinfo=UTC)
