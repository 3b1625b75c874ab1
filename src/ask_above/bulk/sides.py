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
        """Return the places and capabilities outside of which nothing differs.

        Planes are compared, of which there are few, instead of places times capabilities. Where the two are not of
        one form, that is everything.
        """
        if not self._of_one_form():
            return places, self.capabilities
        differing: list[int] = []
        differ = np.zeros(len(self.capabilities) + 1, dtype=bool)
        number = self.old.place_at
        numbers = sorted(number[key] for key in places)
        same = self.old.sweep.programme is self.new.sweep.programme
        for part in self.old.sweep.portions(numbers, len(numbers), _AT_A_TIME):
            other = part if same else self.new.sweep.programme.part(part.places.tolist())
            first, second = self.old.sweep.work_out(part), self.new.sweep.work_out(other)
            mine, theirs = (np.column_stack([portion.shown, portion.seen]) for portion in (part, other))
            beside = np.zeros(part.planes, dtype=np.intp)
            beside[mine] = theirs
            unlike = (first != second[beside]).any(axis=1)
            # what stands beside several may differ
            states = unlike[mine] | (beside[mine] != theirs)
            states[states[:, -1]] = True
            differing += part.places[states.any(axis=1)].tolist()
            differ |= states.any(axis=0)
        keys = list(number)
        return [keys[n] for n in differing], np.flatnonzero(differ[:-1])

    def _of_one_form(self) -> bool:
        """Whether places, capabilities and rows have the same numbers on both sides."""
        if list(self.old.place_at) != list(self.new.place_at):
            return False
        if not np.array_equal(self.old.own, self.capabilities) or not np.array_equal(self.new.own, self.capabilities):
            return False
        rows, others = self.old.sweep.rows, self.new.sweep.rows
        moves = zip(rows.moves, others.moves, strict=True)
        return rows.words == others.words and all(one is other or np.array_equal(one, other) for one, other in moves)
