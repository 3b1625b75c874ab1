"""The first schema: members, groups, assignments, journal, state, intent."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

from ask_above.store.migrations.columns import member, number, texts, words

revision = "0001"
down_revision = None


def upgrade() -> None:
    """Make the tables."""
    op.create_table(
        "members",
        sa.Column("key", sa.String(200), primary_key=True),
        sa.Column("position", sa.Integer, nullable=False),
        *texts("name", "email"),
        *words(20, "kind", "status"),
        *words(40, "joined"),
        *texts("note"),
    )
    op.create_table(
        "member_groups",
        sa.Column("member", sa.String(200), primary_key=True),
        sa.Column("grp", sa.String(200), primary_key=True),
        sa.Column("position", sa.Integer, nullable=False),
    )
    op.create_table(
        "assignments",
        number(),
        member(),
        *words(200, "rank", "place"),
        *words(40, "since", "until"),
        *words(200, "by"),
        *texts("why"),
        sa.Column("removed", sa.Integer, nullable=True, index=True),
    )
    op.create_table(
        "journal",
        number(),
        *words(40, "at"),
        *words(200, "who"),
        *words(20, "kind"),
        *texts("what", "why"),
        sa.Column("forced", sa.Boolean, nullable=False),
        *texts("effect", "splices", "rows", "needs"),
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
