"""The log tells of denials that no entry makes."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("log", sa.Column("denial", sa.String(20)))


def downgrade() -> None:
    op.drop_column("log", "denial")
