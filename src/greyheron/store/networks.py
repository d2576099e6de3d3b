"""Networks in the database: every write in one transaction, based on a stated version."""

import json
import secrets
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from threading import Condition, Lock

from cachetools import LRUCache
from sqlalchemy import Engine, delete, func, select
from sqlalchemy.orm import Session

from greyheron.core.progress import Progress, part, unwatched
from greyheron.model.changes import Change, apply, difference, reversed_edit
from greyheron.model.document import Network, to_data
from greyheron.model.problems import DocumentError
from greyheron.model.read import edited, read_network
from greyheron.store.database import reading
from greyheron.store.tables import EditRow, NetworkRow, RevisionRow, now

MOST_DOCUMENTS = 48 << 20
"""Documents are kept read up to so many bytes, and a few however large they are."""

KEPT_REMOVED = timedelta(days=30)
WATCHED = 0.25
"""Seconds between two looks whether somebody still waits."""


class UnknownNetwork(LookupError):
    """There is no network with that id."""


class UnreadableNetwork(Exception):
    """What is kept of a network no longer reads: it was written by something else, or is damaged."""

    def __init__(self, network_id: str, name: str, reason: str) -> None:
        super().__init__(f"what is kept of “{name}” ({network_id}) does not read: {reason}")


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
            query = select(*_TOLD).where(NetworkRow.removed_at.is_(None))
            rows = session.execute(query.order_by(NetworkRow.changed_at.desc(), NetworkRow.id)).all()
            return [
                Summary(
                    row.id,
                    row.name,
                    row.version,
                    _utc(row.changed_at),
                    row.changed_by,
                    row.devices,
                    row.lists,
                    row.entries,
                    row.surprises if row.tried_version == row.version else None,
                )
                for row in rows
            ]

    def _summary(self, network_id: str) -> Summary:
        return next(each for each in self.summaries() if each.id == network_id)

    def create(self, network: Network, by: str = "") -> Stored:
        """Keep a new network, running and draft alike. `by`: who makes it."""
        text = self._documents.text_of(network)
        row = NetworkRow(id=secrets.token_hex(6), running=text, draft=text, changed_by=by)
        _describe(row, network)
        with Session(self._engine) as session, session.begin():
            session.add(row)
            session.add(RevisionRow(network_id=row.id, number=1, note="as created", document=text))
            session.flush()
            return self._stored(session, row)

    def get(self, network_id: str, progress: Progress = unwatched) -> Stored:
        """A network with its documents. Raises UnknownNetwork, UnreadableNetwork."""
        with Session(self._reading) as session:
            row = _row(session, network_id)
            labels = _labels(session, row)
            session.expunge(row)
        return self._read(row, labels, progress)  # a large document takes long: nobody waits for it

    def remove(self, network_id: str, version: int) -> None:
        """Take a network away; for `KEPT_REMOVED` that can be taken back."""
        with Session(self._engine) as session, session.begin():
            session.execute(delete(NetworkRow).where(NetworkRow.removed_at < now() - KEPT_REMOVED))
            _row(session, network_id, version).removed_at = now()

    def bring_back(self, network_id: str) -> Summary:
        """Undo the removal of a network."""
        with Session(self._engine) as session, session.begin():
            row = session.get(NetworkRow, network_id)
            if row is None:
                raise UnknownNetwork(f"there is no network “{network_id}”")
            row.removed_at = None
        return self._summary(network_id)

    def copy(self, network_id: str, name: str, by: str = "") -> Summary:
        """A network like another one, running and draft, with a history of its own."""
        stored = self.get(network_id)
        running, draft = (each.model_copy(update={"name": name}) for each in (stored.running, stored.draft))
        made = self.create(running, by)
        if draft != running:
            with self._changing(made.id, made.version, by) as (session, row):
                self._edited(
                    session, row, "as copied", difference(running, draft), difference(draft, running), draft
                )
        return self._summary(made.id)

    def rename(self, network_id: str, version: int, name: str, by: str = "") -> Stored:
        """Call a network otherwise, running and draft alike."""
        with self._changing(network_id, version, by) as (session, row):
            for column in ("running", "draft"):
                network = self._documents.parsed(getattr(row, column))
                renamed = Network.model_validate({**dict(network), "name": name})
                setattr(row, column, self._documents.text_of(renamed))
            return self._written(session, row)

    def edit(
        self, network_id: str, version: int, label: str, changes: Sequence[Change], by: str = ""
    ) -> Stored:
        """Make `changes` to the draft. Raises DocumentError or ChangeError and keeps the draft as it was."""
        with self._changing(network_id, version, by) as (session, row):
            draft = self._documents.parsed(row.draft)
            after = edited(draft, changes)
            return self._edited(session, row, label, changes, reversed_edit(draft, changes), after)

    def undo(self, network_id: str, version: int, by: str = "") -> Stored:
        """Take back the draft's last edit."""
        with self._changing(network_id, version, by) as (session, row):
            edit = _edit(session, row, row.edits_done)
            if edit is None:
                raise NothingToDo("there is no edit to undo")
            row.edits_done -= 1
            return self._moved(session, row, _changes(edit.backward))

    def redo(self, network_id: str, version: int, by: str = "") -> Stored:
        """Make the draft's next edit again."""
        with self._changing(network_id, version, by) as (session, row):
            edit = _edit(session, row, row.edits_done + 1)
            if edit is None:
                raise NothingToDo("there is no edit to redo")
            row.edits_done += 1
            return self._moved(session, row, _changes(edit.forward))

    def apply(self, network_id: str, version: int, note: str, by: str = "") -> Stored:
        """Put the draft in force, and keep it as a revision."""
        with self._changing(network_id, version, by) as (session, row):
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

    def discard(self, network_id: str, version: int, by: str = "") -> Stored:
        """Make the draft what is running; an edit like any other, so it can be undone."""
        with self._changing(network_id, version, by) as (session, row):
            return self._replaced(session, row, "discard the draft", row.running)

    def restore(self, network_id: str, version: int, number: int, by: str = "") -> Stored:
        """Make the draft what revision `number` was; it can be undone."""
        with self._changing(network_id, version, by) as (session, row):
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
        _describe(row, self._documents.parsed(row.draft))
        session.flush()
        return self._stored(session, row)

    @contextmanager
    def _changing(self, network_id: str, version: int, by: str) -> Iterator[tuple[Session, NetworkRow]]:
        """One transaction on a network as it is in `version`. Raises VersionConflict."""
        self.get(network_id)  # its documents are read before the database is locked
        with Session(self._engine) as session, session.begin():
            row = _row(session, network_id, version)
            row.changed_by = by
            yield session, row

    def _stored(self, session: Session, row: NetworkRow) -> Stored:
        return self._read(row, _labels(session, row), unwatched)

    def _read(self, row: NetworkRow, labels: tuple[str | None, str | None], progress: Progress) -> Stored:
        try:
            running, draft = (
                self._documents.parsed(text, part(progress, number, 2))
                for number, text in enumerate((row.running, row.draft))
            )
        except (DocumentError, ValueError) as error:
            raise UnreadableNetwork(row.id, row.name, str(error)) from error
        return Stored(row.id, row.version, running, draft, *labels)


