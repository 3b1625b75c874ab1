"""What was last written into each folder's files, who made a change by name, and what an edit by hand undoes."""

from __future__ import annotations

import hashlib
import json

import sqlalchemy as sa
from alembic import op

from ask_above.store.migrations.columns import words

revision = "0005"
down_revision = "0004"

_REGISTER = ("members.csv", "assignments.csv")
_ADDED = (("members", "phone", ""), ("journal", "name", ""), ("journal", "reverts", "[]"))


def upgrade() -> None:
    """Make the table and fill it for the database's own folder; the digests of every older text go."""
    for table, name, default in _ADDED:
        op.add_column(table, sa.Column(name, sa.Text(), nullable=False, server_default=default))
    op.create_table(
        "folder_files",
        sa.Column("folder", sa.String(64), primary_key=True),
        sa.Column("name", sa.String(200), primary_key=True),
        *words(64, "digest", "before"),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("placed", sa.Boolean, nullable=False),
    )
    _fill(op.get_bind())
    op.drop_table("known_files")


def _fill(connection: sa.Connection) -> None:
    last = connection.execute(sa.text("SELECT max(number) FROM journal")).scalar()
    if last is None:
        return
    texts = json.loads(connection.execute(sa.text("SELECT value FROM state WHERE name = 'files'")).scalar() or "{}")
    known: dict[str, list[tuple[str, int]]] = {}
    for name, digest, number in connection.execute(
        sa.text("SELECT name, digest, number FROM known_files ORDER BY number DESC")
    ):
        known.setdefault(name, []).append((digest, number))
    for name in (*texts, *_REGISTER):
        older = known.get(name, [])
        # the first versions noted nothing of the register's files, which were old by then whatever they held
        digest, number = older[0] if older else ("*", last)
        if name in texts:
            digest, number = hashlib.blake2b(texts[name].encode(), digest_size=24).hexdigest(), last
        before = next((other for other, _ in older if other != digest), "")
        values = {"name": name, "digest": digest, "before": before, "number": number, "placed": False}
        connection.execute(
            sa.text(
                "INSERT INTO folder_files (folder, name, digest, before, number, placed) "
                "VALUES ('', :name, :digest, :before, :number, :placed)"
            ),
            values,
        )
