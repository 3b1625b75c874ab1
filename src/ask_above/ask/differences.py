"""All answers of two communities side by side: whose differ, in what, and where (rule 5).

Both are swept at once, place by place, over rows of people who are alike in both; only what differs is kept.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from ask_above.ask.sides import Sides, merged
from ask_above.charter.moments import Instant
from ask_above.decide.may import VISITOR, Decider
from ask_above.decide.profile import Asked, ask_rank, ask_visitor
from ask_above.decide.ready import Cell
from ask_above.decide.table import Crowd, unpack

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from ask_above.decide.table import Bits

_LINES = 4096  # answers of everyone that are counted at a time
_AT_A_TIME = 1 << 24  # bytes of one side's block of places
_NOBODY = Cell(None, owner=False)


class Crowds(NamedTuple):
    """Who is compared: those who are alike in both communities share a row.

    ``members`` are all keys, ``row`` the row of each, -1 for those whose answers cannot differ. ``ranks[n]`` are those
    asked as a rank in row n, with ``visitor`` for a visitor. ``old[n]`` and ``new[n]`` are what the row comes down to.
    """

    members: tuple[str, ...]
    row: NDArray[np.int64]
    ranks: list[list[str]]
    old: list[Cell]
    new: list[Cell]

    def sizes(self) -> NDArray[np.int64]:
        """Return how many members stand in each row."""
        return np.bincount(self.row[self.row >= 0], minlength=len(self.old)).astype(np.int64)

    def people(self, rows: NDArray[np.bool_]) -> list[str]:
        """Return the members in any of these rows."""
        among = np.flatnonzero((self.row >= 0) & rows[self.row]) if len(rows) else ()
        return [self.members[n] for n in among]


class Difference(NamedTuple):
    """At one place the answers of some rows about one capability differ: ``rows`` gained or lost it."""

    place: str
    capability: str
    gains: bool
    rows: NDArray[np.bool_]


def crowds(old: Decider, new: Decider, at: Instant, *, apart: str | None = None) -> Crowds:
    """Return everyone who can be asked about in either community, those who are alike together.

    The member ``apart`` has a row of their own. Where both read the same charter, only those who changed have a row:
    all others have the same answers.
    """
    same = old.frame is new.frame
    (before, crowd), (after, other) = old.everyone.rows(at), new.everyone.rows(at)
    members, first, second = _side_by_side(crowd, other)
    # what is not there on one side is nobody, number 0
    pairs = (first + 1) * (len(after.cells) + 1) + second + 1
    unique, row = np.unique(pairs, return_inverse=True)
    found = Crowds(members, row.astype(np.int64), [], [], [])
    known = [(_cell_at(before.cells, n - 1), _cell_at(after.cells, m - 1)) for n, m in _divided(unique, after.cells)]
    if same:
        differ = [n for n, (one, two) in enumerate(known) if (one.profile, one.owner) != (two.profile, two.owner)]
        renumbered = np.full(len(known), -1, dtype=np.int64)
        renumbered[differ] = np.arange(len(differ))
        found.row[:] = renumbered[found.row]
        known = [known[n] for n in differ]
    if apart is not None and found.row[members.index(apart)] >= 0:
        known.append(known[found.row[members.index(apart)]])
        found.row[members.index(apart)] = len(known) - 1
    for one, two in known:
        _add(found, one, two)
    if not same:
        for who, asked_before, asked_after in _others(old, new):
            _add(found, _cell(asked_before), _cell(asked_after), who)
    return found


def _add(found: Crowds, before: Cell, after: Cell, who: str | None = None) -> None:
    found.old.append(before)
    found.new.append(after)
    found.ranks.append([] if who is None else [who])


def _divided(pairs: NDArray[np.int64], cells: Sequence[Cell]) -> list[tuple[int, int]]:
    return [divmod(pair, len(cells) + 1) for pair in pairs.tolist()]


def _cell_at(cells: Sequence[Cell], number: int) -> Cell:
    return _NOBODY if number < 0 else cells[number]


def _side_by_side(old: Crowd, new: Crowd) -> tuple[tuple[str, ...], NDArray[np.int64], NDArray[np.int64]]:
    """Return all members of both, and each one's row on either side, -1 where they are not there."""
    if old.members == new.members:
        return new.members, old.rows.astype(np.int64), new.rows.astype(np.int64)
    keys = tuple(dict.fromkeys((*new.members, *old.members)))

    def rows(crowd: Crowd) -> NDArray[np.int64]:
        number = crowd.number
        at = np.array([number.get(key, -1) for key in keys], dtype=np.int64)
        found = np.append(crowd.rows.astype(np.int64), -1)[at]
        return np.asarray(found)

    return keys, rows(old), rows(new)


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


