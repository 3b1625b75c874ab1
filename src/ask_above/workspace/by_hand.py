"""What was edited by hand: told apart from what is merely old, and taken over line by line.

A file that equals what it was at an earlier state is old, and no edit. Any other is an edit of the state that it is
nearest to; where that is not the last one, what others changed since stays.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from ask_above.change.draft import RowChange
from ask_above.errors import Fault
from ask_above.files.merging import apart, meeting, merged
from ask_above.files.register_csv import meant
from ask_above.files.splice import Splice, apply
from ask_above.people.reading import ASSIGNMENT_COLUMNS, MEMBER_COLUMNS, FileRow
from ask_above.people.register import OUT
from ask_above.store.entries import Entry

Cells = Mapping[str, str]

_MOST_TEXTS = 30
_MOST_STATES = 300
"""How many states back an edit is looked for that was made on an older one."""


class Taken(NamedTuple):
    """A file as it counts: its text, and the number of the state that it is an edit of."""

    text: str
    base: int


def earlier_texts(name: str, last: str, entries: Sequence[Entry]) -> Iterator[tuple[int, str]]:
    """Yield what a file held at the states before the last, the latest first, each with the state's number."""
    text = last
    for n in range(len(entries) - 1, 0, -1):
        before = text
        for file, start, old, new in reversed(entries[n].splices):
            if file == name:
                text = apply(text, Splice(start, new, old))
        if text != before:
            yield entries[n - 1].number, text


def taken(name: str, found: str, last: str, entries: Sequence[Entry], made_from: int) -> Taken | Fault:
    """Return a file that was edited by hand, with what others changed since; a fault where both touched one line."""
    newest = entries[-1].number if entries else 0
    number, base = newest, last
    least = (apart(last, found), made_from < newest)
    for n, (state, text) in enumerate(earlier_texts(name, last, entries)):
        if n >= _MOST_TEXTS and state < made_from:
            break
        # of two that are as near the one counts that this folder's file was made from
        far = (apart(text, found), not state <= made_from < newest)
        if far < least:
            least, number, base = far, state, text
    result = merged(base, found, last)
    if result is not None:
        return Taken(result, number)
    line, mine, theirs = meeting(base, found, last)
    since = next((each for each in reversed(entries) if each.number > number and _touches(each, name)), None)
    by = f"change {since.number} ({since.what})" if since else "another change"
    message = (
        f"this was edited by hand as it was at change {number}, and {by} touched the same lines since. "
        f"Here it says {_shown(mine)}; there it says {_shown(theirs)}"
    )
    expected = "what it says there; then make your change anew, by command or by hand"
    return Fault(name, line, 1, "", "edited-twice", message, expected, source=(mine or [""])[0].rstrip("\r\n"))


def _touches(entry: Entry, name: str) -> bool:
    return any(file == name for file, *_ in entry.splices)


def _shown(lines: Sequence[str]) -> str:
    """Show some lines in a sentence."""
    said = " / ".join(each.strip() for each in lines[:3])
    return f"“{said}”" + (" and more" if len(lines) > 3 else "") if lines else "nothing"  # noqa: PLR2004


# -- the register


class RegisterRows(NamedTuple):
    """The register at one state: members by key, assignments by number."""

    members: dict[str, Cells]
    given: dict[str, Cells]

    def before(self, entry: Entry) -> RegisterRows:
        """Return what it was before an entry."""
        members, given = dict(self.members), dict(self.given)
        for row in reversed(entry.rows):
            table = members if row.table == "members" else given
            if row.before is None:
                table.pop(row.key, None)
            else:
                table[row.key] = row.before
        return RegisterRows(members, given)


class Sheets(NamedTuple):
    """The two files as they were found, a row for each line; ``None`` for one that says what the register says."""

    members: Sequence[FileRow] | None
    given: Sequence[FileRow] | None


class Edited(NamedTuple):
    """What was edited by hand in the register: the rows that change, where each stands, and what cannot be taken."""

    rows: list[RowChange]
    lines: dict[tuple[str, str], FileRow]
    faults: list[Fault]
    base: int
    far: int


