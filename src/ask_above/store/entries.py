"""What a database gives and takes: journal entries, what it holds at one moment, letters still to be written."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import starmap
from typing import Any, NamedTuple

from ask_above.change.draft import RowChange
from ask_above.people.rows import ASSIGNMENT_ORDER, MEMBER_ORDER


class Entry(NamedTuple):
    """One entry of the journal.

    ``kind`` is change, hand (an edit of the files by hand), undo or import. ``splices`` are lists of file, start, old
    and new text; ``rows`` the rows of the register that changed. ``name`` is what ``who`` was called then; ``reverts``
    are the changes that an edit by hand undoes.
    """

    number: int
    at: str
    who: str
    kind: str
    what: str
    why: str = ""
    forced: bool = False
    effect: Sequence[str] = ()
    splices: Sequence[tuple[str, int, str, str]] = ()
    rows: Sequence[RowChange] = ()
    undoes: int | None = None
    undone_by: int | None = None
    name: str = ""
    reverts: Sequence[int] = ()


class Loaded(NamedTuple):
    """All that a database holds at one moment; ``size`` is how many members there are.

    ``people`` and ``given`` are the rows of members and assignments, ``None`` where they are read as they are needed.
    ``id`` is the database's. ``version`` counts its changes, ``last`` is the number of the last. ``files`` are the
    charter's files as they were after it. ``letters`` were decided and may not be written yet; ``waits`` tells whether
    anything was that may not be. ``unseen`` are entries of edits by hand that undo a change and were not acknowledged,
    ``forgotten`` digests of who was forgotten; ``aside``: the register's two files are not kept.
    """

    people: list[tuple[str, ...]] | None
    given: list[tuple[Any, ...]] | None
    size: int
    id: str
    version: int
    last: int
    files: Mapping[str, str]
    letters: Sequence[tuple[str, str]]
    waits: bool
    unseen: tuple[int, ...] = ()
    forgotten: frozenset[str] = frozenset()
    aside: bool = False

    @property
    def members(self) -> list[dict[str, str]]:
        """The members' rows, as cells by column."""
        return [dict(zip(MEMBER_ORDER, row, strict=True)) for row in self.people or ()]

    @property
    def assignments(self) -> list[dict[str, str]]:
        """The assignments' rows, as cells by column; ``number`` is an assignment's own."""
        rows = ((str(number), *rest) for number, *rest in self.given or ())
        return [dict(zip(ASSIGNMENT_ORDER, row, strict=True)) for row in rows]


class Claims(NamedTuple):
    """What a directory holds of the members who come from it: fields of theirs, and who is in which groups."""

    source: str
    fields: tuple[str, ...]
    groups: tuple[str, ...]


ANYTHING = "*"
"""The digest of a file of which nothing is known: whatever it holds is old."""


class FileRecord(NamedTuple):
    """What was last written into a file: its digest, what it held before, the state's number.

    ``placed`` tells whether all files of that change are in their places.
    """

    digest: str
    before: str
    number: int
    placed: bool = True

    def is_what_was_written(self, content: bytes) -> bool:
        """Whether a file holds what was last written into it, or what it held before an unfinished writing."""
        if self.digest == ANYTHING:
            return True
        here = digest(content)
        return here == self.digest or (not self.placed and here == self.before)


def digest(content: bytes) -> str:
    """Return what tells one content of a file from every other."""
    import hashlib  # no question of a folder without a database comes by here

    return hashlib.blake2b(content, digest_size=24).hexdigest()


def values_of(entry: Entry) -> dict[str, Any]:
    """Return an entry's columns, less its number and its rows."""
    import json

    said = {name: getattr(entry, name) for name in ("at", "who", "name", "kind", "what", "why", "forced", "undoes")}
    return said | {
        "effect": json.dumps(list(entry.effect)),
        "splices": json.dumps(list(entry.splices)),
        "rows": "[]",
        "reverts": json.dumps(list(entry.reverts)),
    }


def rows_as_text(rows: Sequence[RowChange]) -> str:
    """Return rows as JSON: a row is a tuple, and so a list there."""
    from msgspec.json import encode  # the first entry of a large community has a row for each of its members

    return encode(rows).decode()


def entry_of(row: Any) -> Entry:
    """Return the entry that a row of the journal is."""
    import json

    from msgspec.json import decode

    return Entry(
        row.number,
        row.at,
        row.who,
        row.kind,
        row.what,
        row.why,
        bool(row.forced),
        tuple(json.loads(row.effect)),
        tuple((file, start, old, new) for file, start, old, new in json.loads(row.splices)),
        tuple(starmap(RowChange, decode(row.rows))),
        row.undoes,
        row.undone_by,
        row.name,
        tuple(json.loads(row.reverts)),
    )
