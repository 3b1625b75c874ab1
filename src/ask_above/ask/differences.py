"""All answers of two communities side by side: whose differ, in what, and where (rule 5).

Both are swept at once, place by place, over rows of people who are alike in both; only what differs is kept.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from ask_above.charter.moments import Instant
from ask_above.decide.may import VISITOR, Decider
from ask_above.decide.profile import Asked, ask_rank, ask_visitor
from ask_above.decide.ready import Cell
from ask_above.decide.table import Sweep, unpack

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from ask_above.decide.table import Bits

_NOBODY = Cell(None, owner=False)


class Crowds(NamedTuple):
    """Who is compared: those who are alike in both communities share a row.

    ``people[n]`` are the members of row n, ``ranks[n]`` the ranks asked as one, with ``visitor`` for a visitor.
    ``old[n]`` and ``new[n]`` are what they come down to.
    """

    people: list[list[str]]
    ranks: list[list[str]]
    old: list[Cell]
    new: list[Cell]


class Difference(NamedTuple):
    """At one place the answers of some rows about one capability differ: ``rows`` gained or lost it."""

    place: str
    capability: str
    gains: bool
    rows: NDArray[np.bool_]


class Merged(NamedTuple):
    """The keys of two communities in one order: those of the new one, then what is gone."""

    keys: tuple[str, ...]
    old: NDArray[np.intp]
    new: NDArray[np.intp]


def merged(old: Sequence[str], new: Sequence[str]) -> Merged:
    """Put keys into one order; ``old`` and ``new`` say where each of theirs stands in it."""
    keys = tuple(dict.fromkeys((*new, *old)))
    at = {key: n for n, key in enumerate(keys)}
    numbers = [np.array([at[key] for key in side], dtype=np.intp) for side in (old, new)]
    return Merged(keys, *numbers)


def crowds(old: Decider, new: Decider, at: Instant, *, apart: str | None = None) -> Crowds:
    """Return everyone who can be asked about in either community, those who are alike together.

    The member ``apart`` has a row of their own. Where both read the same charter, only those who changed are returned:
    all others have the same answers.
    """
    found = Crowds([], [], [], [])
    row_of: dict[tuple[object, ...], int] = {}
    same = old.frame is new.frame

    def add(before: Cell, after: Cell, *, alone: bool = False) -> int | None:
        alike = (before.profile, before.owner, after.profile, after.owner, alone)
        if same and alike[:2] == alike[2:4]:
            return None
        row = row_of.setdefault(alike, len(row_of))
        if row == len(found.old):
            found.old.append(before)
            found.new.append(after)
            found.people.append([])
            found.ranks.append([])
        return row

    for key, before, after in _members(old, new, at):
        row = add(before, after, alone=key == apart)
        if row is not None:
            found.people[row].append(key)
    if not same:
        for who, asked_before, asked_after in _others(old, new):
            row = add(_cell(asked_before), _cell(asked_after))
            if row is not None:
                found.ranks[row].append(who)
    return found


def _members(old: Decider, new: Decider, at: Instant) -> Iterator[tuple[str, Cell, Cell]]:
    """Yield every member with what they come down to before and after; someone who is not there is nobody."""
    before, after = old.people.register.members, new.people.register.members
    last: dict[tuple[int, int], tuple[Cell, Cell]] = {}
    keys = after if before.keys() <= after.keys() else dict.fromkeys((*after, *before))
    for key in keys:
        one, other = old.ready.fold(key) if key in before else None, new.ready.fold(key) if key in after else None
        pair = (id(one), id(other))
        known = last.get(pair)
        if known is None:
            known = last[pair] = (
                (one.only or old.ready.at(one, at)) if one else _NOBODY,
                (other.only or new.ready.at(other, at)) if other else _NOBODY,
            )
        yield key, *known


def _others(old: Decider, new: Decider) -> Iterator[tuple[str, Asked | None, Asked | None]]:
    for key in dict.fromkeys((*new.frame.rank_at, *old.frame.rank_at)):
        yield (
            f"rank:{key}",
            ask_rank(old.frame, old.frame.rank_at[key]) if key in old.frame.rank_at else None,
            ask_rank(new.frame, new.frame.rank_at[key]) if key in new.frame.rank_at else None,
        )
    yield VISITOR, ask_visitor(old.frame), ask_visitor(new.frame)


def _cell(asked: Asked | None) -> Cell:
    return _NOBODY if asked is None else Cell(asked.profile, owner=asked.rules_all)


def differences(old: Decider, new: Decider, found: Crowds, places: Sequence[str]) -> Iterator[Difference]:
    """Yield what differs, place by place in the order of ``places``; what is not there on one side is a no there."""
    if not found.old:
        return
    capabilities = merged(old.frame.catalogue.keys, new.frame.catalogue.keys)
    before, after = Side(old, found.old, capabilities, old=True), Side(new, found.new, capabilities, old=False)
    for place in places:
        one, other = before.at(place), after.at(place)
        turned = one ^ other
        for n in np.flatnonzero(turned.any(axis=1)).tolist():
            for gains, bits in ((True, turned[n] & other[n]), (False, turned[n] & one[n])):
                if bits.any():
                    yield Difference(place, capabilities.keys[n], gains, unpack(bits)[: len(found.old)])


class Side:
    """One of two communities: what every row can use, place by place, in the merged order of capabilities.

    Places are swept in the charter's own order; what is swept before it is asked for is kept until then.
    """

    def __init__(self, decider: Decider, cells: list[Cell], capabilities: Merged, *, old: bool) -> None:
        sweep = Sweep(decider.plan, cells)
        frame = decider.frame
        self._at = frame.place_at
        self._numbers = capabilities.old if old else capabilities.new
        self._plain = np.array_equal(self._numbers, np.arange(len(capabilities.keys)))
        self._rows, words = len(cells), -(-len(cells) // 64)
        self._empty: Bits = np.zeros((len(capabilities.keys), words), dtype=np.uint64)
        self._run = sweep.run(np.empty((1, len(frame.catalogue.keys), sweep.words), dtype=np.uint64))
        self._kept: dict[int, Bits] = {}
        self._words = words
        spare = words * 64 - self._rows
        self._last = np.uint64((1 << (64 - spare)) - 1) if spare else None

    def at(self, place: str) -> Bits:
        """Return what every row can use at a place, one bit each; nothing where there is no such place."""
        number = self._at.get(place)
        if number is None:
            return self._empty
        if number in self._kept:
            return self._kept.pop(number)
        for here, words in self._run:
            mine = self._in_order(words[:, : self._words])
            if here == number:
                return mine
            self._kept[here] = mine.copy() if mine.base is not None else mine
        raise AssertionError(place)

    def _in_order(self, words: Bits) -> Bits:
        if self._plain:
            mine = words
        else:
            mine = self._empty.copy()
            mine[self._numbers] = words
        if self._last is not None:
            mine[:, -1] &= self._last
        return mine
