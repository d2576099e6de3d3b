"""What the start page says of a network: its size, who changed it, surprises, and whether it was removed."""

import json
from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("network") as table:
        table.add_column(sa.Column("changed_by", sa.String(80), nullable=False, server_default=""))
        table.add_column(sa.Column("devices", sa.Integer, nullable=False, server_default="0"))
        table.add_column(sa.Column("lists", sa.Integer, nullable=False, server_default="0"))
        table.add_column(sa.Column("entries", sa.Integer, nullable=False, server_default="0"))
        table.add_column(sa.Column("surprises", sa.Integer, nullable=True))
        table.add_column(sa.Column("tried_version", sa.Integer, nullable=True))
        table.add_column(sa.Column("removed_at", sa.DateTime(timezone=True), nullable=True))
    connection = op.get_bind()
    for network_id, text in connection.execute(sa.text("SELECT id, draft FROM network")).all():
        connection.execute(
            sa.text(
                "UPDATE network SET devices = :devices, lists = :lists, entries = :entries WHERE id = :id"
            ),
            {"id": network_id, **_sizes(text)},
        )


def _sizes(text: str) -> dict[str, int]:
    """As the store counts them; nothing of a document that cannot be read."""
    try:
        document: dict[str, Any] = json.loads(text)
        lists = document.get("lists", [])
        lines = [line for each in lists for line in str(each.get("entries", "")).splitlines()]
        entries = sum(bool(line.strip()) and not line.lstrip().startswith("#") for line in lines)
        return {"devices": len(document.get("devices", [])), "lists": len(lists), "entries": entries}
    except (ValueError, AttributeError, TypeError):
        return {"devices": 0, "lists": 0, "entries": 0}


def downgrade() -> None:
    with op.batch_alter_table("network") as table:
        for name in ("changed_by", "devices", "lists", "entries", "surprises", "tried_version", "removed_at"):
            table.drop_column(name)
