"""All that the places of a charter do, as one list of operations on planes; follows from the charter alone.

A plane is a row of words with one bit for each row of people. A place hands on to the places in it every plane that it
does not change, so that there are far fewer planes than places times capabilities: every plane that differs is worked
out once, from planes before it, and a table of numbers says which of them stands where. Planes of places equally deep
are worked out together, first those that rest on the places above.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Literal, NamedTuple, TypeAlias

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from ask_above.decide.plan import Plan

    Numbers: TypeAlias = NDArray[np.intp]

NOTHING, EVERYONE, NOBODY, FIRST = range(4)
"""The planes that are there before any is worked out: none, all, those who can do nothing, and then what is held."""


How: TypeAlias = Literal["give", "take", "all", "any"]


class Batch(NamedTuple):
    """Some planes that are worked out together: the number of the first of them, and what each is made from.

    ``give`` and ``take`` set and clear in a plane the bits of those that a number in ``rows`` speaks for; ``all`` and
    ``any`` are what several planes have in common, and what they have together. ``sources`` has a line for each plane.
    """

    start: int
    how: How
    sources: Numbers
    rows: Numbers | None = None


class Part(NamedTuple):
    """What has to be worked out for some places, and where it stands then.

    ``planes`` are worked out in all. ``shown`` are the planes of each place, one for each capability; ``seen`` is the
    plane of those who are let in and see it.
    """

    batches: list[Batch]
    planes: int
    places: Numbers
    shown: Numbers
    seen: Numbers


class Lists(NamedTuple):
    """Many short lists of numbers in one array; the n-th begins at ``starts[n]`` and ends where the next begins."""

    starts: Numbers
    numbers: Numbers

    def of(self, which: Numbers) -> tuple[Numbers, Numbers]:
        """Return the numbers of some lists one after the other, and for each the list it is from, counted in these."""
        sizes = self.starts[which + 1] - self.starts[which]
        before = np.cumsum(sizes) - sizes
        at = np.repeat(self.starts[which] - before, sizes) + np.arange(int(sizes.sum()))
        return self.numbers[at], np.repeat(np.arange(len(which)), sizes)


def lists(found: Sequence[Sequence[int]]) -> Lists:
    """Put lists into one array."""
    starts = np.cumsum([0, *(len(each) for each in found)])
    return Lists(starts, np.array([n for each in found for n in each], dtype=np.intp))


class Programme:
    """The operations of all places (``whole``), and what of them some places need.

    ``sets`` are the members that steps speak for together.
    """

    def __init__(self, whole: Part, sets: Lists) -> None:
        self.whole, self.sets = whole, sets
        self._portions: tuple[tuple[int, int], list[Part]] | None = None

    def part(self, places: Sequence[int], capabilities: Sequence[int] | None = None) -> Part:
        """Return what is needed for these places, in the charter's order, and capabilities alone, numbered anew."""
        batches, planes, every, shown, seen = self.whole
        if len(places) == len(every) and capabilities is None:
            return self.whole
        at = np.array(places, dtype=np.intp)
        if capabilities is not None:
            shown = shown[:, np.array(capabilities, dtype=np.intp)]
        needed = np.zeros(planes, dtype=bool)
        needed[: FIRST + self.whole.shown.shape[1]] = True
        needed[shown[at]] = True
        needed[seen[at]] = True
        kept: list[tuple[Batch, Numbers]] = []
        for batch in reversed(batches):
            lines = np.flatnonzero(needed[batch.start : batch.start + len(batch.sources)])
            if len(lines):
                needed[batch.sources[lines]] = True
                kept.append((batch, lines))
        number = np.cumsum(needed) - 1
        fewer = [
            Batch(
                int(number[batch.start + lines[0]]),
                batch.how,
                number[batch.sources[lines]],
                None if batch.rows is None else batch.rows[lines],
            )
            for batch, lines in reversed(kept)
        ]
        return Part(fewer, int(number[-1]) + 1, at, number[shown[at]], number[seen[at]])

    def portions(
        self, places: Sequence[int], most: int, planes: int, capabilities: Sequence[int] | None = None
    ) -> Iterator[Part]:
        """Yield what is needed for the places, at most so many at a time, few enough planes being worked out for each.

        A single place may need more.
        """
        if len(places) < len(self.whole.places) or capabilities is not None:
            yield from self._divided(places, most, planes, capabilities)
            return
        if self._portions is None or self._portions[0] != (most, planes):
            self._portions = ((most, planes), list(self._divided(places, most, planes, None)))
        yield from self._portions[1]

    def _divided(
        self, places: Sequence[int], most: int, planes: int, capabilities: Sequence[int] | None
    ) -> Iterator[Part]:
        start = 0
        while start < len(places):
            some = places[start : start + most]
            part = self.part(some, capabilities)
            while part.planes > planes and len(some) > 1:
                some = some[: max(1, min(len(some) - 1, len(some) * planes // part.planes))]
                part = self.part(some, capabilities)
            yield part
            start += len(some)


class Maker:
    """Puts a programme together, the places above before those in them.

    For each place there are columns: for each capability what is held and what is not barred, then who is let in.
    """

    def __init__(self, plan: Plan) -> None:
        self.plan, self.frame = plan, plan.frame
        self.size = len(plan.rests)
        self._planes, self._batches = FIRST + self.size, list[Batch]()
        self._sets: list[tuple[int, ...]] = []
        self._several = np.array([n for n, alone in enumerate(plan.alone) if not alone], dtype=np.intp)
        self._by_terms = self._of_several_terms()
        places = len(self.frame.places)
        self._columns = np.empty((places, self.size * (1 + plan.has_bars) + 1), dtype=np.intp)
        self._usable = np.empty((places, len(self._several)), dtype=np.intp)

    def programme(self) -> Programme:
        """Return what can be used."""
        self._work_out()
        return Programme(self._used(), lists(self._sets))

    def holding(self, *, gated: bool) -> Programme:
        """Return what is held, of whatever use it is; with gates or with gates left aside."""
        self._work_out()
        return Programme(self._held(gated=gated), lists(self._sets))

    def _work_out(self) -> None:
        chains = self.frame.chains
        depths = np.array([len(chain) for chain in chains])
        above = np.array([chain[-2] if len(chain) > 1 else 0 for chain in chains], dtype=np.intp)
        self._start()
        for depth in range(1, int(depths.max()) + 1):
            level = np.flatnonzero(depths == depth)
            self._columns[level] = self._columns[above[level]]
            self._usable[level] = self._usable[above[level]]
            self._step(level)
            self._close(level)
            self._use(level)

    def _add(self, how: How, sources: Numbers, rows: Numbers | None = None) -> Numbers:
        """Note down some planes, and return their numbers."""
        first = self._planes
        self._planes += len(sources)
        if len(sources):
            self._batches.append(Batch(first, how, sources, rows))
        return np.arange(first, self._planes)

    def _of_several_terms(self) -> list[tuple[Numbers, Numbers]]:
        """Return what rests on several columns, by how many there are: a number for each capability, and its columns.

        The number says which of ``_several`` it is; -1 stands for another.
        """
        found: dict[int, list[int]] = {}
        for n in self._several.tolist():
            found.setdefault(len(self.plan.columns(n)), []).append(n)
        by_terms = []
        for terms, some in sorted(found.items()):
            number, columns = np.full(self.size, -1, dtype=np.intp), np.zeros((self.size, terms), dtype=np.intp)
            number[some] = np.searchsorted(self._several, some)
            columns[some] = [self.plan.columns(n) for n in some]
            by_terms.append((number, columns))
        return by_terms

    def _start(self) -> None:
        """Put at the site what is so before it has said anything."""
        columns = self._columns[0]
        columns[: self.size] = np.arange(FIRST, FIRST + self.size)
        columns[self.size :] = EVERYONE
        self._use_again(np.zeros(len(self._several), dtype=np.intp), self._several)

    def _step(self, level: Numbers) -> None:
        """Do what the places of one depth say, turn by turn."""
        lines, before = [], []
        for place in level.tolist():
            plan = self.plan.at(place)
            lines.append(plan.steps)
            before.append(self.plan.first_set + len(self._sets))
            self._sets += plan.sets
        sizes = [len(each) for each in lines]
        turns, gives, columns, rows = np.concatenate(lines).T
        places = np.repeat(level, sizes)
        rows = np.where(rows < 0, np.repeat(before, sizes) - 1 - rows, rows)
        key = turns * 2 + gives
        order = np.argsort(key, kind="stable")
        for now in np.split(order, np.flatnonzero(np.diff(key[order])) + 1) if len(order) else ():
            at = places[now], columns[now]
            how: How = "give" if gives[now[0]] else "take"
            self._columns[at] = self._add(how, self._columns[at][:, None], rows[now])

    def _close(self, level: Numbers) -> None:
        """Close a place, and all in it, to those whom its gate does not let in (5.3)."""
        order, here = sorted(self.frame.gated), set(level.tolist())
        gates = [n for n, place in enumerate(order) if place in here]
        if gates:
            places, rows = np.array(order)[gates], np.array(gates, dtype=np.intp) + self.plan.first_gate
            self._columns[places, -1] = self._add("take", self._columns[places, -1][:, None], rows)

    def _use(self, level: Numbers) -> None:
        """Work out anew what can be used, where it rests on several columns of which one has changed (5.5, 5.6)."""
        again = [self.plan.at(place).again for place in level.tolist()]
        self._use_again(np.repeat(level, [len(each) for each in again]), np.concatenate(again))

    def _use_again(self, places: Numbers, capabilities: Numbers) -> None:
        for number, columns in self._by_terms:
            now = np.flatnonzero(number[capabilities] >= 0)
            at, some = places[now], capabilities[now]
            self._usable[at, number[some]] = self._add("all", self._columns[at[:, None], columns[some]])

    def _held(self, *, gated: bool) -> Part:
        """Say what is held in the end, what is barred taken out (5.5)."""
        shown = self._columns[:, : self.size].copy()
        if self.plan.has_bars:
            kept = self._columns[:, self.size : 2 * self.size]
            barred = kept != EVERYONE
            pairs, which = np.unique(shown[barred] * self._planes + kept[barred], return_inverse=True)
            shown[barred] = self._add("all", np.stack(np.divmod(pairs, self._planes), axis=1))[which]
        seen = self._columns[:, -1].copy() if gated else np.full(len(shown), EVERYONE)
        return Part(self._batches, self._planes, np.arange(len(shown)), shown, seen)

    def _used(self) -> Part:
        """Say what stands where in the end: what has no meaning at a place is usable by none there (5.3, 5.6)."""
        shown = self._columns[:, : self.size].copy()
        shown[:, self._several] = self._usable
        seen = self._columns[:, -1].copy()
        seeing = self.frame.charter.rules.seeing
        if seeing is not None:
            seen[1:] = self._seen(seen[1:], shown[1:, self.frame.catalogue.keys.index(seeing)])
        places: dict[str, list[int]] = {}
        for n, place in enumerate(self.frame.places):
            places.setdefault(place.kind, []).append(n)
        for kind, mask in self.frame.meaning.items():
            without = [n for n in range(self.size) if not mask >> n & 1]
            if without:
                shown[np.ix_(places[kind], without)] = NOTHING
        return Part(self._batches, self._planes, np.arange(len(shown)), shown, seen)

    def _seen(self, let_in: Numbers, seeing: Numbers) -> Numbers:
        """Return the planes of those who are let in and see a place; whoever can do nothing is of no account there."""
        planes, which = np.unique(seeing, return_inverse=True)
        sees = self._add("any", np.stack([planes, np.full(len(planes), NOBODY)], axis=1))[which]
        pairs, which = np.unique(np.stack([let_in, sees], axis=1), axis=0, return_inverse=True)
        return self._add("all", pairs)[which.reshape(-1)]
