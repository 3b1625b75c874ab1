"""What other programs know members by, the status before a lock, and who outside holds an assignment."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"

_ADDED = (
    ("members", "id", sa.String(64)),
    ("members", "user_name", sa.Text()),
    ("members", "external_id", sa.Text()),
    ("members", "was", sa.String(20)),
    ("member_groups", "source", sa.String(200)),
    ("assignments", "source", sa.String(200)),
)


def upgrade() -> None:
    """Add the columns, empty where nothing is known."""
    for table, name, kind in _ADDED:
        op.add_column(table, sa.Column(name, kind, nullable=False, server_default=""))
