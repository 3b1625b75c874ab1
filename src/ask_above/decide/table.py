"""Everyone, everywhere, at once: what every profile can use at every place, in arrays (rules 5.2 to 5.6).

The rules are those of :mod:`ask_above.decide.walk`, turned on their side. For each capability a *plane* holds one
bit for each row, a row being a profile; an override for a rank then is one operation on a plane with the bits of all
rows that hold the rank. A profile that holds a rank at a place and below is, there, another row.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

import numpy as np

from ask_above.decide.frame import Frame
from ask_above.decide.plan import Plan, bits
from ask_above.decide.profile import Profile
from ask_above.decide.programme import EVERYONE, FIRST, NOBODY, NOTHING, Batch, Part
from ask_above.decide.ready import Cell
from ask_above.decide.walk import passes, ranks_at

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Bits: TypeAlias = NDArray[np.uint64]

_FULL = np.uint64(0xFFFFFFFFFFFFFFFF)
_ONE = np.uint64(1)
_AT_ONCE = 1 << 18  # bytes that are worked on together, so that they stay near the processor
_AT_A_TIME = 1 << 23  # bytes of a block of places that is read once
_MOVES = 4096


def pack(rows: Iterable[int], words: int) -> Bits:
    """Return a set of rows as packed bits: row n is bit n % 64 of word n // 64."""
    flags = np.zeros(words * 64, dtype=np.uint8)
    flags[list(rows)] = 1
    return np.packbits(flags, bitorder="little").view(np.uint64)


def unpack(bits: Bits) -> NDArray[np.bool_]:
    """Return packed bits as booleans."""
    return np.unpackbits(bits.view(np.uint8), bitorder="little").view(np.bool_)


class Elsewhere(NamedTuple):
    """At a place a profile is another row, as it holds more ranks there."""

    place: int
    row: int
    instead: int


class Moves(NamedTuple):
    """Where at which places the bit of a row is taken from: a line for each, by place."""

    place: NDArray[np.intp]
    word: NDArray[np.intp]
    bit: Bits
    to_word: NDArray[np.intp]
    to_bit: Bits