class _Block(NamedTuple):
    """Some places and capabilities: what every row can use there on either side, and what of it turns."""

    places: Sequence[str]
    capabilities: list[str]
    old: Bits
    new: Bits
    turned: Bits


def differences(
    old: Decider, new: Decider, found: Crowds, places: Sequence[str], told: Callable[[int, int], None] | None = None
) -> Iterator[Difference]:
    """Yield what differs, place by place in the order of ``places``; what is not there on one side is a no there."""
    for block in _blocks(old, new, found, places, told):
        for place, n in np.argwhere(np.bitwise_or.reduce(block.turned, axis=2)).tolist():
            line, key = block.turned[place, n], block.capabilities[n]
            for gains, bits in ((True, line & block.new[place, n]), (False, line & block.old[place, n])):
                if bits.any():
                    yield Difference(block.places[place], key, gains, unpack(bits)[: len(found.old)])


def turned(
    old: Decider, new: Decider, found: Crowds, own: tuple[str, str, int] | None = None
) -> tuple[int, NDArray[np.bool_]]:
    """Count the answers about members that differ, and return the rows that they are of.

    One answer may be left aside: ``own`` is its place, its capability and its row.
    """
    sizes, rows = found.sizes(), len(found.old)
    answers, anyone = 0, np.zeros(-(-rows // 64), dtype=np.uint64)
    for block in _blocks(old, new, found, list(old.frame.place_at), None):
        if own is not None and own[0] in block.places and own[1] in block.capabilities:
            line = block.turned[block.places.index(own[0]), block.capabilities.index(own[1])]
            line[own[2] // 64] &= ~np.uint64(1 << own[2] % 64)
        lines = block.turned[block.turned.any(axis=2)]
        anyone |= np.bitwise_or.reduce(lines, axis=0)
        for start in range(0, len(lines), _LINES):
            some = np.ascontiguousarray(lines[start : start + _LINES])
            bits = np.unpackbits(some.view(np.uint8), axis=1, bitorder="little")[:, :rows]
            answers += int(bits.sum(axis=0, dtype=np.int64) @ sizes)
    return answers, unpack(anyone)[:rows]


def _blocks(
    old: Decider, new: Decider, found: Crowds, places: Sequence[str], told: Callable[[int, int], None] | None
) -> Iterator[_Block]:
    """Yield the places, and the capabilities, that may differ; the arrays are used again."""
    if not found.old:
        return
    capabilities = merged(old.frame.catalogue.keys, new.frame.catalogue.keys)
    touched = _touched(old, new, found)
    if touched is not None:
        places = [key for key in places if new.frame.place_at[key] in touched]
    sides = Sides((old, found.old), (new, found.new), capabilities)
    places, some = sides.may_differ(places)
    keys = [capabilities.keys[n] for n in some.tolist()]
    room = max(1, _AT_A_TIME // (max(1, len(some)) * sides.words * 8))
    for start in range(0, len(places), room):
        if told:
            told(start, len(places))
        here = places[start : start + room]
        one, other = sides.old.at(here, some), sides.new.at(here, some)
        different = one ^ other
        different[..., -1] &= sides.last
        yield _Block(here, keys, one, other, different)


def _touched(old: Decider, new: Decider, found: Crowds) -> frozenset[int] | None:
    """Return the places that alone can differ, where people are the same and only what places say was changed."""
    pairs = zip(found.old, found.new, strict=True)
    if any((one.profile, one.owner) != (other.profile, other.owner) for one, other in pairs):
        return None
    kept = old.frame.after(new.frame.charter)
    return None if kept is None else kept[1]
