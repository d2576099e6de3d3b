"""The tables: networks, the edits made to their drafts, and the revisions to go back to."""

from datetime import UTC, datetime

from sqlalchemy import DateTime, ForeignKey, LargeBinary, MetaData, String, Text, UniqueConstraint
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


def now() -> datetime:
    return datetime.now(UTC).replace(microsecond=0)


class Base(DeclarativeBase):
    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(table_name)s_%(column_0_name)s",
            "uq": "uq_%(table_name)s_%(column_0_name)s",
            "fk": "fk_%(table_name)s_%(column_0_name)s",
            "pk": "pk_%(table_name)s",
        }
    )


class NetworkRow(Base):
    """A network, with a version that every write raises by one.

    edits_written:  how many of them are in the draft as it was written last
    edits_done:  how many of its edits, in order, have been made; later ones can be redone
    devices, lists, entries:  how many the draft has
    surprises:  how many test flows did not do what is expected in `tried_version`; None before any was tried
    removed_at:  when it was removed, while that can be taken back
    """

    __tablename__ = "network"

    id: Mapped[str] = mapped_column(String(32), primary_key=True)
    name: Mapped[str] = mapped_column(String(80))
    version: Mapped[int] = mapped_column(default=1)
    edits_done: Mapped[int] = mapped_column(default=0)
    edits_written: Mapped[int] = mapped_column(default=0)
    changed_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)
    changed_by: Mapped[str] = mapped_column(String(80), default="")
    devices: Mapped[int] = mapped_column(default=0)
    lists: Mapped[int] = mapped_column(default=0)
    entries: Mapped[int] = mapped_column(default=0)
    surprises: Mapped[int | None] = mapped_column(default=None)
    tried_version: Mapped[int | None] = mapped_column(default=None)
    removed_at: Mapped[datetime | None] = mapped_column(DateTime(timezone=True), default=None)


class DocumentsRow(Base):
    """The texts of a network, apart from what every write changes: what is running, and the draft.

    draft:  as it was after `edits_written` of its edits
    """

    __tablename__ = "documents"

    network_id: Mapped[str] = mapped_column(ForeignKey("network.id", ondelete="CASCADE"), primary_key=True)
    running: Mapped[str] = mapped_column(Text)
    draft: Mapped[str] = mapped_column(Text)


class EditRow(Base):
    """One edit of a draft: the changes that made it, and those that take it back."""

    __tablename__ = "edit"
    __table_args__ = (UniqueConstraint("network_id", "number"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    network_id: Mapped[str] = mapped_column(ForeignKey("network.id", ondelete="CASCADE"))
    number: Mapped[int]
    label: Mapped[str] = mapped_column(String(200))
    forward: Mapped[str] = mapped_column(Text)
    backward: Mapped[str] = mapped_column(Text)
    made_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)


class RevisionRow(Base):
    """What was running from one apply to the next."""

    __tablename__ = "revision"
    __table_args__ = (UniqueConstraint("network_id", "number"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    network_id: Mapped[str] = mapped_column(ForeignKey("network.id", ondelete="CASCADE"))
    number: Mapped[int]
    note: Mapped[str] = mapped_column(String(2000), default="")
    document: Mapped[str] = mapped_column(Text)
    applied_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)


class CounterRow(Base):
    """Packets that one entry of a list decided about at one placement; entry 0 is the implicit end."""

    __tablename__ = "counter"
    __table_args__ = (UniqueConstraint("network_id", "device", "at", "direction", "list", "entry"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    network_id: Mapped[str] = mapped_column(ForeignKey("network.id", ondelete="CASCADE"))
    device: Mapped[str] = mapped_column(String(63))
    at: Mapped[str] = mapped_column(String(32))
    direction: Mapped[str] = mapped_column(String(3))
    list: Mapped[str] = mapped_column(String(63))
    entry: Mapped[int]
    packets: Mapped[int]


class LogRow(Base):
    """One line of the log.

    list:  empty where no list decided;  denial:  what kind of denial it is where no entry decided
    """

    __tablename__ = "log"

    id: Mapped[int] = mapped_column(primary_key=True)
    network_id: Mapped[str] = mapped_column(ForeignKey("network.id", ondelete="CASCADE"), index=True)
    written_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)
    device: Mapped[str] = mapped_column(String(63))
    at: Mapped[str] = mapped_column(String(32))
    direction: Mapped[str] = mapped_column(String(3))
    list: Mapped[str] = mapped_column(String(63))
    entry: Mapped[int]
    action: Mapped[str] = mapped_column(String(6))
    protocol: Mapped[str] = mapped_column(String(60))
    source: Mapped[str] = mapped_column(String(60))
    destination: Mapped[str] = mapped_column(String(60))
    packets: Mapped[int]
    denial: Mapped[str | None] = mapped_column(String(20))


class ResultRow(Base):
    """What a test flow came to on the draft, from one version until it came to something else.

    edit:  what the draft's latest edit was called then;  verdict:  empty when it could not be tried
    """

    __tablename__ = "result"

    id: Mapped[int] = mapped_column(primary_key=True)
    network_id: Mapped[str] = mapped_column(ForeignKey("network.id", ondelete="CASCADE"), index=True)
    test: Mapped[str] = mapped_column(String(40))
    flow: Mapped[str] = mapped_column(String(300))
    version: Mapped[int]
    edit: Mapped[str] = mapped_column(String(200))
    verdict: Mapped[str] = mapped_column(String(12))
    text: Mapped[str] = mapped_column(String(500))
    seen_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)


class RehearsalRow(Base):
    """The last rehearsal of a draft: its version, a digest of what the result rests on, and what was seen."""

    __tablename__ = "rehearsal"

    network_id: Mapped[str] = mapped_column(ForeignKey("network.id", ondelete="CASCADE"), primary_key=True)
    version: Mapped[int]
    ground: Mapped[str] = mapped_column(String(64))
    begun_at: Mapped[datetime] = mapped_column(DateTime(timezone=True))
    report: Mapped[str] = mapped_column(Text)


class SeenTrafficRow(Base):
    """Traffic that was really there, folded: what `analysis.traffic.packing` makes of it."""

    __tablename__ = "seen_traffic"

    network_id: Mapped[str] = mapped_column(ForeignKey("network.id", ondelete="CASCADE"), primary_key=True)
    content: Mapped[bytes] = mapped_column(LargeBinary)
