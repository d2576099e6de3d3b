"""Texts of networks by themselves: drafts as they were written last, and the edits since."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "documents",
        sa.Column(
            "network_id", sa.String(32), sa.ForeignKey("network.id", ondelete="CASCADE"), primary_key=True
        ),
        sa.Column("running", sa.Text, nullable=False),
        sa.Column("draft", sa.Text, nullable=False),
    )
    op.execute("INSERT INTO documents SELECT id, running, draft FROM network")
    op.drop_column("network", "running")
    op.drop_column("network", "draft")
    op.add_column("network", sa.Column("edits_written", sa.Integer, nullable=False, server_default="0"))
    op.execute("UPDATE network SET edits_written = edits_done")


def downgrade() -> None:
    op.add_column("network", sa.Column("running", sa.Text, nullable=False, server_default=""))
    op.add_column("network", sa.Column("draft", sa.Text, nullable=False, server_default=""))
    op.execute(
        "UPDATE network SET (running, draft) = "
        "(SELECT running, draft FROM documents WHERE network_id = network.id), edits_done = edits_written"
    )
    op.drop_column("network", "edits_written")
    op.drop_table("documents")
