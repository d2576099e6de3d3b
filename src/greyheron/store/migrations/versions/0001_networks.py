"""Networks, edits and revisions."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "network",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("version", sa.Integer, nullable=False),
        sa.Column("running", sa.Text, nullable=False),
        sa.Column("draft", sa.Text, nullable=False),
        sa.Column("edits_done", sa.Integer, nullable=False),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_table(
        "edit",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column(
            "network_id", sa.String(32), sa.ForeignKey("network.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("label", sa.String(200), nullable=False),
        sa.Column("forward", sa.Text, nullable=False),
        sa.Column("backward", sa.Text, nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.UniqueConstraint("network_id", "number", name="uq_edit_network_id"),
    )
    op.create_table(
        "revision",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column(
            "network_id", sa.String(32), sa.ForeignKey("network.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("note", sa.String(2000), nullable=False),
        sa.Column("document", sa.Text, nullable=False),
        sa.Column("applied_at", sa.DateTime(timezone=True), nullable=False),
        sa.UniqueConstraint("network_id", "number", name="uq_revision_network_id"),
    )


def downgrade() -> None:
    for table in ("revision", "edit", "network"):
        op.drop_table(table)
