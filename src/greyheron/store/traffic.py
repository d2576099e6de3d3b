"""Counters and the log: what sent flows left at the lists they met."""

from dataclasses import dataclass
from datetime import UTC, datetime

from msgspec import Struct
from sqlalchemy import Engine, delete, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from greyheron.analysis.testing.sending import CountedAt, LogLine, Sending
from greyheron.model.values import Action, Direction, Logged
from greyheron.store.database import reading
from greyheron.store.rows import require_network
from greyheron.store.tables import CounterRow, LogRow, now

MOST_LINES = 500
_IMPLICIT = 0


@dataclass(frozen=True, slots=True)
class Count:
    place: CountedAt
    packets: int


@dataclass(frozen=True, slots=True)
class Written:
    """A line of the log and when it was written."""

    at: datetime
    line: LogLine


class Wanted(Struct, frozen=True):
    """Which lines to read; None for any."""

    device: str | None = None
    list: str | None = None
    action: Action | None = None
    text: str | None = None


class TrafficStore:
    """The counters and logs of the networks in one database."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._reading = reading(engine)

    def add(self, network_id: str, sending: Sending) -> None:
        """Count and log what was sent, in one transaction."""
        with Session(self._engine) as session, session.begin():
            require_network(session, network_id)
            for place, packets in sending.counts.items():
                row = insert(CounterRow).values(network_id=network_id, packets=packets, **_columns(place))
                session.execute(
                    row.on_conflict_do_update(
                        index_elements=["network_id", "device", "at", "direction", "list", "entry"],
                        set_={"packets": CounterRow.packets + packets},
                    )
                )
            for line in sending.lines:
                session.add(
                    LogRow(
                        network_id=network_id,
                        written_at=now(),
                        action=line.action.value,
                        protocol=line.protocol,
                        source=line.source,
                        destination=line.destination,
                        packets=line.count,
                        denial=None if line.denial is None else line.denial.value,
                        **_columns(line.place),
                    )
                )

    def counts(self, network_id: str) -> list[Count]:
        """Every counter that is not zero."""
        with Session(self._reading) as session:
            require_network(session, network_id)
            rows = session.scalars(
                select(CounterRow).where(CounterRow.network_id == network_id).order_by(CounterRow.id)
            )
            return [Count(_place(row), row.packets) for row in rows]

    def log(self, network_id: str, wanted: Wanted) -> list[Written]:
        """The newest lines that are wanted, at most `MOST_LINES`, newest first."""
        query = select(LogRow).where(LogRow.network_id == network_id).order_by(LogRow.id.desc())
        for column, value in (
            (LogRow.device, wanted.device),
            (LogRow.list, wanted.list),
            (LogRow.action, wanted.action),
        ):
            if value is not None:
                query = query.where(column == value)
        if wanted.text:
            query = query.where(
                (LogRow.source + " " + LogRow.destination + " " + LogRow.protocol).contains(
                    wanted.text, autoescape=True
                )
            )
        with Session(self._reading) as session:
            require_network(session, network_id)
            return [
                Written(
                    row.written_at.replace(tzinfo=UTC),
                    LogLine(
                        _place(row),
                        Action(row.action),
                        row.protocol,
                        row.source,
                        row.destination,
                        row.packets,
                        None if row.denial is None else Logged(row.denial),
                    ),
                )
                for row in session.scalars(query.limit(MOST_LINES))
            ]

    def reset(self, network_id: str) -> None:
        """Set every counter to zero and empty the log."""
        with Session(self._engine) as session, session.begin():
            require_network(session, network_id)
            for table in (CounterRow, LogRow):
                session.execute(delete(table).where(table.network_id == network_id))


def _columns(place: CountedAt) -> dict[str, str | int]:
    return {
        "device": place.device,
        "at": place.at,
        "direction": place.direction.value,
        "list": place.list,
        "entry": place.entry or _IMPLICIT,
    }


def _place(row: CounterRow | LogRow) -> CountedAt:
    return CountedAt(row.device, row.at, Direction(row.direction), row.list, row.entry or None)
