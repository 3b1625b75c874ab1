"""Tokens of those who may speak to a service, and what others know groups by."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    """Make the tables."""
    op.create_table(
        "tokens",
        sa.Column("name", sa.String(200), primary_key=True),
        sa.Column("digest", sa.String(64), nullable=False, unique=True),
        sa.Column("member", sa.String(200), nullable=False),
        sa.Column("may", sa.String(20), nullable=False),
        sa.Column("made", sa.String(40), nullable=False),
        sa.Column("until", sa.String(40), nullable=False),
    )
    op.create_table(
        "group_numbers",
        sa.Column("key", sa.String(200), primary_key=True),
        sa.Column("number", sa.Text, nullable=False),
    )
