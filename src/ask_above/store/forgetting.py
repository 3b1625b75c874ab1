"""Take out of a database what could tell who somebody was, within the transaction of the caller."""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Mapping
from typing import Any, NamedTuple

import sqlalchemy as sa

from ask_above.change.forgetting import words_of
from ask_above.store.tables import assignments, journal, member_groups, members, notes

_FILLER = "·"
_GONE = ("name", "email", "phone", "note", "user_name", "external_id")


class Person(NamedTuple):
    """Somebody who is to be forgotten, and the key that stands for them from now on."""

    key: str
    name: str
    email: str
    stranger: str

    def without(self, text: str) -> str:
        """Return a text that names the stranger instead."""
        text = self._words.sub(self.stranger, text)
        return re.sub(rf"(?<![\w-])@?{re.escape(self.key)}(?![\w-])", self.stranger, text)

    def filled(self, text: str) -> str:
        """Return a text of the same length that does not name them; its other signs stay where they are."""
        return self._words.sub(lambda found: _FILLER * len(found.group()), text)

    def filled_key(self, text: str) -> str:
        """Return a charter's text of the same length without their key, where it stands for a member."""
        key = re.escape(self.key)
        return re.sub(rf"@{key}(?![\w-])|(?<![\w-]){key}(?=:)", lambda found: _FILLER * len(found.group()), text)

    @property
    def _words(self) -> re.Pattern[str]:
        return words_of((self.name, self.email))


def digests_of(salt: str, cells: Mapping[str, str]) -> set[str]:
    """Return what somebody's row is known by once they are forgotten: key and name together, and their id."""
    said = [f"{cells.get('key', '')}\n{cells.get('name', '').casefold()}"]
    said += [cells["id"]] if cells.get("id") else []
    return {hashlib.blake2b(f"{salt}\n{text}".encode(), digest_size=24).hexdigest() for text in said}


def forget(connection: sa.Connection, person: Person, *, key_is_theirs: bool) -> None:
    """Let a stranger stand for somebody everywhere; ``key_is_theirs``: nothing else in the charter has that key."""
    _in_tables(connection, person)
    for row in connection.execute(sa.select(journal)).all():
        splices = [
            [file, start, *(_in_charter(person, text, key_is_theirs=key_is_theirs) for text in (old, new))]
            for file, start, old, new in json.loads(row.splices)
        ]
        said = {
            "who": person.stranger if row.who == person.key else row.who,
            "name": person.stranger if row.who == person.key else person.without(row.name),
            "what": person.without(row.what),
            "why": person.without(row.why),
            "effect": json.dumps([person.without(load) for load in json.loads(row.effect)]),
            "splices": json.dumps(splices),
            "rows": json.dumps([_row(person, load) for load in json.loads(row.rows)]),
        }
        connection.execute(journal.update().where(journal.c.number == row.number).values(**said))


def _in_tables(connection: sa.Connection, person: Person) -> None:
    new = {"key": person.stranger} | dict.fromkeys(_GONE, "")
    connection.execute(notes.delete().where(notes.c.member == person.key))
    connection.execute(notes.update().where(notes.c.by == person.key).values(by=person.stranger))
    connection.execute(members.update().where(members.c.key == person.key).values(**new))
    connection.execute(member_groups.delete().where(member_groups.c.member == person.key))
    moved = assignments.update()
    connection.execute(moved.where(assignments.c.member == person.key).values(member=person.stranger))
    connection.execute(moved.where(assignments.c.by == person.key).values(by=person.stranger))
    for table, key, column in (
        (members, members.c.key, "note"),
        (notes, notes.c.number, "text"),
        (assignments, assignments.c.number, "why"),
    ):
        for at, text in connection.execute(sa.select(key, table.c[column]).where(table.c[column] != "")).all():
            if (cleaned := person.without(text)) != text:
                connection.execute(table.update().where(key == at).values({column: cleaned}))


def _in_charter(person: Person, text: str, *, key_is_theirs: bool) -> str:
    filled = person.filled(text)
    return person.filled_key(filled) if key_is_theirs else filled


def _row(person: Person, row: list[Any]) -> list[Any]:
    """Return a row of the journal in which nobody is named who was forgotten."""
    table, key, before, after = row
    if table == "members":
        mine = key == person.key
        return [
            table,
            person.stranger if mine else key,
            *(_member(person, each, mine=mine) for each in (before, after)),
        ]
    return [table, key, *(_assignment(person, each) for each in (before, after))]


def _member(person: Person, cells: Mapping[str, str] | None, *, mine: bool) -> dict[str, str] | None:
    if cells is None:
        return None
    if not mine:
        return {**cells, "note": person.without(cells.get("note", ""))}
    return {**cells, "key": person.stranger} | dict.fromkeys((*_GONE, "groups"), "")


def _assignment(person: Person, cells: Mapping[str, str] | None) -> dict[str, str] | None:
    if cells is None:
        return None
    named = {name: person.stranger for name in ("member", "by") if cells.get(name) == person.key}
    return {**cells, **named, "why": person.without(cells.get("why", ""))}


def stranger_of(connection: sa.Connection, first: str) -> str:
    """Return the next key of a stranger."""
    taken = connection.execute(sa.select(members.c.key).where(members.c.key.startswith(first))).scalars()
    numbers = [int(rest) for key in taken if (rest := key.removeprefix(first)).isdigit()]
    return f"{first}{max(numbers, default=0) + 1}"