def edited_rows(
    sheets: Sheets, last: RegisterRows, entries: Sequence[Entry], made_from: int, names: tuple[str, str]
) -> Edited:
    """Return what the files change in the register, with what others changed since."""
    newest = entries[-1].number if entries else 0
    number, base, state = newest, last, last
    least = (_apart(sheets, last), made_from < newest)
    for n in range(len(entries) - 1, max(0, len(entries) - _MOST_STATES), -1):
        state = state.before(entries[n])
        at = entries[n - 1].number
        far = (_apart(sheets, state), not at <= made_from < newest)
        if far < least:
            least, number, base = far, at, state
    found = Edited([], {}, [], number, least[0])
    if sheets.members is not None:
        _take_members(sheets.members, base.members, last.members, found, names[0])
    if sheets.given is not None:
        _take_given(sheets.given, base.given, last.given, found, names[1])
    return found


def _columns(rows: Sequence[FileRow], known: Sequence[str]) -> list[str]:
    """Return the columns that a file has."""
    return [column for column in known if any(column in row.cells for row in rows)]


def _some(table: str, cells: Cells, columns: Sequence[str]) -> tuple[str, ...]:
    said = meant(table, {column: cells.get(column, "") for column in columns})
    return tuple(said[column] for column in columns)


def _apart(sheets: Sheets, state: RegisterRows) -> int:
    """Return how many rows of the files say something else than a state of the register."""
    count = 0
    if sheets.members is not None:
        columns = _columns(sheets.members, MEMBER_COLUMNS)
        mine = {row.cells.get("key", ""): _some("members", row.cells, columns) for row in sheets.members}
        theirs = {key: _some("members", cells, columns) for key, cells in state.members.items()}
        count += sum(mine.get(key) != theirs.get(key) for key in mine.keys() | theirs.keys())
    if sheets.given is not None:
        columns = _columns(sheets.given, ASSIGNMENT_COLUMNS)
        had = Counter(_some("assignments", row.cells, columns) for row in sheets.given)
        have = Counter(_some("assignments", cells, columns) for cells in state.given.values())
        count += ((had - have) + (have - had)).total()
    return count


def _take_members(
    sheet: Sequence[FileRow], base: Mapping[str, Cells], now: Mapping[str, Cells], to: Edited, file: str
) -> None:
    columns = _columns(sheet, MEMBER_COLUMNS)
    mine = {row.cells.get("key", ""): row for row in sheet}
    for key in dict.fromkeys((*mine, *base)):
        row = mine.get(key)
        hand = None if row is None else _some("members", row.cells, columns)
        was = _some("members", base[key], columns) if key in base else None
        if hand == was:
            continue
        current = now.get(key)
        here = None if current is None else _some("members", current, columns)
        if here not in (was, hand):
            to.faults.append(_twice(file, row, key, row and row.cells, current))
        elif here != hand:
            after = None if hand is None else _after(current or base.get(key), dict(zip(columns, hand, strict=True)))
            if current and after and current.get("id") and after["id"] != current["id"]:
                to.faults.append(_other_id(file, row, key, current["id"]))
            to.rows.append(RowChange("members", key, current, after))
            if row is not None:
                to.lines["members", key] = row


def _after(before: Cells | None, said: Cells) -> dict[str, str]:
    """Return a member's row with what a file says of it; the status before a lock is remembered (rule 4.7)."""
    after = {**dict.fromkeys(MEMBER_COLUMNS, ""), "kind": "person", "status": "active", **(before or {}), **said}
    was, old = (before or {}).get("was", ""), (before or {}).get("status", "")
    if after["was"] == was and after["status"] != old:
        after["was"] = (old if old not in OUT else was) if after["status"] in OUT else ""
    return after


