"""Puts a programme together from what each place does, the places above before those in them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ask_above.bulk.places import CompiledPlaces
from ask_above.bulk.programme import EVERYONE, FIRST, NOBODY, NOTHING, PlaneBatch, PlaneHow, Portion, Programme, lists

if TYPE_CHECKING:
    from ask_above.bulk.programme import Numbers


class ProgrammeMaker:
    """Puts a programme together, the places above before those in them.

    For each place there are columns: for each capability what is held and what is not barred, then who is let in.
    """

    def __init__(self, compiled_places: CompiledPlaces) -> None:
        self.compiled_places, self.compiled = compiled_places, compiled_places.compiled
        self.size = len(compiled_places.rests)
        self._planes, self._batches = FIRST + self.size, list[PlaneBatch]()
        self._sets: list[tuple[int, ...]] = []
        self._several = np.array([n for n, alone in enumerate(compiled_places.alone) if not alone], dtype=np.intp)
        self._by_terms = self._of_several_terms()
        places = len(self.compiled.places)
        self._columns = np.empty((places, self.size * (1 + compiled_places.has_bars) + 1), dtype=np.intp)
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
        chains = self.compiled.chains
        # places of one depth never rest on each other, so each depth is a few array operations
        depths = np.array([len(chain) for chain in chains])
        above = np.array([chain[-2] if len(chain) > 1 else 0 for chain in chains], dtype=np.intp)
        self._start()
        for depth in range(1, int(depths.max()) + 1):
            level = np.flatnonzero(depths == depth)
            # what a place does not change it shares: nine of ten cells are a plane that is there already
            self._columns[level] = self._columns[above[level]]
            self._usable[level] = self._usable[above[level]]
            self._step(level)
            self._close(level)
            self._use(level)

    def _add(self, how: PlaneHow, sources: Numbers, rows: Numbers | None = None) -> Numbers:
        """Note down some planes, and return their numbers."""
        first = self._planes
        self._planes += len(sources)
        if len(sources):
            self._batches.append(PlaneBatch(first, how, sources, rows))
        return np.arange(first, self._planes)

    def _of_several_terms(self) -> list[tuple[Numbers, Numbers]]:
        """Return what rests on several columns, by how many there are: a number for each capability, and its columns.

        The number says which of ``_several`` it is; -1 stands for another.
        """
        by_count: dict[int, list[int]] = {}
        for n in self._several.tolist():
            by_count.setdefault(len(self.compiled_places.columns(n)), []).append(n)
        by_terms = []
        for terms, some in sorted(by_count.items()):
            number, columns = np.full(self.size, -1, dtype=np.intp), np.zeros((self.size, terms), dtype=np.intp)
            number[some] = np.searchsorted(self._several, some)
            columns[some] = [self.compiled_places.columns(n) for n in some]
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
            here = self.compiled_places.at(place)
            lines.append(here.steps)
            before.append(self.compiled_places.first_set + len(self._sets))
            self._sets += here.sets
        sizes = [len(line) for line in lines]
        turns, gives, columns, rows = np.concatenate(lines).T
        places = np.repeat(level, sizes)
        rows = np.where(rows < 0, np.repeat(before, sizes) - 1 - rows, rows)
        # steps of one column keep their order by their turn; of one turn all that give, and all that take, go together
        key = turns * 2 + gives
        order = np.argsort(key, kind="stable")
        for now in np.split(order, np.flatnonzero(np.diff(key[order])) + 1) if len(order) else ():
            at = places[now], columns[now]
            how = PlaneHow.GIVE if gives[now[0]] else PlaneHow.TAKE
            self._columns[at] = self._add(how, self._columns[at][:, None], rows[now])

    def _close(self, level: Numbers) -> None:
        """Close a place, and all in it, to those whom its gate does not let in (5.3)."""
        order, here = sorted(self.compiled.gated), set(level.tolist())
        gates = [n for n, place in enumerate(order) if place in here]
        if gates:
            places, rows = np.array(order)[gates], np.array(gates, dtype=np.intp) + self.compiled_places.first_gate
            self._columns[places, -1] = self._add(PlaneHow.TAKE, self._columns[places, -1][:, None], rows)

    def _use(self, level: Numbers) -> None:
        """Work out anew what can be used, where it rests on several columns of which one has changed (5.5, 5.6)."""
        again = [self.compiled_places.at(place).again for place in level.tolist()]
        self._use_again(np.repeat(level, [len(each) for each in again]), np.concatenate(again))

    def _use_again(self, places: Numbers, capabilities: Numbers) -> None:
        for number, columns in self._by_terms:
            now = np.flatnonzero(number[capabilities] >= 0)
            at, some = places[now], capabilities[now]
            self._usable[at, number[some]] = self._add(PlaneHow.ALL, self._columns[at[:, None], columns[some]])

    def _held(self, *, gated: bool) -> Portion:
        """Say what is held in the end, what is barred taken out (5.5)."""
        shown = self._columns[:, : self.size].copy()
        if self.compiled_places.has_bars:
            kept = self._columns[:, self.size : 2 * self.size]
            barred = kept != EVERYONE
            # two numbers as one: many cells share both planes, and their meeting is worked out once
            pairs, which = np.unique(shown[barred] * self._planes + kept[barred], return_inverse=True)
            shown[barred] = self._add(PlaneHow.ALL, np.stack(np.divmod(pairs, self._planes), axis=1))[which]
        seen = self._columns[:, -1].copy() if gated else np.full(len(shown), EVERYONE)
        return Portion(self._batches, self._planes, np.arange(len(shown)), shown, seen)

    def _used(self) -> Portion:
        """Say what stands where in the end: what has no meaning at a place is usable by none there (5.3, 5.6)."""
        shown = self._columns[:, : self.size].copy()
        shown[:, self._several] = self._usable
        seen = self._columns[:, -1].copy()
        seeing = self.compiled.charter.rules.seeing
        if seeing is not None:
            seen[1:] = self._seen(seen[1:], shown[1:, self.compiled.catalogue.keys.index(seeing)])
        places: dict[str, list[int]] = {}
        for n, place in enumerate(self.compiled.places):
            places.setdefault(place.kind, []).append(n)
        for kind, mask in self.compiled.meaning.items():
            without = [n for n in range(self.size) if not mask >> n & 1]
            if without:
                shown[np.ix_(places[kind], without)] = NOTHING
        return Portion(self._batches, self._planes, np.arange(len(shown)), shown, seen)

    def _seen(self, let_in: Numbers, seeing: Numbers) -> Numbers:
        """Return the planes of those who are let in and see a place; whoever can do nothing is of no account there."""
        planes, which = np.unique(seeing, return_inverse=True)
        sees = self._add(PlaneHow.ANY, np.stack([planes, np.full(len(planes), NOBODY)], axis=1))[which]
        pairs, which = np.unique(np.stack([let_in, sees], axis=1), axis=0, return_inverse=True)
        return self._add(PlaneHow.ALL, pairs)[which.reshape(-1)]


def programme_of(compiled_places: CompiledPlaces, *, gated: bool | None = None) -> Programme:
    """Return what can be used at all places; with ``gated`` what is held, with or without gates. Made once."""
    known = compiled_places.programmes.get(gated)
    if known is None:
        maker = ProgrammeMaker(compiled_places)
        known = compiled_places.programmes[gated] = maker.programme() if gated is None else maker.holding(gated=gated)
    return known
