"""BitRows of people alike, which of them hold what, and where they are other rows (rules 4.1 to 4.3, 5.3).

A row stands for a profile with all its ranks of the whole site. A profile that holds more ranks at a place and below
is, there, another row; those rows follow behind.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from copy import copy
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

import numpy as np

from ask_above.bulk.places import CompiledPlaces, bits
from ask_above.bulk.programme import lists
from ask_above.decide.classes import ClassState
from ask_above.decide.profile import Profile
from ask_above.decide.walk import passes, ranks_at

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from ask_above.bulk.programme import Lists, Numbers

    Bits: TypeAlias = NDArray[np.uint64]

_FULL = np.uint64(0xFFFFFFFFFFFFFFFF)
_ONE = np.uint64(1)


def pack(rows: Iterable[int], words: int) -> Bits:
    """Return a set of rows as packed bits: row n is bit n % 64 of word n // 64."""
    flags = np.zeros(words * 64, dtype=np.uint8)
    flags[list(rows)] = 1
    return np.packbits(flags, bitorder="little").view(np.uint64)


class Elsewhere(NamedTuple):
    """At a place a profile is another row, as it holds more ranks there."""

    place: int
    row: int
    instead: int


class RowMoves(NamedTuple):
    """Where at which places the bit of a row is taken from: a line for each, by place."""

    place: NDArray[np.intp]
    word: NDArray[np.intp]
    bit: Bits
    to_word: NDArray[np.intp]
    to_bit: Bits


