"""Somebody who is forgotten, taken out of what is written: a stranger with a number stands for them (rule 9.14)."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Container, Iterable, Mapping
from typing import NamedTuple

from ask_above.change.draft import RowChange
from ask_above.change.forgetting import GONE, STRANGER, keys_as_words, words_of
from ask_above.store.entries import Entry


class Person(NamedTuple):
    """Somebody who is to be forgotten, and the key that stands for them from now on.

    ``keys`` are theirs, that of now first, and ``words`` the names and addresses they have had.
    """

    keys: tuple[str, ...]
    words: tuple[str, ...]
    stranger: str

    @classmethod
    def of(cls, cells: Mapping[str, str], entries: Iterable[Entry], there: Container[str], stranger: str) -> Person:
        """Return whom a row of the register is, and all that the journal knows them by; ``there`` are keys in use."""
        known, words = {cells["key"]: None}, {cells["name"]: None, cells["email"]: None}
        rows = (row for entry in entries for row in entry.rows if row.table == "members")
        for side in (side for row in rows for side in (row.before, row.after) if side is not None):
            same = bool(cells.get("id")) and side.get("id") == cells["id"]
            if same and side["key"] not in there:
                known[side["key"]] = None
            if same or side["key"] in known:
                words |= dict.fromkeys((side.get("name", ""), side.get("email", "")))
        # of two names one may be a part of the other
        return cls(tuple(known), tuple(sorted(filter(None, words), key=len, reverse=True)), stranger)

    @property
    def said(self) -> str:
        """The sentence that tells who stands for them."""
        return f"They are {self.stranger} from now on."

    @property
    def key_words(self) -> re.Pattern[str]:
        """What finds their keys where they stand as words."""
        return keys_as_words(self.keys)

    def without_names(self, text: str) -> str:
        """Return a text in which the stranger stands for their names and addresses."""
        return words_of(self.words).sub(self.stranger, text)

    def without(self, text: str) -> str:
        """Return a text that names the stranger instead."""
        return self.key_words.sub(self.stranger, self.without_names(text))

    def is_meant_by(self, name: str, letter: bytes) -> bool:
        """Whether a letter of the outbox is to them, by its name or by an address of theirs in its head."""
        to, head = name.removesuffix(".eml").partition("-")[2], re.split(rb"\r?\n\r?\n", letter, maxsplit=1)[0]
        return to in self.keys or any("@" in word and word.encode() in head for word in self.words)


def digests_of(salt: str, cells: Mapping[str, str]) -> set[str]:
    """Return what somebody's row is known by once they are forgotten: key and name together, and their id."""
    said = [f"{cells.get('key', '')}\n{cells.get('name', '').casefold()}"]
    said += [cells["id"]] if cells.get("id") else []
    return {hashlib.blake2b(f"{salt}\n{text}".encode(), digest_size=24).hexdigest() for text in said}


def without(entry: Entry, person: Person) -> Entry:
    """Return an entry that does not name them, less the pieces of files that it holds."""
    mine = entry.who in person.keys
    return entry._replace(
        who=person.stranger if mine else entry.who,
        name=person.stranger if mine else person.without(entry.name),
        what=person.without(entry.what),
        why=person.without(entry.why),
        effect=[person.without(line) for line in entry.effect],
        rows=[row_without(row, person) for row in entry.rows],
    )


def row_without(row: RowChange, person: Person) -> RowChange:
    """Return a row of the register, as it was and as it is, in which nobody is named who was forgotten."""
    if row.table != "members":
        return row._replace(before=_assignment(person, row.before), after=_assignment(person, row.after))
    mine = row.key in person.keys
    before, after = (_member(person, cells, mine=mine) for cells in (row.before, row.after))
    return RowChange(row.table, person.stranger if mine else row.key, before, after)


def stranger_after(keys: Iterable[str]) -> str:
    """Return the next key of a stranger."""
    numbers = [int(rest) for key in keys if key.startswith(STRANGER) and (rest := key.removeprefix(STRANGER)).isdigit()]
    return f"{STRANGER}{max(numbers, default=0) + 1}"


def _member(person: Person, cells: Mapping[str, str] | None, *, mine: bool) -> dict[str, str] | None:
    if cells is None:
        return None
    if not mine:
        return {**cells, "note": person.without(cells.get("note", ""))}
    return {**cells, "key": person.stranger} | dict.fromkeys(GONE, "")


def _assignment(person: Person, cells: Mapping[str, str] | None) -> dict[str, str] | None:
    if cells is None:
        return None
    named = {name: person.stranger for name in ("member", "by") if cells.get(name) in person.keys}
    return {**cells, **named, "why": person.without(cells.get("why", ""))}