class _Documents:
    """Documents by their text, so that each is read once; the least used are forgotten."""

    def __init__(self) -> None:
        self._read: LRUCache[str, tuple[Network, int]] = LRUCache(
            MOST_DOCUMENTS, getsizeof=lambda read: min(5 * read[1], MOST_DOCUMENTS // 4)
        )
        self._lock = Lock()
        self._under_way: set[str] = set()
        self._read_one = Condition()

    def parsed(self, text: str, progress: Progress = unwatched) -> Network:
        """The document of a text. Who asks for one that is being read waits, and then finds it read."""
        found = self._found(text)
        if found is not None:
            return found
        with self._read_one:
            while text in self._under_way:
                self._read_one.wait(WATCHED)
                progress(0)
            self._under_way.add(text)
        try:
            found = self._found(text) or read_network(json.loads(text), progress)
            self._keep(text, found)
            return found
        finally:
            with self._read_one:
                self._under_way.discard(text)
                self._read_one.notify_all()

    def text_of(self, network: Network) -> str:
        """The text of a document that is about to be written: it need not be read again."""
        text = _text(network)
        self._keep(text, network)
        return text

    def _found(self, text: str) -> Network | None:
        with self._lock:
            return self._read.get(text, (None, 0))[0]

    def _keep(self, text: str, network: Network) -> None:
        with self._lock:
            self._read[text] = network, len(text)


_TOLD = (
    NetworkRow.id,
    NetworkRow.name,
    NetworkRow.version,
    NetworkRow.changed_at,
    NetworkRow.changed_by,
    NetworkRow.devices,
    NetworkRow.lists,
    NetworkRow.entries,
    NetworkRow.surprises,
    NetworkRow.tried_version,
)


def _describe(row: NetworkRow, network: Network) -> None:
    """Put into a row what is told of its draft without reading it."""
    row.name = network.name
    row.devices, row.lists = len(network.devices), len(network.lists)
    row.entries = sum(len(each.body.entries) for each in network.lists)


def require_network(session: Session, network_id: str) -> None:
    """Raise UnknownNetwork unless there is one with that id."""
    _row(session, network_id)


def _row(session: Session, network_id: str, version: int | None = None) -> NetworkRow:
    row = session.get(NetworkRow, network_id)
    if row is None or row.removed_at is not None:
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
