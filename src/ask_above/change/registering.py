"""Rows of the register made into what they mean, and a register changed by them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import tzinfo

from ask_above.change.draft import RowChange
from ask_above.charter.moments import period
from ask_above.charter.names import SITE
from ask_above.people.register import Assignment, Member, Register


def assignment_of(cells: Mapping[str, str], number: int, zone: tzinfo) -> Assignment:
    """Return the assignment that a row stands for."""
    when = period(cells.get("from", ""), cells.get("until", ""), zone)
    place, by, why = cells.get("place") or SITE, cells.get("by", ""), cells.get("why", "")
    source = cells.get("source", "")
    return Assignment(cells["member"], cells["rank"], place, when, by, why, number=number, source=source)


def changed(register: Register, rows: Iterable[RowChange], zone: tzinfo) -> Register:
    """Return the register after rows have changed."""
    members: dict[str, Member | None] = {}
    given: dict[str, list[Assignment]] = {}
    for row in rows:
        if row.table == "members":
            members[row.key] = None if row.after is None else Member.of(row.after)
            continue
        stood: list[Assignment] | None = None
        at = 0
        for cells, comes in ((row.before, False), (row.after, True)):
            if cells is None:
                continue
            key = cells["member"]
            mine = given.setdefault(key, list(register.of(key)))
            assignment = assignment_of(cells, int(row.key), zone)
            if comes:
                # as in the database, a row that changes stays where it stood
                mine.insert(at if mine is stood else len(mine), assignment)
            else:
                stood, at = mine, _take(mine, assignment)
    return register.changed(members, given)


def folded(rows: Sequence[RowChange]) -> list[RowChange]:
    """Return what some rows come to, each row of the register once: from how it was at first to how it is at last.

    What is given and taken again is not there at all, as an assignment that is new has no number to be found by.
    """
    row_changes: dict[object, RowChange] = {}
    new: dict[frozenset[tuple[str, str]], list[object]] = {}
    takes_new = any(row.key == "0" and row.before is not None for row in rows)
    for n, row in enumerate(rows):
        slot: object = row.table, row.key
        if row.table == "assignments" and row.key == "0":
            mine = new.get(_cells(row.before)) if row.before is not None else None
            slot = mine.pop() if mine else n
            if takes_new and row.after is not None:
                new.setdefault(_cells(row.after), []).append(slot)
        known = row_changes.get(slot)
        row_changes[slot] = row if known is None else row._replace(before=known.before)
    return [row for row in row_changes.values() if row.before != row.after]


def _cells(row: Mapping[str, str]) -> frozenset[tuple[str, str]]:
    return frozenset((column, cell) for column, cell in row.items() if cell)


def _take(given: list[Assignment], gone: Assignment) -> int:
    """Take one assignment out: the one of that number, else the first that says the same; return where it stood."""
    for n, each in enumerate(given):
        same = each[:4] == gone[:4]
        if (gone.number and each.number == gone.number) or (not gone.number and same):
            del given[n]
            return n
    return len(given)
