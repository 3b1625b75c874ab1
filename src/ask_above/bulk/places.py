"""What each place does to what is held, as short lists of steps; follows from the charter alone.

A step says: in one column of planes, set the bits of one holder's rows, or clear them. Steps stand in the order of the
layers, each later one overwriting what stood before (rule 5.4). The columns are, for each capability, what is held and
then what is not barred.
"""

from __future__ import annotations

from copy import copy
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

import numpy as np

from ask_above.bulk.programme import Programme
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.layers import LayerName, Word

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Numbers: TypeAlias = NDArray[np.intp]


class Operation(NamedTuple):
    """Set (``give``) or clear the bits of the rows numbered ``rows`` in a column; see :class:`CompiledPlace`."""

    give: bool
    column: int
    rows: int


class CompiledPlace(NamedTuple):
    """What one place does.

    ``steps`` has a line for each step: its turn among those of its column, whether it gives, the column, the rows; rows
    below zero, -1 - k, are those of the k-th of ``sets``, several members who never stand in each other's way.
    ``again`` are the capabilities whose use rests on several columns, of which a step has changed one.
    """

    steps: Numbers
    again: Numbers
    sets: tuple[tuple[int, ...], ...]


class CompiledPlaces:
    """What all places do, made when they are first needed.

    Holders are numbered: the ranks by position, then the groups, then the members with exceptions. What groups and
    members are given is numbered apart, ``apart`` further on, as it is not given to someone pending.
    """

    def __init__(self, compiled: CompiledCharter) -> None:
        self.compiled = compiled
        groups, members = compiled.charter.groups, sorted(compiled.exceptional)
        self.holders = [*(rank.key for rank in compiled.ranks), *groups, *(f"@{member}" for member in members)]
        self.number = {holder: n for n, holder in enumerate(self.holders)}
        self.common = len(self.holders) - len(members)  # ranks and groups, each of which may speak for many
        self.apart = len(self.holders)
        catalogue = compiled.catalogue
        self.rests = [bits(catalogue.rests_on(key)) for key in catalogue.keys]
        self.resting: list[list[int]] = [[] for _ in catalogue.keys]
        for n, rests in enumerate(self.rests):
            for other in rests:
                self.resting[other].append(n)
        self.has_bars = any(entry.bar for entry in _all_entries(compiled))
        # what rests on nothing else is usable where it is held, and needs no plane of its own unless it can be barred
        self.alone = [len(rests) == 1 and not self.has_bars for rests in self.rests]
        self._places: list[CompiledPlace | None] = [None] * len(compiled.places)
        self.programmes: dict[bool | None, Programme] = {}  # kept here by those who put them together

    def after(self, compiled: CompiledCharter) -> CompiledPlaces:
        """Return the same after a change of what places say; other places are shared."""
        if compiled.exceptional != self.compiled.exceptional:
            return CompiledPlaces(compiled)
        changed = [n for n, place in enumerate(compiled.places) if place is not self.compiled.places[n]]
        entries = [entry for n in changed for entry in (*compiled.places[n].overrides, *compiled.places[n].exceptions)]
        if not self.has_bars and any(compiled.word_of(entry).bar for entry in entries):
            return CompiledPlaces(compiled)
        other = copy(self)
        other.compiled, other._places, other.programmes = compiled, list(self._places), {}
        for n in changed:
            other._places[n] = None
        return other

    def at(self, place: int) -> CompiledPlace:
        """Return what a place does."""
        known = self._places[place]
        if known is None:
            known = self._places[place] = self._make(place)
        return known

    @property
    def first_gate(self) -> int:
        """The number of the rows that the first gate shuts out; those of the other gates follow."""
        return 2 * self.apart

    @property
    def first_set(self) -> int:
        """The number of the rows of the programme's first set of members; those of the others follow."""
        return self.first_gate + len(self.compiled.gated)

    def columns(self, capability: int) -> list[int]:
        """Return the columns that the use of a capability rests on: all of it held, and not barred (5.5, 5.6)."""
        rests, size = self.rests[capability], len(self.rests)
        return [*rests, *(n + size for n in rests)] if self.has_bars else rests

    def _make(self, place: int) -> CompiledPlace:
        compiled, size = self.compiled, len(self.rests)
        own = [(self.number[f"@{key}"], compiled.word_of(entry)) for key, entry in compiled.exceptions[place].items()]
        steps: list[Operation] = []
        for layer, holder, allow, deny in compiled.sayings_at(place).order:
            number = self.number[holder]
            apart = self.apart if layer is LayerName.GROUP else 0  # those pending are given nothing by their groups
            steps += [Operation(True, n, number + apart) for n in bits(allow)]
            steps += [Operation(False, n, number) for n in bits(deny)]
        for holder, word in compiled.words_at(place).items():
            steps += [Operation(False, n + size, self.number[holder]) for n in bits(word.bar)]
        together = self._together(own)
        steps += [Operation(give, column, -1 - k) for k, (give, column) in enumerate(together)]
        touched = {step.column % size for step in steps}
        again = {other for n in touched for other in self.resting[n] if not self.alone[other]}
        return CompiledPlace(
            _in_turns(steps), np.array(sorted(again), dtype=np.intp), tuple(map(tuple, together.values()))
        )

    def _together(self, own: list[tuple[int, Word]]) -> dict[tuple[bool, int], list[int]]:
        """Return to whom exceptions give what, then from whom they take or bar what: each speaks for one member."""
        size = len(self.rests)
        gives: dict[tuple[bool, int], list[int]] = {}
        takes: dict[tuple[bool, int], list[int]] = {}
        for holder, word in own:
            for n in bits(word.allow):
                gives.setdefault((True, n), []).append(holder + self.apart)
            for n in (*bits(word.deny), *(bit + size for bit in bits(word.bar))):
                takes.setdefault((False, n), []).append(holder)
        return gives | takes


def _in_turns(steps: list[Operation]) -> Numbers:
    """Return the steps with the turn of each among those of its column."""
    turns: dict[int, int] = {}
    lines = np.empty((len(steps), 4), dtype=np.intp)
    for n, step in enumerate(steps):
        turn = turns.get(step.column, 0)
        turns[step.column] = turn + 1
        lines[n] = (turn, *step)
    return lines


def _all_entries(compiled: CompiledCharter) -> list[Word]:
    """Return what every entry of every place and set says."""
    entries = [entry for place in compiled.places for entry in (*place.overrides, *place.exceptions)]
    entries += [entry for override_set in compiled.charter.override_sets.values() for entry in override_set.overrides]
    return [compiled.word_of(entry) for entry in entries]


def bits(mask: int) -> list[int]:
    """Return the numbers of the bits that are set."""
    numbers = []
    while mask:
        low = mask & -mask
        numbers.append(low.bit_length() - 1)
        mask ^= low
    return numbers
