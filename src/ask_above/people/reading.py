"""From rows of text to a register, collecting every fault on the way."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import UTC
from typing import NamedTuple

from ask_above.charter.moments import HOW_TO_WRITE, Period, is_date, period, zone
from ask_above.charter.names import RESERVED, SITE, is_key, nearest
from ask_above.charter.reading.context import KnownNames
from ask_above.charter.where import Where
from ask_above.errors import Fault, Faults
from ask_above.people.register import KINDS, STATUSES, Assignment, Member, Register

MEMBER_COLUMNS = (
    "key", "name", "email", "kind", "status", "joined", "groups", "note", "id", "user_name", "external_id", "was",
    "phone",
)  # fmt: skip
GUARDED = ("name", "email", "phone", "note", "user_name", "external_id")
"""What ``rules.contacts`` governs: by each of these somebody may be known outside."""
ASSIGNMENT_COLUMNS = ("member", "rank", "place", "from", "until", "by", "why", "source")


_WITH_NEAREST = 25


class FileRow(NamedTuple):
    """One row of a file: its cells by column, the line it starts on, and what finds a cell from line and column."""

    cells: Mapping[str, str]
    line: int
    finder: Callable[[int, str], tuple[int, int, str]] = lambda *_: (0, 0, "")

    def find(self, column: str) -> tuple[int, int, str]:
        """Return the line and column of a cell, and the line's text; zeros where nobody knows."""
        return self.finder(self.line, column)


class FileRows:
    """The rows of one file and the faults found in it."""

    def __init__(self, name: str, faults: list[Fault] | None = None) -> None:
        self.name, self.faults = name, Faults(faults or ())
        self.rows: Iterable[FileRow] = ()

    def again(self) -> FileRows:
        """Return the rows with the faults of their form alone, so that they can be looked at more than once."""
        other = FileRows(self.name)
        other.rows, other.faults = list(self.rows), Faults(self.faults)
        return other

    def near(self, name: str, known: Iterable[str]) -> tuple[str, ...]:
        """Return the known names most like one; of very many faults the first alone have them."""
        return nearest(name, known) if len(self.faults) < _WITH_NEAREST else ()

    def fault(
        self, row: FileRow, column: str, code: str, message: str, expected: str = "", near: tuple[str, ...] = ()
    ) -> None:
        """Note a fault in a cell."""
        line, at, source = row.find(column)
        found = f"'{row.cells.get(column, '')}'"
        self.faults.append(Fault(self.name, line or row.line, at, column, code, message, expected, found, near, source))


def read_register(
    members: FileRows | None, assignments: FileRows | None, names: KnownNames | None, charter: str
) -> Register:
    """Read a register; without ``names`` only the form of the rows is looked at. ``charter`` is its file's name."""
    known: dict[str, Member] = {}
    for row in members.rows if members else ():
        member = _member(members, row, known, names, charter) if members else None
        if member:
            known[member.key] = member
    source = members.name if members else ""
    reader = _Assignments(assignments, known, names, charter, source) if assignments else None
    found = tuple(filter(None, map(reader.read, assignments.rows))) if reader and assignments else ()
    return Register(known, found, source)


def _member(
    rows: FileRows, row: FileRow, known: dict[str, Member], names: KnownNames | None, charter: str
) -> Member | None:
    cells = row.cells
    key = cells.get("key", "")
    if not is_key(key):
        message = f"'{key}' cannot be the key of a member" if key else "a member needs a key"
        rows.fault(row, "key", "bad-key", message, "small letters, digits, - and _, such as petra")
        return None
    if key in RESERVED:
        rows.fault(row, "key", "reserved-word", f"'{key}' is a reserved word", "another key; the name may say anything")
        return None
    if key in known:
        message = f"the member '{key}' stands on line {known[key].where.line} already"
        rows.fault(row, "key", "twice", message, "each member once")
        return None
    for column, options in (("kind", KINDS), ("status", STATUSES), ("was", STATUSES)):
        said = cells.get(column, "")
        if said and said not in options:
            message = f"'{said}' is no {column} of a member"
            rows.fault(row, column, "unknown-word", message, f"one of {', '.join(options)}", nearest(said, options))
    member = Member.of(cells, Where(rows.name, row.line, 1))
    if not is_date(member.joined):
        rows.fault(row, "joined", "bad-date", f"'{member.joined}' is no date", HOW_TO_WRITE)
    for group in member.groups if names else ():
        if names and group not in names.groups:
            what = "is a rank of" if group in names.ranks else "is no group in"
            near = rows.near(group, names.groups)
            rows.fault(row, "groups", "unknown-group", f"'{group}' {what} {charter}", "groups separated by ;", near)
    return member


