"""Two communities over the same rows of people: what every row can use or holds on either side, where it differs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from ask_above.bulk.making import programme_of
from ask_above.bulk.places import CompiledPlaces
from ask_above.bulk.rows import BitRows
from ask_above.bulk.table import Sweep, unpack
from ask_above.decide.classes import ClassState
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Profile

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from ask_above.bulk.table import Bits


_AT_A_TIME = 1 << 26  # bytes of planes of one side that are compared at a time
_BLOCK = 1 << 24  # bytes of one side's block of places
_MOST_KEPT = 4_096


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


class Side:
    """One of two communities; ``order`` says where each of its capabilities stands in the order of both."""

    def __init__(
        self, decider: Decider, states: list[ClassState], order: NDArray[np.intp], size: int, beside: Side | None = None
    ) -> None:
        rows = None if beside is None else beside.sweep.rows.over(decider.compiled.keep(CompiledPlaces), states)
        self.sweep: Sweep = Sweep(decider.compiled.keep(CompiledPlaces), states, rows)
        self.place_at = decider.compiled.place_at
        self.own = np.full(size, -1, dtype=np.intp)
        self.own[order] = np.arange(len(order))
        self.words = -(-len(states) // 64)
        self._room: Bits = np.empty(0, dtype=np.uint64)

    def at(self, places: Sequence[str], capabilities: NDArray[np.intp]) -> Bits:
        """Return places by capabilities by words of rows; nothing where there is no such place or capability.

        The array is used again.
        """
        number = {self.place_at[key]: n for n, key in enumerate(places) if key in self.place_at}
        own = self.own[capabilities]
        there = own[own >= 0]
        numbers = sorted(number)
        whole = len(there) == self.sweep.capabilities and bool((there == np.arange(len(there))).all())
        part = self.sweep.programme.part(numbers, None if whole else there.tolist())
        planes = self.sweep.write(part, self._array(len(numbers), len(there)))[..., : self.words]
        if len(there) == len(own) and list(number) == numbers and len(numbers) == len(places):
            return planes
        every = np.zeros((len(places), len(own), self.words), dtype=np.uint64)
        every[np.ix_(np.array([number[n] for n in numbers], dtype=np.intp), np.flatnonzero(own >= 0))] = planes
        return every

    def _array(self, places: int, capabilities: int) -> Bits:
        """Return an array, in the memory of the one before where that is enough."""
        size = places * capabilities * self.sweep.words
        if self._room.size < size:
            self._room = np.empty(size, dtype=np.uint64)
        return self._room[:size].reshape(places, capabilities, self.sweep.words)


class Sides:
    """Both communities; ``last`` are the bits that count in the last of the ``words`` of rows."""

    def __init__(
        self, old: tuple[Decider, list[ClassState]], new: tuple[Decider, list[ClassState]], capabilities: Merged
    ) -> None:
        self.capabilities = np.arange(len(capabilities.keys))
        self.old = Side(*old, capabilities.old, len(self.capabilities))
        self.new = Side(*new, capabilities.new, len(self.capabilities), self.old)
        rows = len(old[1])
        self.words = self.old.words
        self.last = np.uint64((1 << (rows - 1) % 64 + 1) - 1)

    def may_differ(self, places: Sequence[str]) -> tuple[Sequence[str], NDArray[np.intp]]:
        """Return the places and capabilities outside of which nothing differs."""
        number = self.old.place_at
        some = None
        if self._of_one_form():
            some = may_differ(self.old.sweep, self.new.sweep, sorted(number[key] for key in places))
        if some is None:
            return places, self.capabilities
        keys = list(number)
        return [keys[n] for n in some[0]], some[1]

    def _of_one_form(self) -> bool:
        """Whether places and capabilities have the same numbers on both sides."""
        if list(self.old.place_at) != list(self.new.place_at):
            return False
        return np.array_equal(self.old.own, self.capabilities) and np.array_equal(self.new.own, self.capabilities)


def may_differ(one: Sweep, other: Sweep, places: Sequence[int]) -> tuple[list[int], NDArray[np.intp]] | None:
    """Return the places and capabilities, by number, outside of which two sweeps come to the same.

    Planes are compared, of which there are few, instead of places times capabilities. Places and capabilities have the
    same numbers on both sides; ``None`` where rows stand for each other otherwise on one side, so that it is not known.
    """
    moves = zip(one.rows.moves, other.rows.moves, strict=True)
    if one.rows.words != other.rows.words or not all(a is b or np.array_equal(a, b) for a, b in moves):
        return None
    differing: list[int] = []
    differ = np.zeros(one.capabilities + 1, dtype=bool)
    same = one.programme is other.programme
    for part in one.portions(places, len(places), _AT_A_TIME):
        beside = part if same else other.programme.part(part.places.tolist())
        first, second = one.work_out(part), other.work_out(beside)
        mine, theirs = (np.column_stack([portion.shown, portion.seen]) for portion in (part, beside))
        partner = np.zeros(part.planes, dtype=np.intp)
        partner[mine] = theirs
        unlike = (first != second[partner]).any(axis=1)
        # what stands beside several may differ
        states = unlike[mine] | (partner[mine] != theirs)
        states[states[:, -1]] = True
        differing += part.places[states.any(axis=1)].tolist()
        differ |= states.any(axis=0)
    return differing, np.flatnonzero(differ[:-1])


class TurnedHoldings(NamedTuple):
    """At one of the places some pairs gain and lose the same, with gates or with gates left aside."""

    place: int
    gated: bool
    gained: int
    lost: int
    pairs: tuple[int, ...]


def held_otherwise(
    old: CompiledPlaces,
    new: CompiledPlaces,
    pairs: Sequence[tuple[Profile, Profile]],
    beside: Sequence[int],
    behind: Sequence[int],
) -> Iterator[TurnedHoldings]:
    """Yield what the second of each pair holds at the new places and the first did not, or the other way round.

    ``beside`` says for each of the new places with which of the old ones it is compared. ``behind`` are those for which
    gates matter on either side: at them what is held with gates left aside is compared as well. Both sides must have
    the same capabilities, and nobody may be unbounded.
    """
    if not pairs:
        return
    cells = [[ClassState(profile, owner=False) for profile in side] for side in zip(*pairs, strict=True)]
    first = BitRows(old, cells[0])
    second = first.over(new, cells[1]) or BitRows(new, cells[1])
    words = -(-len(pairs) // 64)
    folds = _Folds(len(pairs))
    for gated, places in ((True, range(len(beside))), (False, behind)):
        if not places:
            continue
        one = Sweep(old, cells[0], first, programme_of(old, gated=gated))
        other = Sweep(new, cells[1], second, programme_of(new, gated=gated))
        where = [beside[n] for n in places]
        known = may_differ(one, other, places) if where == list(places) else None
        some, capabilities = known or (list(places), np.arange(one.capabilities))
        asked = None if len(capabilities) == one.capabilities else capabilities.tolist()
        room = max(1, _BLOCK // max(8, len(capabilities) * words * 8))
        for start in range(0, len(some), room):
            here = some[start : start + room]
            was, which = np.unique(np.array([beside[n] for n in here], dtype=np.intp), return_inverse=True)
            before, after = one.at(was.tolist(), asked)[which], other.at(here, asked)
            turned = before[..., :words] ^ after[..., :words]
            gains = turned & after[..., :words]
            differs: NDArray[np.bool_] = np.any(turned, axis=2)
            for n in np.flatnonzero(differs.any(axis=1)).tolist():
                lines = differs[n]
                for gained, lost, pairs_here in folds.of(capabilities[lines], turned[n, lines], gains[n, lines]):
                    yield TurnedHoldings(here[n], gated, gained, lost, pairs_here)


class _Folds:
    """Folds the bits of one place into pairs that gain and lose the same; many places turn alike."""

    def __init__(self, pairs: int) -> None:
        self.pairs = pairs
        self._known: dict[tuple[bytes, bytes, bytes], list[tuple[int, int, tuple[int, ...]]]] = {}

    def of(
        self, lines: NDArray[np.intp], bits: NDArray[np.uint64], now: NDArray[np.uint64]
    ) -> list[tuple[int, int, tuple[int, ...]]]:
        """Return what is gained, what is lost, and by whom; by capability, for which pairs it differs, who has it."""
        key = lines.tobytes(), bits.tobytes(), now.tobytes()
        known = self._known.get(key)
        if known is None:
            if len(self._known) >= _MOST_KEPT:
                self._known.clear()
            known = self._known[key] = self._fold(lines.tolist(), bits, now)
        return known

    def _fold(
        self, lines: list[int], bits: NDArray[np.uint64], now: NDArray[np.uint64]
    ) -> list[tuple[int, int, tuple[int, ...]]]:
        some = np.flatnonzero(unpack(np.bitwise_or.reduce(bits, axis=0))[: self.pairs])
        rows = np.stack([unpack(line)[some] for line in (*bits, *now)])
        # numbers are sorted far quicker than columns of bits: a byte at a time, and most turn in no more than one
        which, *more = np.packbits(rows, axis=0)
        for byte in more:
            which = np.unique(256 * which.astype(np.int64) + byte, return_inverse=True)[1]
        folded = []
        sizes = np.bincount(which)
        order = np.argsort(which, kind="stable")
        for part in np.split(order, np.cumsum(sizes[sizes > 0])[:-1]) if len(some) else ():
            column = rows[:, part[0]].tolist()
            turned, gains = column[: len(lines)], column[len(lines) :]
            gained = sum(1 << line for line, yes in zip(lines, gains, strict=True) if yes)
            lost = sum(1 << line for line, a, b in zip(lines, turned, gains, strict=True) if a and not b)
            folded.append((gained, lost, tuple(some[part].tolist())))
        return folded
