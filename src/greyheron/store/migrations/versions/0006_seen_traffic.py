"""Traffic that was really there, of each network."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "seen_traffic",
        sa.Column(
            "network_id", sa.String(32), sa.ForeignKey("network.id", ondelete="CASCADE"), primary_key=True
        ),
        sa.Column("content", sa.LargeBinary, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("seen_traffic")
