"""Traffic that was really there, as it was brought in last to each network."""

from sqlalchemy import Engine
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from greyheron.store.database import reading
from greyheron.store.rows import require_network
from greyheron.store.tables import SeenTrafficRow


class SeenTrafficStore:
    """The traffic of the networks in one database, as bytes."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._reading = reading(engine)

    def keep(self, network_id: str, content: bytes) -> None:
        """Put traffic in the place of what was there before."""
        with Session(self._engine) as session, session.begin():
            require_network(session, network_id)
            row = insert(SeenTrafficRow).values(network_id=network_id, content=content)
            session.execute(
                row.on_conflict_do_update(index_elements=["network_id"], set_={"content": content})
            )

    def last(self, network_id: str) -> bytes | None:
        with Session(self._reading) as session:
            row = session.get(SeenTrafficRow, network_id)
            return None if row is None else row.content
