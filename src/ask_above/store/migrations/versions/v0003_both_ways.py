"""What files have held, notes with their dates and authors, and the charter as it was read."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

from ask_above.store.migrations.columns import member, number, texts, words

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    """Make the tables; what files held so far is worked out from the journal afterwards."""
    op.create_table(
        "known_files",
        sa.Column("name", sa.String(200), primary_key=True),
        sa.Column("digest", sa.String(64), primary_key=True),
        sa.Column("number", sa.Integer, nullable=False),
    )
    op.create_table("notes", number(), member(), *words(40, "at"), *words(200, "by"), *texts("text"))
    op.create_table(
        "compiled",
        sa.Column("digest", sa.String(64), primary_key=True),
        sa.Column("content", sa.LargeBinary, nullable=False),
    )