def _take_given(
    sheet: Sequence[FileRow], base: Mapping[str, Cells], now: Mapping[str, Cells], to: Edited, file: str
) -> None:
    columns = _columns(sheet, ASSIGNMENT_COLUMNS)
    free: dict[tuple[str, ...], list[str]] = {}
    for number, cells in base.items():
        free.setdefault(_some("assignments", cells, columns), []).append(number)
    added = []
    for row in sheet:
        same = free.get(_some("assignments", row.cells, columns))
        if same:
            same.pop(0)
        else:
            added.append(row)
    new = Counter(_some("assignments", cells, columns) for number, cells in now.items() if number not in base)
    for number in (each for numbers in free.values() for each in numbers):
        if number not in now:
            continue  # somebody else took it out as well
        if meant("assignments", now[number]) != meant("assignments", base[number]):
            to.faults.append(_twice(file, None, base[number]["member"], None, now[number]))
        else:
            to.rows.append(RowChange("assignments", number, now[number], None))
    for n, row in enumerate(added):
        cells = meant("assignments", row.cells)
        if new[_some("assignments", cells, columns)]:
            new[_some("assignments", cells, columns)] -= 1  # somebody else gave the same
            continue
        full = {**dict.fromkeys(ASSIGNMENT_COLUMNS, ""), **cells}
        to.rows.append(RowChange("assignments", "0", None, full))
        to.lines["assignments", f"0-{n}"] = row


def _twice(file: str, row: FileRow | None, key: str, mine: Cells | None, theirs: Cells | None) -> Fault:
    line, at, source = row.find("key") if row else (0, 0, "")

    def shown(cells: Cells | None) -> str:
        return "it is taken out" if cells is None else f"“{','.join(each for each in cells.values() if each)}”"

    message = (
        f"{key} was changed by hand, and by another change since that file was made. "
        f"Here: {shown(mine)}; there: {shown(theirs)}"
    )
    expected = "what it says there; then make your change anew, by command or by hand"
    return Fault(file, line or (row.line if row else 0), at, key, "edited-twice", message, expected, source=source)


def _other_id(file: str, row: FileRow | None, key: str, known: str) -> Fault:
    line, at, source = row.find("id") if row else (0, 0, "")
    return Fault(file, line, at, key, "other-id", "the id of a member never changes", known, source=source)


def rows_now(last: RegisterRows, edited: Edited) -> tuple[list[FileRow], list[FileRow]]:
    """Return the rows of the register with what was edited; those that stand in a file know their line."""
    members, given = dict(last.members), dict(last.given)
    new = []
    for change in edited.rows:
        table = members if change.table == "members" else given
        if change.after is None:
            table.pop(change.key, None)
        elif change.table == "members":
            table[change.key] = change.after
        else:
            new.append(change.after)
    people = [_row(cells, edited.lines.get(("members", key))) for key, cells in members.items()]
    lines = [row for (table, _), row in edited.lines.items() if table == "assignments"]
    held = [FileRow({**cells, "number": number}, 0) for number, cells in given.items()]
    return people, [*held, *(_row(cells, row) for cells, row in zip(new, lines, strict=True))]


def _row(cells: Cells, found: FileRow | None) -> FileRow:
    return FileRow(cells, 0) if found is None else FileRow(cells, found.line, found.find)


def numbered(rows: Iterable[RowChange], made: Sequence[RowChange]) -> list[RowChange]:
    """Return rows with the numbers of assignments that had none when the rows were worked out, and have one now."""
    known: dict[tuple[tuple[str, str], ...], list[str]] = {}
    for row in made:
        if row.table == "assignments" and row.before is None and row.after is not None:
            known.setdefault(_identity(row.after), []).append(row.key)
    found = []
    for row in rows:
        if row.table == "assignments" and row.key == "0" and row.before is not None:
            numbers = known.get(_identity(row.before))
            found.append(row._replace(key=numbers.pop(0)) if numbers else row)
        else:
            found.append(row)
    return found


def _identity(cells: Cells) -> tuple[tuple[str, str], ...]:
    return tuple(sorted((column, cell) for column, cell in meant("assignments", cells).items() if cell))
