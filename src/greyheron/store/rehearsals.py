"""The last rehearsal of each network: what was seen, and of which draft."""

from datetime import UTC, datetime

from msgspec import Struct
from sqlalchemy import Engine
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from greyheron.store.database import reading
from greyheron.store.rows import require_network
from greyheron.store.tables import RehearsalRow


class KeptRehearsal(Struct, frozen=True):
    """A rehearsal of a draft.

    version:  the draft's then;  ground:  a digest of what its result rests on
    begun_at:  when it began;  report:  what was seen, as JSON
    """

    version: int
    ground: str
    begun_at: datetime
    report: str


class RehearsalStore:
    """The last rehearsals of the networks in one database."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._reading = reading(engine)

    def keep(self, network_id: str, rehearsal: KeptRehearsal) -> None:
        """Put a rehearsal in the place of the one before."""
        values = {
            "version": rehearsal.version,
            "ground": rehearsal.ground,
            "begun_at": rehearsal.begun_at,
            "report": rehearsal.report,
        }
        with Session(self._engine) as session, session.begin():
            require_network(session, network_id)
            row = insert(RehearsalRow).values(network_id=network_id, **values)
            session.execute(row.on_conflict_do_update(index_elements=["network_id"], set_=values))

    def last(self, network_id: str) -> KeptRehearsal | None:
        with Session(self._reading) as session:
            row = session.get(RehearsalRow, network_id)
            if row is None:
                return None
            return KeptRehearsal(row.version, row.ground, row.begun_at.replace(tzinfo=UTC), row.report)
