"""Results of test flows over time: since when does this fail?"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from cachetools import LRUCache
from sqlalchemy import Engine, func, select
from sqlalchemy.orm import Session

from greyheron.analysis.testing.book import TestMarks
from greyheron.store.database import reading
from greyheron.store.rows import require_network
from greyheron.store.stored import Stored
from greyheron.store.tables import NetworkRow, ResultRow, now

MOST_RESULTS = 50


@dataclass(frozen=True, slots=True)
class PastResult:
    """What a test flow came to from a version on.

    edit:  what the draft's latest edit was called;  verdict:  None when the flow could not be tried
    """

    version: int
    at: datetime
    edit: str
    flow: str
    verdict: str | None
    text: str


MOST_SEEN = 1000
"""Of so many networks it is known which version was recorded last, without asking the database."""


class ResultStore:
    """The results of the networks in one database: a row whenever a test flow comes to something else."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._reading = reading(engine)
        self._seen: LRUCache[str, int] = LRUCache(MOST_SEEN)

    def record(self, stored: Stored, marks: Sequence[TestMarks]) -> None:
        """Keep what the draft's test flows come to in this version, as far as it is news."""
        if self._seen.get(stored.id, -1) >= stored.version:
            return
        with Session(self._engine) as session, session.begin():
            latest = (
                select(func.max(ResultRow.id))
                .where(ResultRow.network_id == stored.id)
                .group_by(ResultRow.test)
            )
            rows = session.scalars(select(ResultRow).where(ResultRow.id.in_(latest)))
            known = {row.test: (row.flow, row.verdict) for row in rows}
            for mark in marks:
                verdict = mark.draft.verdict.value if mark.draft.verdict else ""
                if known.get(mark.id) != (mark.flow, verdict):
                    session.add(
                        ResultRow(
                            network_id=stored.id,
                            test=mark.id,
                            flow=mark.flow,
                            version=stored.version,
                            edit=stored.undo or "",
                            verdict=verdict,
                            text=mark.draft.text[:500],
                            seen_at=now(),
                        )
                    )
            row = session.get(NetworkRow, stored.id)
            if row is not None and row.version == stored.version:
                row.surprises, row.tried_version = sum(mark.surprises for mark in marks), stored.version
        self._seen[stored.id] = stored.version

    def history(self, network_id: str, test: str) -> list[PastResult]:
        """What a test flow came to, newest first, at most `MOST_RESULTS`."""
        with Session(self._reading) as session:
            require_network(session, network_id)
            rows = session.scalars(
                select(ResultRow)
                .where(ResultRow.network_id == network_id, ResultRow.test == test)
                .order_by(ResultRow.id.desc())
                .limit(MOST_RESULTS)
            )
            return [
                PastResult(
                    row.version,
                    row.seen_at.replace(tzinfo=UTC),
                    row.edit,
                    row.flow,
                    row.verdict or None,
                    row.text,
                )
                for row in rows
            ]
