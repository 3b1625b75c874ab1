"""Two communities over the same rows of people: what every row can use on either side, and where that may differ."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from ask_above.bulk.places import CompiledPlaces
from ask_above.bulk.table import Sweep
from ask_above.decide.classes import ClassState
from ask_above.decide.decider import Decider

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from ask_above.bulk.table import Bits

_AT_A_TIME = 1 << 26  # bytes of planes of one side that are compared at a time


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
