"""A charter's plain data taken apart into facts, so that one can see which of them a change made and another undoes.

A thing with a key is known by it wherever it stands, a word of a list by itself, a rank's position by who stands below.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations
from typing import Any, Final, NamedTuple

from ask_above.change.draft import RowChange

Fact = tuple[Any, ...]

OVER: Final = "over"
"""Which rank stands above which."""
_SAYS: Final = "says"
_HAS: Final = "has"


def facts(data: Any) -> frozenset[Fact]:
    """Return all that a charter's plain data says, as facts that do not depend on where they are written."""
    known = set(_facts(data, ()))
    ranks = data.get("ranks") if isinstance(data, Mapping) else None
    if isinstance(ranks, Sequence) and not isinstance(ranks, str):
        keys = [rank["key"] for rank in ranks if isinstance(rank, Mapping) and "key" in rank]
        known |= {(OVER, higher, lower) for higher, lower in combinations(keys, 2)}
    return frozenset(known)


def _facts(data: Any, path: tuple[str, ...]) -> Iterator[Fact]:
    if isinstance(data, Mapping):
        for name, value in data.items():
            if path[:1] == ("places",) and name == "places":  # each stands under its own key, however deep
                for place in value or ():
                    yield (_SAYS, ("places", place.get("key", ""), "parent"), path[1])
                    yield from _facts([place], ("places",))
                continue
            yield (_HAS, (*path, name))
            yield from _facts(value, (*path, name))
    elif isinstance(data, Sequence) and not isinstance(data, str):
        for item in data:
            if isinstance(item, Mapping) and "key" in item:
                yield (_HAS, (*path, item["key"]))
                yield from _facts(item, (*path, item["key"]))
            else:
                yield (_HAS, (*path, json.dumps(item, sort_keys=True, default=str)))
    else:
        yield (_SAYS, path, data)


class Turned(NamedTuple):
    """What an edit takes out and puts back, as facts; what one change is found to have made is no older one's."""

    lost: set[Fact]
    back: set[Fact]

    def undoes(self, before: frozenset[Fact], after: frozenset[Fact]) -> bool:
        """Whether the edit takes back something of a change; the latest changes are to be asked about first.

        A value that is set to something else again is no return to what was.
        """
        made = {fact for fact in self.lost & (after - before) if fact[0] == _HAS}
        gone = self.back & (before - after)
        self.lost.difference_update(made)
        self.back.difference_update(gone)
        return bool(made or gone)


def undoes_rows(change: Sequence[RowChange], edit: Sequence[RowChange], later: set[tuple[str, ...]]) -> bool:
    """Whether an edit of rows takes back something that a change did to the same rows.

    ``later`` is what it takes back of changes since, which is no part; what is found of this one comes to it.
    """
    mine = {row.key: row for row in edit if row.table == "members"}
    taken_back = set[tuple[str, ...]]()
    for row in change:
        if row.table == "members" and row.key in mine:
            taken_back |= {(row.key, name) for name in _columns(row) if _is_back(row, mine[row.key], name)}
    made, undone = _spots(change), _spots(edit)
    for spot, (gone, come) in made.items():
        lost, back_again = undone.get(spot, ([], []))
        # another period instead is no return, unless it is the one that the change took away
        if any(cells in gone for cells in back_again) if back_again else any(cells in come for cells in lost):
            taken_back.add(spot)
    taken_back -= later
    later |= taken_back
    return bool(taken_back)


def _columns(row: RowChange) -> list[str]:
    """Return which columns of a member's row differ; of one that comes or goes it is the whole."""
    if row.before is None or row.after is None:
        return [""]
    return [name for name, cell in row.after.items() if cell != row.before.get(name, "")]


def _is_back(change: RowChange, edit: RowChange, column: str) -> bool:
    """Whether an edit brings a member's cell back to what it was before a change, or the whole member."""
    if not column or edit.before is None or edit.after is None or change.before is None:
        return (change.before is None) == (edit.after is None) and (change.after is None) == (edit.before is None)
    return edit.before.get(column, "") != edit.after.get(column, "") == change.before.get(column, "")


def _spots(rows: Sequence[RowChange]) -> dict[tuple[str, ...], tuple[list[dict[str, str]], list[dict[str, str]]]]:
    """Return what rows take out and put in, by member, rank and place."""
    spots: dict[tuple[str, ...], tuple[list[dict[str, str]], list[dict[str, str]]]] = {}
    for row in rows:
        for n, cells in enumerate((row.before, row.after)):
            if row.table == "assignments" and cells is not None:
                spot = cells["member"], cells["rank"], cells.get("place", "")
                period = {name: cells.get(name, "") for name in ("from", "until")}
                spots.setdefault(spot, ([], []))[n].append(period)
    return spots
