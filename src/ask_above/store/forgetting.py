"""Take out of a database what could tell who somebody was, within the transaction of the caller."""

from __future__ import annotations

from collections.abc import Iterable

import sqlalchemy as sa

from ask_above.change.forgetting import GONE, STRANGER
from ask_above.store.entries import Entry, rows_as_text, values_of
from ask_above.store.strangers import Person, stranger_after
from ask_above.store.tables import assignments, journal, member_groups, members, notes, tokens


def forget(connection: sa.Connection, person: Person, entries: Iterable[Entry]) -> None:
    """Let a stranger stand for somebody everywhere; ``entries`` are the journal's, without them."""
    _in_tables(connection, person)
    for entry in entries:
        values = values_of(entry) | {"rows": rows_as_text(entry.rows)}
        connection.execute(journal.update().where(journal.c.number == entry.number).values(**values))


def _in_tables(connection: sa.Connection, person: Person) -> None:
    new = {"key": person.stranger} | dict.fromkeys((name for name in GONE if name != "groups"), "")
    connection.execute(tokens.delete().where(tokens.c.member.in_(person.keys)))
    connection.execute(notes.delete().where(notes.c.member.in_(person.keys)))
    connection.execute(notes.update().where(notes.c.by.in_(person.keys)).values(by=person.stranger))
    connection.execute(members.update().where(members.c.key.in_(person.keys)).values(**new))
    connection.execute(member_groups.delete().where(member_groups.c.member.in_(person.keys)))
    moved = assignments.update()
    connection.execute(moved.where(assignments.c.member.in_(person.keys)).values(member=person.stranger))
    connection.execute(moved.where(assignments.c.by.in_(person.keys)).values(by=person.stranger))
    for table, key, column in (
        (members, members.c.key, "note"),
        (notes, notes.c.number, "text"),
        (assignments, assignments.c.number, "why"),
    ):
        for at, text in connection.execute(sa.select(key, table.c[column]).where(table.c[column] != "")).all():
            if (cleaned := person.without(text)) != text:
                connection.execute(table.update().where(key == at).values({column: cleaned}))


def stranger_of(connection: sa.Connection) -> str:
    """Return the next key of a stranger."""
    return stranger_after(
        connection.execute(sa.select(members.c.key).where(members.c.key.startswith(STRANGER))).scalars()
    )