def moves(found: list[Elsewhere]) -> Moves:
    """Return what is elsewhere as arrays."""
    place, row, instead = np.array(sorted(found), dtype=np.intp).reshape(-1, 3).T
    return Moves(place, instead // 64, (instead % 64).astype(np.uint64), row // 64, (row % 64).astype(np.uint64))


class Sweep:
    """Says what every row can use at every place.

    ``cells`` are the rows that are asked about, in their order; ``None`` stands for those who can do nothing. More rows
    follow for those who hold ranks at some places only.
    """

    def __init__(self, plan: Plan, cells: Sequence[Cell]) -> None:
        self.plan, self.frame, self.cells = plan, plan.frame, cells
        self._elsewhere: list[Elsewhere] = []
        self.flat: list[tuple[Profile | None, list[int], bool]] = []
        self._rows_for_profiles()
        self.words = -(-max(1, len(self.flat)) // 64)
        self.moves = moves(self._elsewhere)
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
            self._elsewhere.append(Elsewhere(place, row, known[key]))

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
        rows = np.array([pack(rows, self.words) for rows in by_holder], dtype=np.uint64).reshape(-1, self.words)
        settled = rows & ~pack(pending, self.words) if pending else rows
        self.rows = np.concatenate([rows, settled, self._shut_out(rows)])
        self.kept = ~self.rows
        self.held = np.tile(self.unbounded, (len(self.plan.rests), 1))
        for position, carried in enumerate(self.frame.carried):
            self.held[bits(carried)] |= rows[position]

    def _shut_out(self, rows: Bits) -> Bits:
        """Return for each gate the rows that it does not let in (5.3)."""
        gated = sorted(self.frame.gated)
        shut = np.zeros((len(gated), self.words), dtype=np.uint64)
        for n, place in enumerate(gated):
            shut[n] = self._closed(place, rows)
        # a gate looks at its own place only, so that rows of those who hold more further down need their own look
        number = {place: n for n, place in enumerate(gated)}
        for row, (profile, used) in self.virtual.items():
            word, bit = row // 64, np.uint64(1 << (row % 64))
            for place in {each for at in used for each in self.frame.chains[at]} & self.frame.gated:
                line = shut[number[place]]
                line[word] = (line[word] & ~bit) if passes(self.frame, profile, place) else (line[word] | bit)
        return shut & ~self.unbounded

    def _closed(self, place: int, rows: Bits) -> Bits:
        gate = self.frame.places[place].gate
        passed = np.full(self.words, _FULL)
        if gate is None:
            return ~passed

        def meets(key: str, *, above: bool) -> Bits:
            number = self.plan.number[key]
            found: Bits = np.bitwise_or.reduce(rows[0 if above else number : number + 1])
            return found

        for term in gate.all:
            passed &= meets(term.key, above=term.above)
        for term in gate.none:
            passed &= ~meets(term.key, above=term.above)
        if gate.any:
            some = np.zeros(self.words, dtype=np.uint64)
            for term in gate.any:
                some |= meets(term.key, above=term.above)
            passed &= some
        return ~passed

    # -- the sweep

    def run(self, only: Iterable[int] | None = None) -> Iterator[tuple[int, Bits]]:
        """Yield each place's number and what every row can use there: capabilities by words of rows.

        The arrays are used again after some places. With ``only`` no other places are worked out; they come in the
        charter's order in either case.
        """
        places = range(len(self.frame.places)) if only is None else sorted(only)
        room = max(1, _AT_A_TIME // self.bytes_of_place)
        out = np.empty((min(room, len(places)), len(self.plan.rests), self.words), dtype=np.uint64)
        for part in self.portions(places, room, _AT_A_TIME):
            found = self.write(part, out)
            yield from zip(part.places.tolist(), found, strict=True)

    @property
    def bytes_of_place(self) -> int:
        """How much room one place takes."""
        return max(8, len(self.plan.rests) * self.words * 8)

    def portions(self, places: Sequence[int], most: int, spare: int) -> Iterator[Part]:
        """Yield the places in parts, at most so many at a time; each is worked out in so many bytes beside it."""
        return self.plan.programme.portions(places, most, max(1, spare // (self.words * 8)))

    def write(self, part: Part, out: Bits) -> Bits:
        """Write what every row can use at the places of a part to the front of ``out``, and return that."""
        planes = self._work_out(part)
        out = out[: len(part.places)]
        step = max(1, _AT_ONCE // self.bytes_of_place)
        seen, everyone = self._seen(part, planes)
        for start in range(0, len(out), step):
            some = slice(start, start + step)
            target = out[some]
            np.take(planes, part.shown[some], axis=0, out=target, mode="clip")
            for n in np.flatnonzero(~everyone[some]).tolist():
                np.bitwise_and(target[n], seen[start + n], out=target[n])
        self._move(part, planes, out)
        return out

    def _work_out(self, part: Part) -> Bits:
        """Work out all planes of a part."""
        planes = np.empty((part.planes, self.words), dtype=np.uint64)
        planes[NOTHING], planes[EVERYONE], planes[NOBODY] = 0, _FULL, self.nobody
        planes[FIRST : FIRST + len(self.held)] = self.held
        step = max(1, _AT_ONCE // (self.words * 8))
        for batch in part.batches:
            for start in range(0, len(batch.sources), step):
                self._do(batch, planes, start, start + step)
        return planes

    def _do(self, batch: Batch, planes: Bits, start: int, stop: int) -> None:
        sources = batch.sources[start:stop]
        here = batch.start + start
        before, made = planes[: batch.start], planes[here : here + len(sources)]
        # without a mode NumPy would write to a copy first
        np.take(before, sources[:, 0], axis=0, out=made, mode="clip")
        if batch.rows is not None:
            rows = (self.rows if batch.how == "give" else self.kept).take(batch.rows[start:stop], axis=0)
            (np.bitwise_or if batch.how == "give" else np.bitwise_and)(made, rows, out=made)
            return
        join = np.bitwise_and if batch.how == "all" else np.bitwise_or
        for others in sources.T[1:]:
            join(made, before.take(others, axis=0), out=made)

    def _seen(self, part: Part, planes: Bits) -> tuple[Bits, NDArray[np.bool_]]:
        """Return who sees each place, and at which places that is everyone."""
        numbers, which = np.unique(part.seen, return_inverse=True)
        seen = planes[numbers]
        return seen[which], (seen == _FULL).all(axis=1)[which]

    def _move(self, part: Part, planes: Bits, out: Bits) -> None:
        """Put what one row can use in the place of another row, where it is one elsewhere."""
        at = np.searchsorted(part.places, self.moves.place)
        at[at == len(part.places)] = 0
        here = np.flatnonzero(part.places[at] == self.moves.place)
        for start in range(0, len(here), _MOVES):
            some = here[start : start + _MOVES]
            _, word, bit, to_word, to_bit = self.moves
            now = Moves(at[some], word[some], bit[some], to_word[some], to_bit[some])
            self._move_some(part, planes, out, now)

    @staticmethod
    def _move_some(part: Part, planes: Bits, out: Bits, now: Moves) -> None:
        """Turn the bits that are others where they come from; they are read where they lie closer together."""
        places, shown, seen = now.place, part.shown[now.place], part.seen[now.place]
        there = planes[shown, now.word[:, None]]
        there &= planes[seen, now.word][:, None]
        there >>= now.bit[:, None]
        here = planes[shown, now.to_word[:, None]]
        here &= planes[seen, now.to_word][:, None]
        here >>= now.to_bit[:, None]
        move, capability = np.nonzero((there ^ here) & _ONE)
        at = (places[move] * out.shape[1] + capability) * out.shape[2] + now.to_word[move]
        # two may turn bits of one word
        np.bitwise_xor.at(out.reshape(-1), at, _ONE << now.to_bit[move])


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
