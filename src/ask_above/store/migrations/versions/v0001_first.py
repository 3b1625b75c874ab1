"""The first schema: members, groups, assignments, journal, state, intent."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    """Make the tables."""
    op.create_table(
        "members",
        sa.Column("key", sa.String(200), primary_key=True),
        sa.Column("position", sa.Integer, nullable=False),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("email", sa.Text, nullable=False),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("status", sa.String(20), nullable=False),
        sa.Column("joined", sa.String(40), nullable=False),
        sa.Column("note", sa.Text, nullable=False),
    )
    op.create_table(
        "member_groups",
        sa.Column("member", sa.String(200), primary_key=True),
        sa.Column("grp", sa.String(200), primary_key=True),
        sa.Column("position", sa.Integer, nullable=False),
    )
    op.create_table(
        "assignments",
        sa.Column("number", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("member", sa.String(200), nullable=False, index=True),
        sa.Column("rank", sa.String(200), nullable=False),
        sa.Column("place", sa.String(200), nullable=False),
        sa.Column("since", sa.String(40), nullable=False),
        sa.Column("until", sa.String(40), nullable=False),
        sa.Column("by", sa.String(200), nullable=False),
        sa.Column("why", sa.Text, nullable=False),
        sa.Column("removed", sa.Integer, nullable=True, index=True),
    )
    op.create_table(
        "journal",
        sa.Column("number", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("at", sa.String(40), nullable=False),
        sa.Column("who", sa.String(200), nullable=False),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("what", sa.Text, nullable=False),
        sa.Column("why", sa.Text, nullable=False),
        sa.Column("forced", sa.Boolean, nullable=False),
        sa.Column("effect", sa.Text, nullable=False),
        sa.Column("splices", sa.Text, nullable=False),
        sa.Column("rows", sa.Text, nullable=False),
        sa.Column("needs", sa.Text, nullable=False),
        sa.Column("undoes", sa.Integer, nullable=True),
        sa.Column("undone_by", sa.Integer, nullable=True),
    )
    op.create_table(
        "state", sa.Column("name", sa.String(40), primary_key=True), sa.Column("value", sa.Text, nullable=False)
    )
    op.create_table(
        "intent",
        sa.Column("journal", sa.Integer, primary_key=True, autoincrement=False),
        sa.Column("files", sa.Text, nullable=False),
        sa.Column("letters", sa.Text, nullable=False),
    )
