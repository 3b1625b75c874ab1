"""Somebody who is forgotten, taken out of what is written: a stranger with a number stands for them (rule 9.14)."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from ask_above.change.draft import RowChange
from ask_above.change.forgetting import GONE, STRANGER, words_of
from ask_above.charter.charter import Charter
from ask_above.store.entries import Entry

_FILLER = "·"


class Person(NamedTuple):
    """Somebody who is to be forgotten, and the key that stands for them from now on."""

    key: str
    name: str
    email: str
    stranger: str

    @property
    def said(self) -> str:
        """The sentence that tells who stands for them."""
        return f"They are {self.stranger} from now on."

    def key_is_theirs(self, charter: Charter) -> bool:
        """Whether nothing else in a charter has their key."""
        others = (charter.ranks, charter.groups, charter.places, charter.catalogue.bundles)
        return not any(self.key in keys for keys in others)

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

    def is_meant_by(self, name: str, letter: bytes) -> bool:
        """Whether a letter of the outbox is to them, or names their address."""
        to = name.removesuffix(".eml").partition("-")[2]
        return to == self.key or bool(self.email and self.email.encode() in letter)

    @property
    def _words(self) -> re.Pattern[str]:
        return words_of((self.name, self.email))


def digests_of(salt: str, cells: Mapping[str, str]) -> set[str]:
    """Return what somebody's row is known by once they are forgotten: key and name together, and their id."""
    said = [f"{cells.get('key', '')}\n{cells.get('name', '').casefold()}"]
    said += [cells["id"]] if cells.get("id") else []
    return {hashlib.blake2b(f"{salt}\n{text}".encode(), digest_size=24).hexdigest() for text in said}


def without(entry: Entry, person: Person, *, key_is_theirs: bool) -> Entry:
    """Return an entry that does not name them; ``key_is_theirs``: nothing else in the charter has that key."""
    mine = entry.who == person.key

    def in_charter(text: str) -> str:
        filled = person.filled(text)
        return person.filled_key(filled) if key_is_theirs else filled

    return entry._replace(
        who=person.stranger if mine else entry.who,
        name=person.stranger if mine else person.without(entry.name),
        what=person.without(entry.what),
        why=person.without(entry.why),
        effect=[person.without(line) for line in entry.effect],
        splices=[(file, start, in_charter(old), in_charter(new)) for file, start, old, new in entry.splices],
        rows=[row_without(row, person) for row in entry.rows],
    )


def row_without(row: RowChange, person: Person) -> RowChange:
    """Return a row of the register, as it was and as it is, in which nobody is named who was forgotten."""
    if row.table != "members":
        return row._replace(before=_assignment(person, row.before), after=_assignment(person, row.after))
    mine = row.key == person.key
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
    named = {name: person.stranger for name in ("member", "by") if cells.get(name) == person.key}
    return {**cells, **named, "why": person.without(cells.get("why", ""))}
