"""Everyone, everywhere, at once: what every profile can use at every place, in arrays (rules 5.2 to 5.6).

The rules are those of :mod:`ask_above.decide.walk`, turned on their side. For each capability a *plane* holds one
bit for each row, a row being a profile; an override for a rank then is one operation on a plane with the bits of all
rows that hold the rank. The places are visited in the charter's order, each after the one it is in; what a place
changes is put back when its last place has been visited. A profile that holds a rank at a place and below is, there,
another row.
"""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from copy import copy
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

import numpy as np

from ask_above.decide.frame import Frame
from ask_above.decide.plan import PlacePlan, Plan, bits
from ask_above.decide.profile import Profile
from ask_above.decide.ready import Cell
from ask_above.decide.walk import passes, ranks_at

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Bits: TypeAlias = NDArray[np.uint64]

_FULL = np.uint64(0xFFFFFFFFFFFFFFFF)
_ONE = np.uint64(1)


def pack(rows: Iterable[int], words: int) -> Bits:
    """Return a set of rows as packed bits: row n is bit n % 64 of word n // 64."""
    flags = np.zeros(words * 64, dtype=np.uint8)
    flags[list(rows)] = 1
    return np.packbits(flags, bitorder="little").view(np.uint64)


def unpack(bits: Bits) -> NDArray[np.bool_]:
    """Return packed bits as booleans."""
    return np.unpackbits(bits.view(np.uint8), bitorder="little").view(np.bool_)


class Elsewhere(NamedTuple):
    """At some places a profile is another row, as it holds more ranks there: which bit is taken from where."""

    word: int
    bit: np.uint64
    to_word: int
    to_bit: np.uint64
    rest: np.uint64