def _how_to_rename(row: FileRow, kind: str, key: str) -> str:
    """Say of what a directory gave how its rank or place gets another key: no file changes what it gave."""
    source = row.cells.get("source", "")
    command = f"ask-above {kind} rename {key} --key KEY"
    return f". {source} gave it, which no file changes; to change its key: {command}" if source and key else ""


def owner_fault(owner: str | None, members: Mapping[str, Member]) -> str:
    """Say what is wrong with who the owner is, in a community that has a register; nothing where all is well."""
    if owner is None or not members:
        return ""
    member = members.get(owner)
    if member is None:
        return f"the owner '{owner}' is not in the register"
    return "" if member.is_active else f"the owner {member.called} is {member.status}, and has to be active"


class _Assignments:
    """Reads the rows of the assignments' file."""

    def __init__(
        self, rows: FileRows, members: Mapping[str, Member], names: KnownNames | None, charter: str, source: str
    ) -> None:
        self.rows, self.members, self.names, self.charter, self.source = rows, members, names, charter, source
        self._periods: dict[tuple[str, str], Period] = {}
        ranks = names.ranks.values() if names else ()
        self._given = frozenset(rank.key for rank in ranks if not rank.automatic)

    def read(self, row: FileRow) -> Assignment | None:
        cells = row.cells
        member, rank, place = cells.get("member", ""), cells.get("rank", ""), cells.get("place") or SITE
        dates = (cells.get("from", ""), cells.get("until", ""))
        period = self._periods.get(dates)
        # of very many rows nearly all name what is known, in a period that others have too
        if period is None or member not in self.members or not self._is_known(rank, place):
            good = self._member(row, member)
            good = self._rank(row, rank) and good
            good = self._place(row, place) and good
            period = self._period(row, *dates)
            if not good or period is None:
                return None
        where = Where(self.rows.name, row.line, 1)
        number = int(cells.get("number") or 0)
        why = cells.get("why", "")
        return Assignment(member, rank, place, period, cells.get("by", ""), why, where, number, cells.get("source", ""))

    def _is_known(self, rank: str, place: str) -> bool:
        return self.names is None or (rank in self._given and place in self.names.places)

    def _member(self, row: FileRow, member: str) -> bool:
        if member in self.members:
            return True
        if not member:
            message = "an assignment needs a member"
        elif self.source:
            message = f"there is no member '{member}' in {self.source}"
        else:
            message = f"there is no member '{member}', as there is no members.csv"
        self.rows.fault(
            row, "member", "unknown-member", message, "the key of a member", self.rows.near(member, self.members)
        )
        return False

    def _rank(self, row: FileRow, rank: str) -> bool:
        if self.names is None:
            return True
        known = self.names.ranks.get(rank)
        if known is None:
            message = f"there is no rank '{rank}' in {self.charter}" if rank else "an assignment needs a rank"
            near = self.rows.near(rank, self.names.ranks)
            self.rows.fault(
                row, "rank", "unknown-rank", message, f"the key of a rank{_how_to_rename(row, 'rank', rank)}", near
            )
            return False
        if known.automatic:
            message = f"'{rank}' is automatic (held-by: {known.held_by}, {known.where}); remove this row"
            self.rows.fault(row, "rank", "automatic-assigned", message, "a rank without 'held-by'")
            return False
        return True

    def _place(self, row: FileRow, place: str) -> bool:
        if self.names is None or place in self.names.places:
            return True
        message = f"there is no place '{place}' in {self.charter}"
        near = self.rows.near(place, self.names.places)
        expected = f"the key of a place, or nothing for the site{_how_to_rename(row, 'place', place)}"
        self.rows.fault(row, "place", "unknown-place", message, expected, near)
        return False

    def _period(self, row: FileRow, start: str, until: str) -> Period | None:
        key = (start, until)
        if key not in self._periods:
            where = zone(self.names.zone if self.names else "UTC") or UTC
            try:
                self._periods[key] = period(start, until, where)
            except ValueError:
                for column, text in (("from", start), ("until", until)):
                    if not is_date(text):
                        message = f"'{text}' is no date"
                        self.rows.fault(row, column, "bad-date", message, HOW_TO_WRITE)
                return None
        return self._periods[key]
