"""The tables of the register's database."""

from __future__ import annotations

from sqlalchemy import Boolean, Column, Integer, LargeBinary, MetaData, String, Table, Text

HEAD = "0005"
"""The version of the schema that this package reads and writes."""

metadata = MetaData()

members = Table(
    "members",
    metadata,
    Column("key", String(200), primary_key=True),
    Column("position", Integer, nullable=False),
    Column("name", Text, nullable=False, default=""),
    Column("email", Text, nullable=False, default=""),
    Column("kind", String(20), nullable=False, default="person"),
    Column("status", String(20), nullable=False, default="active"),
    Column("joined", String(40), nullable=False, default=""),
    Column("note", Text, nullable=False, default=""),
    Column("id", String(64), nullable=False, default=""),
    Column("user_name", Text, nullable=False, default=""),
    Column("external_id", Text, nullable=False, default=""),
    Column("was", String(20), nullable=False, default=""),
    Column("phone", Text, nullable=False, default=""),
)

member_groups = Table(
    "member_groups",
    metadata,
    Column("member", String(200), primary_key=True),
    Column("grp", String(200), primary_key=True),
    Column("position", Integer, nullable=False),
    Column("source", String(200), nullable=False, default=""),
)

assignments = Table(
    "assignments",
    metadata,
    Column("number", Integer, primary_key=True, autoincrement=True),
    Column("member", String(200), nullable=False, index=True),
    Column("rank", String(200), nullable=False),
    Column("place", String(200), nullable=False, default=""),
    Column("since", String(40), nullable=False, default=""),
    Column("until", String(40), nullable=False, default=""),
    Column("by", String(200), nullable=False, default=""),
    Column("why", Text, nullable=False, default=""),
    Column("source", String(200), nullable=False, default=""),
    Column("removed", Integer, nullable=True, index=True),
)
"""Assignments are never deleted: ``removed`` is the number of the journal's entry that took one out."""

journal = Table(
    "journal",
    metadata,
    Column("number", Integer, primary_key=True, autoincrement=True),
    Column("at", String(40), nullable=False),
    Column("who", String(200), nullable=False, default=""),
    Column("name", Text, nullable=False, default=""),
    Column("kind", String(20), nullable=False),
    Column("what", Text, nullable=False),
    Column("why", Text, nullable=False, default=""),
    Column("forced", Boolean, nullable=False, default=False),
    Column("effect", Text, nullable=False, default="[]"),
    Column("splices", Text, nullable=False, default="[]"),
    Column("rows", Text, nullable=False, default="[]"),
    Column("needs", Text, nullable=False, default="[]"),
    Column("undoes", Integer, nullable=True),
    Column("undone_by", Integer, nullable=True),
    Column("reverts", Text, nullable=False, default="[]"),
)
"""``name`` is what whoever made the change was called then. ``reverts`` are the changes that an edit by hand undoes."""

state = Table("state", metadata, Column("name", String(40), primary_key=True), Column("value", Text, nullable=False))
"""``version`` counts the changes; ``files`` holds the charter's files as they were after the last one, as JSON.

``id`` is the database's own, by which a folder knows it. ``unseen`` lists the entries of edits by hand that undo a
change and were not acknowledged; ``aside`` tells that the register's two files are not kept; ``forgotten`` holds
digests of those who were forgotten.
"""

folder_files = Table(
    "folder_files",
    metadata,
    Column("folder", String(64), primary_key=True),
    Column("name", String(200), primary_key=True),
    Column("digest", String(64), nullable=False),
    Column("before", String(64), nullable=False, default=""),
    Column("number", Integer, nullable=False),
    Column("placed", Boolean, nullable=False, default=True),
)
"""What was last written into each file of a folder: its digest, the one before, the number of the state.

``placed`` tells whether all files of that change are in their places. The database's own folder has an empty name.
"""

notes = Table(
    "notes",
    metadata,
    Column("number", Integer, primary_key=True, autoincrement=True),
    Column("member", String(200), nullable=False, index=True),
    Column("at", String(40), nullable=False),
    Column("by", String(200), nullable=False, default=""),
    Column("text", Text, nullable=False),
)
"""Every note about a member that was ever set, when and by whom; a member's row holds the last."""

tokens = Table(
    "tokens",
    metadata,
    Column("name", String(200), primary_key=True),
    Column("digest", String(64), nullable=False, unique=True),
    Column("member", String(200), nullable=False, default=""),
    Column("may", String(20), nullable=False, default="read"),
    Column("made", String(40), nullable=False, default=""),
    Column("until", String(40), nullable=False, default=""),
)
"""Who may speak to a service; of a token only the digest is kept."""

group_numbers = Table(
    "group_numbers", metadata, Column("key", String(200), primary_key=True), Column("number", Text, nullable=False)
)
"""What identity providers know groups and ranks by, which the charter has no field for."""

compiled = Table(
    "compiled", metadata, Column("digest", String(64), primary_key=True), Column("content", LargeBinary, nullable=False)
)
"""The charter as it was read, as JSON, under the digest of the texts it was read from and of the format."""

intent = Table(
    "intent",
    metadata,
    Column("journal", Integer, primary_key=True, autoincrement=False),
    Column("files", Text, nullable=False),
    Column("letters", Text, nullable=False, default="[]"),
)
"""What has been decided and may not have been written yet: files by name, with the texts before and after."""

VERSION = Table("alembic_version", MetaData(), Column("version_num", String(32), primary_key=True))
"""The version of the schema, where Alembic looks for it; it stays out of the copies of before."""

MEMBER_COLUMNS = ("key", *(column.name for column in members.columns if column.name not in ("key", "position")))
ASSIGNMENT_COLUMNS = tuple(column.name for column in assignments.columns if column.name not in ("number", "removed"))