def elsewhere(row: int, instead: int) -> Elsewhere:
    """Return how the bit of a row is taken from another row."""
    to_bit = np.uint64(row % 64)
    return Elsewhere(instead // 64, np.uint64(instead % 64), row // 64, to_bit, _FULL ^ (_ONE << to_bit))


class _Undo(NamedTuple):
    """What stood before a place changed it."""

    depth: int
    held: tuple[NDArray[np.intp], Bits] | None
    usable: tuple[NDArray[np.intp], Bits] | None
    barred: Bits | None
    closed: Bits | None
    visible: Bits | None


class Sweep:
    """Visits every place once and says what every row can use there.

    ``cells`` are the rows that are asked about, in their order; ``None`` stands for those who can do nothing. More rows
    follow for those who hold ranks at some places only.
    """

    def __init__(self, plan: Plan, cells: Sequence[Cell]) -> None:
        self.plan, self.frame, self.cells = plan, plan.frame, cells
        self.elsewhere: dict[int, list[Elsewhere]] = {}
        self.flat: list[tuple[Profile | None, list[int], bool]] = []
        self._rows_for_profiles()
        self.words = -(-max(1, len(self.flat)) // 64)
        self._rows_by_holder()

    # -- rows

    def _rows_for_profiles(self) -> None:
        """Give every cell a row, and more rows to those that hold other ranks in parts of the site."""
        local: list[int] = []
        for n, cell in enumerate(self.cells):
            profile = cell.profile
            ranks = ranks_at(self.frame, profile, 0) if profile else []
            self.flat.append((profile, ranks, cell.owner or not self.frame.unbounded.isdisjoint(ranks)))
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
        spots = {below for _, place in profile.placed if place for below in self.frame.below[place]}
        for place in sorted(spots):
            ranks = ranks_at(self.frame, profile, place)
            if ranks == base:
                continue
            key = tuple(ranks)
            if key not in known:
                known[key] = len(self.flat)
                self.virtual[len(self.flat)] = (profile, [])
                self.flat.append((profile, ranks, not self.frame.unbounded.isdisjoint(ranks)))
            self.virtual[known[key]][1].append(place)
            self.elsewhere.setdefault(place, []).append(elsewhere(row, known[key]))

    def _rows_by_holder(self) -> None:
        """Pack, for every rank, group and member with exceptions, the rows they speak for; unbounded ones for none."""
        numbers = self.plan.number
        by_holder: list[list[int]] = [[] for _ in self.plan.holders]
        unbounded, pending = [], []
        for n, (profile, ranks, free) in enumerate(self.flat):
            if free:
                unbounded.append(n)
            elif profile is not None:
                for rank in ranks:
                    by_holder[rank].append(n)
                for group in profile.groups:
                    by_holder[numbers[group]].append(n)
                if profile.exceptions is not None:
                    by_holder[numbers[f"@{profile.exceptions}"]].append(n)
                if profile.pending:
                    pending.append(n)
        self.unbounded = pack(unbounded, self.words)
        # bits beyond the last row, and rows of those who can do nothing: nothing is ever held there
        nobody = [n for n, (profile, _, free) in enumerate(self.flat) if profile is None and not free]
        self.nobody = pack([*nobody, *range(len(self.flat), self.words * 64)], self.words)
        rows = [pack(rows, self.words) for rows in by_holder]
        settled = ~pack(pending, self.words)
        self.rows = [*rows, *((each & settled for each in rows) if pending else rows)]
        self.kept = [~each for each in rows]

    # -- the sweep

    def run(self, out: Bits, only: Container[int] | None = None) -> Iterator[tuple[int, Bits]]:
        """Yield each place's number and what every row can use there: capabilities by words of rows.

        The arrays are slices of ``out`` (places by capabilities by words), which is used again and again where it has
        room for fewer places than there are. With ``only`` no other places are worked out.
        """
        return copy(self)._run(out, only)

    def _run(self, out: Bits, only: Container[int] | None) -> Iterator[tuple[int, Bits]]:
        """Visit the places; all that changes on the way belongs to this object alone."""
        frame = self.frame
        self._start()
        for place in range(len(frame.places)):
            depth = len(frame.chains[place])
            while self._undo and self._undo[-1].depth >= depth:
                self._take_back(self._undo.pop())
            plan, target = self.plan.at(place), out[place % len(out)]
            if only is not None and place not in only:
                if not plan.last:
                    self._change(plan, place, depth)
                continue
            if plan.last and not (plan.bars or plan.gate or self.barred is not None):
                np.copyto(target, self.usable)
                self._change_last(plan, target)
            else:
                self._change(plan, place, depth)
                np.copyto(target, self.usable)
            self._write(place, plan, target)
            yield place, target

    def _start(self) -> None:
        frame, plan, size = self.frame, self.plan, len(self.frame.catalogue.keys)
        self.held = np.zeros((size, self.words), dtype=np.uint64)
        self.held[:] = self.unbounded
        for rank in frame.ranks:
            for n in bits(frame.carried[rank.position]):
                self.held[n] |= self.rows[rank.position]
        self.usable = self.held.copy()
        self.barred: Bits | None = None
        self.closed: Bits | None = None
        self._undo: list[_Undo] = []
        self.shown = list(self.usable)
        self.planes = [self.shown[n] if alone else self.held[n] for n, alone in enumerate(plan.alone)]
        seeing = frame.charter.rules.seeing
        self.seeing = frame.catalogue.keys.index(seeing) if seeing else None
        everything = frame.catalogue.everything
        self.meaningless = {
            kind: np.array(bits(everything & ~mask), dtype=np.intp) for kind, mask in frame.meaning.items()
        }
        self._reckon([n for n, alone in enumerate(plan.alone) if not alone])
        self.visible = self._visible(self.usable)

    def _reckon(self, capabilities: Iterable[int]) -> None:
        """Work out anew what can be used of these: everything it rests on is held and not barred (5.5, 5.6)."""
        planes, barred, rests_of = self.planes, self.barred, self.plan.rests
        for n in capabilities:
            target, rests = self.shown[n], rests_of[n]
            if len(rests) == 1:
                np.copyto(target, planes[n])
            else:
                np.bitwise_and(planes[rests[0]], planes[rests[1]], target)
                for other in rests[2:]:
                    np.bitwise_and(target, planes[other], target)
            if barred is not None:
                for other in rests:
                    target &= ~barred[other] | self.unbounded

    def _take_back(self, undo: _Undo) -> None:
        if undo.held:
            self.held[undo.held[0]] = undo.held[1]
        if undo.usable:
            self.usable[undo.usable[0]] = undo.usable[1]
        self.barred, self.closed, self.visible = undo.barred, undo.closed, undo.visible

    def _change_last(self, plan: PlacePlan, target: Bits) -> None:
        """Apply what the last place on a branch says to what is written alone, so that nothing has to be put back."""
        planes, alone, rests_of = self.planes, self.plan.alone, self.plan.rests
        here: dict[int, Bits] = {}
        rows, kept, give, take = self.rows, self.kept, np.bitwise_or, np.bitwise_and
        for gives, n, holder in plan.steps:
            plane = here.get(n)
            if plane is None:
                plane = here[n] = target[n] if alone[n] else planes[n].copy()
            if gives:
                give(plane, rows[holder], plane)
            else:
                take(plane, kept[holder], plane)
        for n in plan.again:
            result, (first, *others) = target[n], rests_of[n]
            np.copyto(result, here[first] if first in here else planes[first])
            for other in others:
                take(result, here[other] if other in here else planes[other], result)

    def _change(self, plan: PlacePlan, place: int, depth: int) -> None:
        """Apply what a place says, and keep what stood before."""
        if not (plan.steps or plan.bars or plan.gate):
            return
        held = (plan.held, self.held.take(plan.held, 0)) if len(plan.held) else None
        usable = (plan.shown, self.usable.take(plan.shown, 0)) if len(plan.shown) else None
        self._undo.append(_Undo(depth, held, usable, self.barred, self.closed, self.visible))
        planes, rows, kept, give, take = self.planes, self.rows, self.kept, np.bitwise_or, np.bitwise_and
        for gives, n, holder in plan.steps:
            plane = planes[n]
            if gives:
                give(plane, rows[holder], plane)
            else:
                take(plane, kept[holder], plane)
        if plan.bars:
            self._bar(plan.bars)
        if plan.again:
            self._reckon(plan.again)
        if plan.gate:
            self._close(place)
        if plan.gate or plan.sees:
            self.visible = self._visible(self.usable)

    def _bar(self, bars: Iterable[tuple[int, int]]) -> None:
        """Add to what is barred from here on; what stood before is kept aside whole (5.5)."""
        self.barred = np.zeros_like(self.held) if self.barred is None else self.barred.copy()
        for n, holder in bars:
            self.barred[n] |= self.rows[holder]

    def _close(self, place: int) -> None:
        """Close the place, and all in it, to those whom its gate does not let in (5.3)."""
        gate = self.frame.places[place].gate
        if gate is None:
            return

        def meets(key: str, *, above: bool) -> Bits:
            number = self.plan.number[key]
            first = 0 if above else number
            found: Bits = np.bitwise_or.reduce(self.rows[first : number + 1])
            return found

        passed = np.full(self.words, _FULL)
        for term in gate.all:
            passed &= meets(term.key, above=term.above)
        for term in gate.none:
            passed &= ~meets(term.key, above=term.above)
        if gate.any:
            some = np.zeros(self.words, dtype=np.uint64)
            for term in gate.any:
                some |= meets(term.key, above=term.above)
            passed &= some
        shut = ~passed
        self._close_virtual(place, shut)
        shut &= ~self.unbounded
        self.closed = shut if self.closed is None else self.closed | shut

    def _close_virtual(self, place: int, shut: Bits) -> None:
        """Correct the rows that hold more ranks further down: a gate looks at its own place only."""
        chains = self.frame.chains
        for row, (profile, used) in self.virtual.items():
            if any(place in chains[at] for at in used):
                word, bit = row // 64, np.uint64(1 << (row % 64))
                shut[word] = (shut[word] & ~bit) if passes(self.frame, profile, place) else (shut[word] | bit)

    def _write(self, place: int, plan: PlacePlan, target: Bits) -> None:
        """Leave in what a place wrote what is seen, not closed, and has a meaning there (5.3, 5.6)."""
        if place == 0:  # the site itself rests on nothing but its own gate
            visible = None if self.closed is None else ~self.closed
        else:
            visible = self._visible(target) if plan.last and plan.sees else self.visible
        if visible is not None:
            np.bitwise_and(target, visible, target)
        for each in self.elsewhere.get(place, ()):
            self._move(target, each)
        meaningless = self.meaningless[self.frame.places[place].kind]
        if len(meaningless):
            target[meaningless] = 0

    def _visible(self, usable: Bits) -> Bits | None:
        """Return the rows that see a place below the site and are not kept out; ``None`` where that is everyone."""
        visible = None if self.closed is None else ~self.closed
        if self.seeing is not None:
            sees = usable[self.seeing] | self.nobody
            visible = sees if visible is None else visible & sees
        return None if visible is None or (visible == _FULL).all() else visible

    @staticmethod
    def _move(target: Bits, each: Elsewhere) -> None:
        """Put what one row can use in the place of another row."""
        column = target[:, each.word] >> each.bit
        column &= _ONE
        column <<= each.to_bit
        there = target[:, each.to_word]
        there &= each.rest
        there |= column


class Crowd(NamedTuple):
    """All members, in the register's order, and each one's row (int32)."""

    members: tuple[str, ...]
    number: Mapping[str, int]
    rows: NDArray[np.int32]


class Table:
    """What every profile can use at every place.

    ``words`` is an array of uint64: places by capabilities by words of rows; row n is bit n % 64 of word n // 64.
    ``rows`` gives each member's row, int32, in the register's order. ``places``, ``capabilities`` and ``members`` are
    the keys along the axes; the places stand in an order of the table's own.
    """

    def __init__(self, frame: Frame, places: Sequence[int], crowd: Crowd, words: Bits) -> None:
        self.places = tuple(frame.places[n].key for n in places)
        self.capabilities = frame.catalogue.keys
        self.members, self.rows, self.words = crowd.members, crowd.rows, words
        self.numbers = np.full(len(frame.places), -1, dtype=np.intp)
        self.numbers[list(places)] = np.arange(len(places))
        self._frame, self._crowd = frame, crowd

    def _plane(self, capability: str, place: str) -> Bits:
        mask = self._frame.catalogue.bit[capability]
        plane: Bits = self.words[self.numbers[self._frame.place_at[place]], mask.bit_length() - 1]
        return plane

    def may(self, member: str, capability: str, place: str) -> bool:
        """Tell whether a member may use a capability, by its full name, at a place."""
        row = int(self.rows[self._crowd.number[member]])
        return bool(int(self._plane(capability, place)[row // 64]) >> (row % 64) & 1)

    def column(self, capability: str, place: str) -> NDArray[np.bool_]:
        """Return for all members whether they may use a capability at a place, in the register's order."""
        return unpack(self._plane(capability, place))[self.rows]
