"""Everyone, everywhere, at once: what every profile can use at every place, in arrays (rules 5.2 to 5.6).

The rules are those of :mod:`ask_above.decide.walk`, turned on their side. For each capability a *plane* holds one
bit for each row, a row being a profile; an override for a rank then is one operation on a plane with the bits of all
rows that hold the rank.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

import numpy as np

from ask_above.bulk.making import programme_of
from ask_above.bulk.places import CompiledPlaces
from ask_above.bulk.programme import EVERYONE, FIRST, NOBODY, NOTHING, PlaneBatch, PlaneHow, Portion, Programme
from ask_above.bulk.rows import BitRows, RowMoves
from ask_above.decide.classes import ClassState
from ask_above.decide.compiled import CompiledCharter

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Bits: TypeAlias = NDArray[np.uint64]

_FULL = np.uint64(0xFFFFFFFFFFFFFFFF)
_ONE = np.uint64(1)
_AT_ONCE = 1 << 18  # bytes that are worked on together, so that they stay near the processor
_AT_A_TIME = 1 << 23  # bytes of a block of places that is read once
_MOVED_AT_ONCE = 1 << 17  # bits that are looked at together


def unpack(bits: Bits) -> NDArray[np.bool_]:
    """Return packed bits as booleans."""
    return np.unpackbits(bits.view(np.uint8), bitorder="little").view(np.bool_)


class Sweep:
    """Says what every row can use at every place; with a programme of what is held, what it holds there.

    ``states`` are the rows that are asked about, in their order. More rows follow for those who hold ranks at some
    places only.
    """

    def __init__(
        self,
        compiled_places: CompiledPlaces,
        states: Sequence[ClassState],
        rows: BitRows | None = None,
        programme: Programme | None = None,
    ) -> None:
        self.compiled_places, self.states, self._rows, self._programme = compiled_places, states, rows, programme

    @property
    def programme(self) -> Programme:
        """What is worked out: what can be used, where nothing else was given."""
        return programme_of(self.compiled_places) if self._programme is None else self._programme

    def over(self, compiled_places: CompiledPlaces) -> Sweep:
        """Return what says the same of the same states over another charter."""
        return Sweep(
            compiled_places, self.states, None if self._rows is None else self._rows.over(compiled_places, self.states)
        )

    @property
    def rows(self) -> BitRows:
        """The rows, made when they are first needed."""
        if self._rows is None:
            self._rows = BitRows(self.compiled_places, self.states)
        return self._rows

    @property
    def words(self) -> int:
        """How many words the rows take."""
        return self.rows.words

    def run(
        self, only: Iterable[int] | None = None, capabilities: Sequence[int] | None = None
    ) -> Iterator[tuple[int, Bits]]:
        """Yield each place's number and what every row can use there: capabilities by words of rows.

        The arrays are used again after some places. With ``only`` no other places are worked out, and with
        ``capabilities`` no others of those; the places come in the charter's order in either case.
        """
        places = range(len(self.compiled_places.compiled.places)) if only is None else sorted(only)
        count = self.capabilities if capabilities is None else len(capabilities)
        room = min(max(1, _AT_A_TIME // max(8, count * self.words * 8)), len(places))
        out = np.empty((room, count, self.words), dtype=np.uint64)
        for part in self.portions(places, room, _AT_A_TIME, capabilities):
            found = self.write(part, out)
            yield from zip(part.places.tolist(), found, strict=True)

    @property
    def capabilities(self) -> int:
        """How many there are."""
        return len(self.compiled_places.rests)

    @property
    def bytes_of_place(self) -> int:
        """How much room one place takes."""
        return max(8, self.capabilities * self.words * 8)

    def portions(
        self, places: Sequence[int], most: int, spare: int, capabilities: Sequence[int] | None = None
    ) -> Iterator[Portion]:
        """Yield the places in parts, at most so many at a time; each is worked out in so many bytes beside it."""
        return self.programme.portions(places, most, max(1, spare // (self.words * 8)), capabilities)

    def at(self, places: Sequence[int], capabilities: Sequence[int] | None = None) -> Bits:
        """Return what stands at some places, in the charter's order: places by capabilities by words of rows."""
        count = self.capabilities if capabilities is None else len(capabilities)
        out = np.empty((len(places), count, self.words), dtype=np.uint64)
        return self.write(self.programme.part(places, capabilities), out)

    def write(self, part: Portion, out: Bits) -> Bits:
        """Write what stands at the places of a part to the front of ``out``, and return that."""
        planes = self.work_out(part)
        out = out[: len(part.places)]
        seen, everyone = self._seen(part, planes)
        step = len(out) if everyone.all() else max(1, _AT_ONCE // max(8, out.shape[1] * self.words * 8))
        for start in range(0, len(out), step):
            some = slice(start, start + step)
            # without a mode NumPy would write to a copy first
            np.take(planes, part.shown[some], axis=0, out=out[some], mode="clip")
            for n in np.flatnonzero(~everyone[some]).tolist():
                np.bitwise_and(out[start + n], seen[start + n], out=out[start + n])
        self._move(part, planes, out)
        return out

    def work_out(self, part: Portion) -> Bits:
        """Return all planes of a part."""
        planes = np.empty((part.planes, self.words), dtype=np.uint64)
        # bits beyond the last row are set in EVERYONE; whoever counts cuts them off
        planes[NOTHING], planes[EVERYONE], planes[NOBODY] = 0, _FULL, self.rows.nobody
        planes[FIRST : FIRST + len(self.rows.held)] = self.rows.held
        step = max(1, _AT_ONCE // (self.words * 8))
        for batch in part.batches:
            for start in range(0, len(batch.sources), step):
                self._do(batch, planes, start, start + step)
        return planes

    def _do(self, batch: PlaneBatch, planes: Bits, start: int, stop: int) -> None:
        sources = batch.sources[start:stop]
        here = batch.start + start
        before, made = planes[: batch.start], planes[here : here + len(sources)]
        np.take(before, sources[:, 0], axis=0, out=made, mode="clip")
        if batch.rows is not None:
            rows = self.rows.spoken_for(batch.rows[start:stop], self.programme.sets, others=batch.how == PlaneHow.TAKE)
            (np.bitwise_or if batch.how == PlaneHow.GIVE else np.bitwise_and)(made, rows, out=made)
            return
        join = np.bitwise_and if batch.how == PlaneHow.ALL else np.bitwise_or
        for others in sources.T[1:]:
            join(made, before.take(others, axis=0), out=made)

    @staticmethod
    def _seen(part: Portion, planes: Bits) -> tuple[Bits, NDArray[np.bool_]]:
        """Return who sees each place, and at which places that is everyone."""
        numbers, which = np.unique(part.seen, return_inverse=True)
        seen = planes[numbers]
        return seen[which], (seen == _FULL).all(axis=1)[which]

    def _move(self, part: Portion, planes: Bits, out: Bits) -> None:
        """Put what one row can use in the place of another row, where it is one elsewhere."""
        at = np.searchsorted(part.places, self.rows.moves.place)
        at[at == len(part.places)] = 0
        here = np.flatnonzero(part.places[at] == self.rows.moves.place)
        step = max(1, _MOVED_AT_ONCE // max(1, out.shape[1]))
        for start in range(0, len(here), step):
            some = here[start : start + step]
            _, word, bit, to_word, to_bit = self.rows.moves
            now = RowMoves(at[some], word[some], bit[some], to_word[some], to_bit[some])
            self._move_some(part, planes, out, now)

    def _move_some(self, part: Portion, planes: Bits, out: Bits, now: RowMoves) -> None:
        """Turn the bits that are others where they come from; they are read where they lie closer together."""
        flat, at = planes.reshape(-1), part.shown[now.place] * self.words
        seen = part.seen[now.place]
        there = flat.take(at + now.word[:, None])
        there &= planes[seen, now.word][:, None]
        there >>= now.bit[:, None]
        here = flat.take(at + now.to_word[:, None])
        here &= planes[seen, now.to_word][:, None]
        here >>= now.to_bit[:, None]
        there ^= here
        there &= _ONE
        move, capability = np.divmod(np.flatnonzero(there), out.shape[1])
        to = (now.place[move] * out.shape[1] + capability) * self.words + now.to_word[move]
        # two may turn bits of one word
        np.bitwise_xor.at(out.reshape(-1), to, _ONE << now.to_bit[move])


class Crowd(NamedTuple):
    """All members, in the register's order, each one's row (int32), and who is active."""

    members: tuple[str, ...]
    number: Mapping[str, int]
    rows: NDArray[np.int32]
    active: NDArray[np.bool_]


class Table:
    """What every profile can use at every place.

    ``words`` is an array of uint64: places by capabilities by words of rows; row n is bit n % 64 of word n // 64.
    ``rows`` gives each member's row, int32, in the register's order. ``places``, ``capabilities`` and ``members`` are
    the keys along the axes; the places stand in an order of the table's own.
    """

    def __init__(self, compiled: CompiledCharter, places: Sequence[int], crowd: Crowd, words: Bits) -> None:
        self.places = tuple(compiled.places[n].key for n in places)
        self.capabilities = compiled.catalogue.keys
        self.members, self.rows, self.words = crowd.members, crowd.rows, words
        self.numbers = np.full(len(compiled.places), -1, dtype=np.intp)
        self.numbers[list(places)] = np.arange(len(places))
        self._compiled, self._crowd = compiled, crowd

    def _plane(self, capability: str, place: str) -> Bits:
        mask = self._compiled.catalogue.bit[capability]
        plane: Bits = self.words[self.numbers[self._compiled.place_at[place]], mask.bit_length() - 1]
        return plane

    def may(self, member: str, capability: str, place: str) -> bool:
        """Whether a member may use a capability, by its full name, at a place."""
        row = int(self.rows[self._crowd.number[member]])
        return bool(int(self._plane(capability, place)[row // 64]) >> (row % 64) & 1)

    def column(self, capability: str, place: str) -> NDArray[np.bool_]:
        """Return for all members whether they may use a capability at a place, in the register's order."""
        return unpack(self._plane(capability, place))[self.rows]
