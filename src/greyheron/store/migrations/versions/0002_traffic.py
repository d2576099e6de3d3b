"""Counters and the log."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def _place() -> list[sa.Column[object]]:
    return [
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column(
            "network_id", sa.String(32), sa.ForeignKey("network.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("device", sa.String(63), nullable=False),
        sa.Column("at", sa.String(32), nullable=False),
        sa.Column("direction", sa.String(3), nullable=False),
        sa.Column("list", sa.String(63), nullable=False),
        sa.Column("entry", sa.Integer, nullable=False),
        sa.Column("packets", sa.Integer, nullable=False),
    ]


def upgrade() -> None:
    op.create_table(
        "counter",
        *_place(),
        sa.UniqueConstraint(
            "network_id", "device", "at", "direction", "list", "entry", name="uq_counter_network_id"
        ),
    )
    op.create_table(
        "log",
        *_place(),
        sa.Column("written_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("action", sa.String(6), nullable=False),
        sa.Column("protocol", sa.String(60), nullable=False),
        sa.Column("source", sa.String(60), nullable=False),
        sa.Column("destination", sa.String(60), nullable=False),
    )
    op.create_index("ix_log_network_id", "log", ["network_id"])


def downgrade() -> None:
    for table in ("log", "counter"):
        op.drop_table(table)