def moves(found: list[Elsewhere]) -> RowMoves:
    """Return what is elsewhere as arrays."""
    place, row, instead = np.array(sorted(found), dtype=np.intp).reshape(-1, 3).T
    return RowMoves(place, instead // 64, (instead % 64).astype(np.uint64), row // 64, (row % 64).astype(np.uint64))


class BitRows:
    """The rows of some states, in their order, and of those who hold more ranks at some places only.

    ``held`` is what each row holds by its ranks, a plane for each capability. ``nobody`` are those who can do nothing.
    """

    def __init__(self, compiled_places: CompiledPlaces, states: Sequence[ClassState]) -> None:
        self.compiled_places, self.compiled, self.states = compiled_places, compiled_places.compiled, states
        self._elsewhere: list[Elsewhere] = []
        self.flat: list[tuple[Profile | None, list[int], bool]] = []
        self._rows_for_profiles()
        self.words = -(-max(1, len(self.flat)) // 64)
        self.moves = moves(self._elsewhere)
        self._rows_by_holder()

    def _rows_for_profiles(self) -> None:
        """Give every state a row, and more rows to those that hold other ranks in parts of the site."""
        local: list[int] = []
        for n, state in enumerate(self.states):
            profile = state.profile
            ranks = ranks_at(self.compiled, profile, 0) if profile else []
            self.flat.append((profile, ranks, state.owner or not self.compiled.unbounded.isdisjoint(ranks)))
            if profile and any(place for _, place in profile.placed):
                local.append(n)
        self.virtual: dict[int, tuple[Profile, list[int]]] = {}
        for n in local:
            self._local_rows(n)

    def _local_rows(self, row: int) -> None:
        profile, base, _ = self.flat[row]
        if profile is None:
            return
        known: dict[tuple[int, ...], int] = {}
        spots = {below for _, place in profile.placed if place for below in self.compiled.below[place]}
        for place in sorted(spots):
            ranks = ranks_at(self.compiled, profile, place)
            if ranks == base:
                continue
            key = tuple(ranks)
            if key not in known:
                known[key] = len(self.flat)
                self.virtual[len(self.flat)] = (profile, [])
                self.flat.append((profile, ranks, not self.compiled.unbounded.isdisjoint(ranks)))
            self.virtual[known[key]][1].append(place)
            self._elsewhere.append(Elsewhere(place, row, known[key]))

    def _rows_by_holder(self) -> None:
        """Pack, for every rank and group, the rows they speak for, and list those of members with exceptions.

        Nobody speaks for those who are unbounded.
        """
        numbers, common = self.compiled_places.number, self.compiled_places.common
        holders: list[int] = []
        sizes, unbounded, pending = [], [], []
        own: list[list[int]] = [[] for _ in self.compiled_places.holders[common:]]
        for n, (profile, ranks, free) in enumerate(self.flat):
            before = len(holders)
            if free:
                unbounded.append(n)
            elif profile is not None:
                holders += ranks
                holders += [numbers[group] for group in profile.groups]
                if profile.exceptions is not None:
                    own[numbers[f"@{profile.exceptions}"] - common].append(n)
                if profile.pending:
                    pending.append(n)
            sizes.append(len(holders) - before)
        self.unbounded = pack(unbounded, self.words)
        # bits beyond the last row, and rows of those who can do nothing: nothing is ever held there
        nobody = [n for n, (profile, _, free) in enumerate(self.flat) if profile is None and not free]
        self.nobody = pack([*nobody, *range(len(self.flat), self.words * 64)], self.words)
        rows = np.zeros((common, self.words), dtype=np.uint64)
        self._set(rows, np.array(holders, dtype=np.intp), np.repeat(np.arange(len(self.flat)), sizes))
        self._own, self._pending = lists(own), np.zeros(len(self.flat), dtype=bool)
        self._pending[pending] = True
        self._rows = np.concatenate([rows, rows & ~pack(pending, self.words), self._shut_out(rows)])
        self._kept = ~self._rows
        # where the rows of a number stand that a step may name
        self._at = np.full(self.compiled_places.first_set, -1, dtype=np.intp)
        self._at[:common] = np.arange(common)
        self._at[self.compiled_places.apart : self.compiled_places.apart + common] = np.arange(common, 2 * common)
        self._at[self.compiled_places.first_gate :] = np.arange(2 * common, len(self._rows))
        self.held = self._held()

    @staticmethod
    def _set(lines: Bits, line: Numbers, row: Numbers) -> None:
        """Set the bits of rows in some lines."""
        # unbuffered: several rows may fall into one word
        np.bitwise_or.at(lines, (line, row // 64), _ONE << (row % 64).astype(np.uint64))

    def spoken_for(self, numbers: Numbers, sets: Lists, *, others: bool = False) -> Bits:
        """Return a line for each of the numbers that steps name: the rows they speak for, or all ``others``.

        ``sets`` are the programme's.
        """
        first = self.compiled_places.first_set
        several = np.flatnonzero(numbers >= first)
        if not len(several):
            return (self._kept if others else self._rows).take(self._at[numbers], axis=0)
        lines = np.zeros((len(numbers), self.words), dtype=np.uint64)
        plain = np.flatnonzero(numbers < first)
        lines[plain] = self._rows.take(self._at[numbers[plain]], axis=0)
        holders, line = sets.of(numbers[several] - first)
        rows, which = self._own.of(holders % self.compiled_places.apart - self.compiled_places.common)
        # those pending are given nothing by their own exceptions
        given = np.flatnonzero(~((holders >= self.compiled_places.apart)[which] & self._pending[rows]))
        self._set(lines, several[line[which[given]]], rows[given])
        return ~lines if others else lines

    def _held(self) -> Bits:
        held = np.tile(self.unbounded, (len(self.compiled_places.rests), 1))
        # the rows of one change hold a few ranks of many
        spoken_for = np.flatnonzero(self._rows[: len(self.compiled.ranks)].any(axis=1)).tolist()
        for position in spoken_for:
            held[bits(self.compiled.carried[position])] |= self._rows[position]
        return held

    def over(self, compiled_places: CompiledPlaces, states: Sequence[ClassState]) -> BitRows | None:
        """Return these rows over another charter, which may differ in what is granted and in what places say.

        ``None`` where other rows would hold other ranks, or other gates let them in.
        """
        old, new = self.compiled, compiled_places.compiled
        if (
            compiled_places.holders != self.compiled_places.holders
            or old.unbounded != new.unbounded
            or old.chains != new.chains
        ):
            return None
        if any(one.gate != other.gate for one, other in zip(old.places, new.places, strict=True)):
            return None
        pairs = zip(self.states, states, strict=True)
        if any(one.owner != other.owner or one.profile != other.profile for one, other in pairs if one is not other):
            return None
        other = copy(self)
        other.compiled_places, other.compiled, other.states = compiled_places, new, states
        if new.carried is not old.carried:
            other.held = other._held()
        return other

    def _shut_out(self, rows: Bits) -> Bits:
        """Return for each gate the rows that it does not let in (5.3)."""
        gated = sorted(self.compiled.gated)
        shut = np.zeros((len(gated), self.words), dtype=np.uint64)
        for n, place in enumerate(gated):
            shut[n] = self._closed(place, rows)
        # a gate looks at its own place only, so that rows of those who hold more further down need their own look
        number = {place: n for n, place in enumerate(gated)}
        for row, (profile, used) in self.virtual.items():
            word, bit = row // 64, np.uint64(1 << (row % 64))
            for place in {each for at in used for each in self.compiled.chains[at]} & self.compiled.gated:
                line = shut[number[place]]
                line[word] = (line[word] & ~bit) if passes(self.compiled, profile, place) else (line[word] | bit)
        return shut & ~self.unbounded

    def _closed(self, place: int, rows: Bits) -> Bits:
        entrance = self.compiled.entrance(place)
        passed = np.full(self.words, _FULL)
        if entrance is None:
            return ~passed
        number = self.compiled_places.number
        for holders in entrance.some:
            passed &= np.bitwise_or.reduce(rows[[number[key] for key in holders]])
        if entrance.none:
            passed &= ~np.bitwise_or.reduce(rows[[number[key] for key in entrance.none]])
        return ~passed
