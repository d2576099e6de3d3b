"""Results of test flows, as they changed."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "result",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column(
            "network_id", sa.String(32), sa.ForeignKey("network.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("test", sa.String(40), nullable=False),
        sa.Column("flow", sa.String(300), nullable=False),
        sa.Column("version", sa.Integer, nullable=False),
        sa.Column("edit", sa.String(200), nullable=False),
        sa.Column("verdict", sa.String(12), nullable=False),
        sa.Column("text", sa.String(500), nullable=False),
        sa.Column("seen_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("ix_result_network_id", "result", ["network_id"])


def downgrade() -> None:
    op.drop_table("result")
