"""The last rehearsal of each network."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "rehearsal",
        sa.Column(
            "network_id", sa.String(32), sa.ForeignKey("network.id", ondelete="CASCADE"), primary_key=True
        ),
        sa.Column("version", sa.Integer, nullable=False),
        sa.Column("ground", sa.String(64), nullable=False),
        sa.Column("begun_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("report", sa.Text, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("rehearsal")
