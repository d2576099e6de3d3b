"""Networks in the database: every write in one transaction, based on a stated version."""

import json
import secrets
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import timedelta
from threading import Lock

from cachetools import LRUCache
from sqlalchemy import Engine, delete, func, select
from sqlalchemy.orm import Session

from greyheron.core.progress import Progress, part, unwatched
from greyheron.model.changes import Change, ChangeError, apply, difference, reversed_edit
from greyheron.model.document import Network
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.read import edited, read_what_reads
from greyheron.store.database import reading
from greyheron.store.documents import MOST_DOCUMENTS, Documents, changes_of, changes_text, size_of
from greyheron.store.errors import NothingToDo, UnknownNetwork, UnreadableNetwork
from greyheron.store.readable import require_readable
from greyheron.store.rows import AsWritten, describe, edit_row, in_utc, labels_of, network_row, revision_row
from greyheron.store.stored import Revision, Stored, Summary
from greyheron.store.tables import DocumentsRow, EditRow, NetworkRow, RevisionRow, now

MOST_REMADE = 64
"""So many edits at most are made again when a network is read."""
KEPT_REMOVED = timedelta(days=30)


class NetworkStore:
    """The networks in one database. Safe to share between threads."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._reading = reading(engine)
        self._documents = Documents()
        self._stored: LRUCache[tuple[str, int], Stored] = LRUCache(
            MOST_DOCUMENTS, getsizeof=lambda stored: min(size_of(stored.draft), MOST_DOCUMENTS // 4)
        )
        self._lock = Lock()

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
                    in_utc(row.changed_at),
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
        """Keep a new network, running and draft alike. Raises DocumentError. `by`: who makes it."""
        require_readable(network)
        with Session(self._engine) as session, session.begin():
            made = self._inserted(session, network, by).before
        return self._remember(made)

    def _inserted(self, session: Session, network: Network, by: str) -> "_Transaction":
        """A new network in a transaction that is under way, which may go on with it."""
        text = self._documents.text_of(network)
        row = NetworkRow(id=secrets.token_hex(6), changed_by=by)
        describe(row, network)
        session.add(row)
        session.flush()
        session.add(DocumentsRow(network_id=row.id, running=text, draft=text))
        session.add(RevisionRow(network_id=row.id, number=1, note="as created", document=text))
        session.flush()
        return _Transaction(session, row, Stored(row.id, row.version, network, network, None, None))

    def get(self, network_id: str, progress: Progress = unwatched) -> Stored:
        """A network with its documents. Raises UnknownNetwork, UnreadableNetwork."""
        with Session(self._reading) as session:
            row = network_row(session, network_id)
            known = self._known(row)
            if known is not None:
                return known
            kept = AsWritten.of(session, row)
        return self._remember(self._read(kept, progress))  # takes long where it is large: nobody waits for it

    def as_written(self, network_id: str) -> AsWritten:
        """What is kept of a network, whether it reads or not. Raises UnknownNetwork."""
        with Session(self._reading) as session:
            return AsWritten.of(session, network_row(session, network_id))

    def what_reads(self, network_id: str) -> tuple[Network, list[Problem]]:
        """What reads of a network's draft, and what does not. Raises UnknownNetwork, DocumentError."""
        kept = self.as_written(network_id)
        try:
            network, problems = read_what_reads(json.loads(kept.draft))
        except json.JSONDecodeError as error:
            raise DocumentError(
                [Problem(f"what is kept of {kept.name}", f"it is no JSON: {error}")]
            ) from None
        for number, text in enumerate(kept.since):
            try:
                network = edited(network, changes_of(text))
            except (ValueError, ChangeError) as error:
                left = len(kept.since) - number
                problems.append(Problem("edits", f"the last {left} do not fit what reads: {error}"))
                break
        return network, problems

    def remove(self, network_id: str, version: int) -> None:
        """Take a network away; for `KEPT_REMOVED` that can be taken back."""
        with Session(self._engine) as session, session.begin():
            session.execute(delete(NetworkRow).where(NetworkRow.removed_at < now() - KEPT_REMOVED))
            network_row(session, network_id, version).removed_at = now()

    def bring_back(self, network_id: str) -> Summary:
        """Undo the removal of a network. Raises UnknownNetwork."""
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
        for each in (running, draft):
            require_readable(each)
        with Session(self._engine) as session, session.begin():
            writing = self._inserted(session, running, by)
            made = writing.before
            if draft != running:
                self._edited(
                    writing, "as copied", difference(running, draft), difference(draft, running), draft
                )
                made = writing.done()
        self._remember(made)
        return self._summary(made.id)

    def rename(self, network_id: str, version: int, name: str, by: str = "") -> Stored:
        """Rename a network, running and draft alike."""
        with self._changing(network_id, version, by) as writing:
            before = writing.before
            running, draft = (
                Network.model_validate({**dict(each), "name": name})
                for each in (before.running, before.draft)
            )
            self._write_whole(writing, draft).running = self._documents.text_of(running)
            self._written(writing, running, draft)
        return writing.done()

    def edit(
        self, network_id: str, version: int, label: str, changes: Sequence[Change], by: str = ""
    ) -> Stored:
        """Make `changes` to the draft. Raises DocumentError or ChangeError and keeps the draft as it was."""
        with self._changing(network_id, version, by) as writing:
            draft = writing.before.draft
            after = edited(draft, changes)
            self._edited(writing, label, changes, reversed_edit(draft, changes), after)
        return writing.done()

    def undo(self, network_id: str, version: int, by: str = "") -> Stored:
        """Take back the draft's last edit. Raises NothingToDo."""
        with self._changing(network_id, version, by) as writing:
            edit = edit_row(writing.session, writing.row, writing.row.edits_done)
            if edit is None:
                raise NothingToDo("there is no edit to undo")
            writing.row.edits_done -= 1
            self._moved(writing, changes_of(edit.backward))
        return writing.done()

    def redo(self, network_id: str, version: int, by: str = "") -> Stored:
        """Make the draft's next edit again. Raises NothingToDo."""
        with self._changing(network_id, version, by) as writing:
            edit = edit_row(writing.session, writing.row, writing.row.edits_done + 1)
            if edit is None:
                raise NothingToDo("there is no edit to redo")
            writing.row.edits_done += 1
            self._moved(writing, changes_of(edit.forward))
        return writing.done()

    def apply(self, network_id: str, version: int, note: str, by: str = "") -> Stored:
        """Put the draft in force, and keep it as a revision. Raises NothingToDo."""
        with self._changing(network_id, version, by) as writing:
            draft = writing.before.draft
            if writing.before.running == draft:
                raise NothingToDo("the draft is the same as what is running")
            written = self._write_whole(writing, draft)
            written.running = written.draft
            last = writing.session.scalar(
                select(func.max(RevisionRow.number)).where(RevisionRow.network_id == network_id)
            )
            writing.session.add(
                RevisionRow(network_id=network_id, number=(last or 0) + 1, note=note, document=written.draft)
            )
            self._written(writing, draft, draft)
        return writing.done()

    def discard(self, network_id: str, version: int, by: str = "") -> Stored:
        """Make the draft what is running; an edit like any other, so it can be undone."""
        with self._changing(network_id, version, by) as writing:
            self._replaced(writing, "discard the draft", writing.before.running)
        return writing.done()

    def restore(self, network_id: str, version: int, number: int, by: str = "") -> Stored:
        """Make the draft what revision `number` was; it can be undone."""
        with self._changing(network_id, version, by) as writing:
            revision = revision_row(writing.session, network_id, number)
            after = self._documents.parsed(revision.document)
            self._replaced(writing, f"go back to revision {number}", after)
        return writing.done()

    def revisions(self, network_id: str) -> list[Revision]:
        """Every revision, newest first."""
        with Session(self._reading) as session:
            network_row(session, network_id)
            rows = session.scalars(
                select(RevisionRow)
                .where(RevisionRow.network_id == network_id)
                .order_by(RevisionRow.number.desc())
            )
            return [Revision(row.number, row.note, in_utc(row.applied_at)) for row in rows]

    def revision(self, network_id: str, number: int) -> Network:
        """What was in force as revision `number`. Raises UnknownNetwork and UnknownRevision."""
        with Session(self._reading) as session:
            network_row(session, network_id)
            return self._documents.parsed(revision_row(session, network_id, number).document)

    def _replaced(self, writing: "_Transaction", label: str, after: Network) -> None:
        before = writing.before.draft
        changes = difference(before, after)
        if not changes:
            raise NothingToDo("the draft is the same already")
        self._edited(writing, label, changes, difference(after, before), after)

    def _edited(
        self,
        writing: "_Transaction",
        label: str,
        forward: Sequence[Change],
        backward: Sequence[Change],
        after: Network,
    ) -> None:
        """Record an edit and its way back; edits that had been undone are gone.

        The draft is written as a whole only now and then: what was edited since is made to it again.
        """
        session, row = writing.session, writing.row
        session.execute(delete(EditRow).where(EditRow.network_id == row.id, EditRow.number > row.edits_done))
        forgotten = row.edits_written > row.edits_done
        row.edits_done += 1
        session.add(
            EditRow(
                network_id=row.id,
                number=row.edits_done,
                label=label,
                forward=changes_text(forward),
                backward=changes_text(backward),
            )
        )
        if forgotten or row.edits_done - row.edits_written >= MOST_REMADE:
            self._write_whole(writing, after)
        self._written(writing, writing.before.running, after)

    def _moved(self, writing: "_Transaction", changes: Sequence[Change]) -> None:
        self._written(writing, writing.before.running, apply(writing.before.draft, changes))

    def _write_whole(self, writing: "_Transaction", draft: Network) -> DocumentsRow:
        """Write the text of the draft."""
        documents = writing.session.get_one(DocumentsRow, writing.row.id)
        documents.draft, writing.row.edits_written = self._documents.text_of(draft), writing.row.edits_done
        return documents

    def _written(self, writing: "_Transaction", running: Network, draft: Network) -> None:
        for document in (running, draft):
            require_readable(document, writing.before.running, writing.before.draft)
        row = writing.row
        row.version += 1
        row.changed_at = now()
        describe(row, draft)
        writing.session.flush()
        writing.made = Stored(row.id, row.version, running, draft, *labels_of(writing.session, row))

    @contextmanager
    def _changing(self, network_id: str, version: int, by: str) -> Iterator["_Transaction"]:
        """One transaction on a network as it is in `version`. Raises VersionConflict."""
        before = self.get(network_id)  # its documents are read before the database is locked
        with Session(self._engine) as session, session.begin():
            row = network_row(session, network_id, version)
            if before.version != version:  # somebody else was faster, and is who this is based on
                before = self._read(AsWritten.of(session, row), unwatched)
            row.changed_by = by
            writing = _Transaction(session, row, before)
            yield writing
        self._remember(writing.done())

    def _known(self, row: NetworkRow) -> Stored | None:
        with self._lock:
            return self._stored.get((row.id, row.version))

    def _remember(self, stored: Stored) -> Stored:
        """Keep what is in the database by now, so that it need not be read."""
        with self._lock:
            return self._stored.setdefault((stored.id, stored.version), stored)

    def _read(self, kept: AsWritten, progress: Progress) -> Stored:
        try:
            running, draft = (
                self._documents.parsed(text, part(progress, number, 2))
                for number, text in enumerate((kept.running, kept.draft))
            )
            draft = apply(draft, [change for text in kept.since for change in changes_of(text)])
        except (DocumentError, ValueError) as error:
            raise UnreadableNetwork(kept.id, kept.name, str(error)) from error
        return Stored(kept.id, kept.version, running, draft, *kept.labels)


@dataclass(slots=True)
class _Transaction:
    """A write under way: what it is based on, and what it came to."""

    session: Session
    row: NetworkRow
    before: Stored
    made: Stored | None = None

    def done(self) -> Stored:
        assert self.made is not None
        return self.made


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
