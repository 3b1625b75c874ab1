"""Which ranks fit someone who must be able to do certain things and, as far as can be, nothing else.

First what sets of ranks give where, then the search for the best of them.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Sequence
from functools import cache, reduce
from operator import or_
from typing import TYPE_CHECKING, Final, NamedTuple

import numpy as np

from ask_above.charter.catalogue import RISKS
from ask_above.charter.moments import Instant
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.names import Names, several
from ask_above.decide.profile import Profile, ask_anybody
from ask_above.decide.words import in_place
from ask_above.errors import QuestionError
from ask_above.printing import prints

if TYPE_CHECKING:
    from numpy.typing import NDArray

WEIGHTS: Final = {"low": 1, "medium": 5, "high": 25}
"""What each capability beyond need weighs, for each place where it can be used."""
MOST: Final = 3
"""How many ranks at most are put together."""
_REST, _SILENT = 2**30, 2**31 - 1
"""A word is an even number that takes or an odd one that gives, the strongest the least; last is what remains."""


class Structure(NamedTuple):
    """On what it depends whether one capability is held at one place.

    ``words`` are pairs of rank and whether it gives, the strongest first; ``default`` is what remains. Any of ``bars``
    takes it, ``never`` always. Of each set in ``asked`` one rank must be given, of ``shut`` none.
    """

    words: tuple[tuple[int, bool], ...]
    default: bool
    bars: tuple[int, ...]
    asked: tuple[tuple[int, ...], ...]
    shut: tuple[int, ...]
    never: bool


class Structures:
    """Works out the structure of every capability at every place, for these candidates."""

    def __init__(self, compiled: CompiledCharter, candidates: Sequence[int]) -> None:
        self.compiled = compiled
        profile = ask_anybody(compiled).profile
        self.automatic = list(profile.automatic) if profile else []
        self.candidates = [rank for rank in candidates if rank not in compiled.unbounded]
        self.unbounded = [rank for rank in candidates if rank in compiled.unbounded]
        self._gate, self._structure = cache(self._at_gate), cache(self._at_spot)
        self._names = cache(compiled.catalogue.names)
        self._says = [self._said(n) for n in range(len(compiled.places))]

    def _said(self, place: int) -> int:
        """Return the capabilities that a place itself says anything about; all where it has a gate."""
        if self.compiled.entrance(place) is not None:
            return self.compiled.catalogue.everything
        words = self.compiled.words_at(place).values()
        return reduce(or_, (word.allow | word.deny | word.bar for word in words), 0)

    def spot(self, capability: str, place: int) -> int:
        """Return the nearest place that says something of a capability: from there on it depends on the same."""
        bit, chain = self.compiled.catalogue.bit[capability], self.compiled.chains[place]
        return next((here for here in reversed(chain) if self._says[here] & bit), chain[0])

    def spots(self, capability: str, place: int) -> tuple[tuple[str, int], ...]:
        """Return all that a capability rests on at a place, each with the place that says something of it."""
        rests = self._names(self.compiled.rests(capability, place))
        return tuple((rest, self.spot(rest, place)) for rest in rests)

    def of(self, capability: str, place: int) -> Structure:
        """Return what a capability depends on at a place."""
        return self._structure(capability, self.spot(capability, place))

    def _at_spot(self, capability: str, place: int) -> Structure:
        if not self.compiled.unbounded.isdisjoint(self.automatic):
            return Structure((), True, (), (), (), never=False)
        compiled, bit = self.compiled, self.compiled.catalogue.bit[capability]
        words: list[tuple[int, bool]] = []
        default: bool | None = None
        bars: set[int] = set()
        barred = False
        for here in reversed(compiled.chains[place]):
            for key, word in compiled.words_at(here).items():
                position = compiled.rank_at.get(key)
                if word.bar & bit and position in self.candidates:
                    bars.add(position)
                barred = barred or (bool(word.bar & bit) and position in self.automatic)
            for _, holder, allow, deny in reversed(compiled.sayings_at(here).order):
                position = compiled.rank_at.get(holder)
                if default is not None or position is None or not (allow | deny) & bit:
                    continue
                if position in self.automatic:
                    default = bool(allow & bit)
                elif position in self.candidates:
                    words.append((position, bool(allow & bit)))
        if default is None:
            words += [(rank, True) for rank in self.candidates if compiled.carried[rank] & bit]
            default = any(compiled.carried[rank] & bit for rank in self.automatic)
        asked, shut, never = self._gate(place)
        return Structure(tuple(words), default, tuple(sorted(bars)), asked, shut, barred or never)

    def _at_gate(self, place: int) -> tuple[tuple[tuple[int, ...], ...], tuple[int, ...], bool]:
        asked: list[tuple[int, ...]] = []
        shut: set[int] = set()
        never = False
        for here in self.compiled.chains[place]:
            entrance = self.compiled.entrance(here)
            if entrance is None:
                continue
            for holders in entrance.some:
                met, ranks = self._among(holders)
                if not met:
                    asked.append(ranks)
                    never = never or not ranks
            met, ranks = self._among(entrance.none)
            never = never or met
            shut.update(ranks)
        return tuple(asked), tuple(sorted(shut)), never

    def _among(self, holders: frozenset[str]) -> tuple[bool, tuple[int, ...]]:
        """Return whether an automatic rank is among these, and the candidates that are; nobody is in a group here."""
        positions = {self.compiled.rank_at[key] for key in holders if key in self.compiled.rank_at}
        return not positions.isdisjoint(self.automatic), tuple(sorted(positions.intersection(self.candidates)))


class RankSets(NamedTuple):
    """Sets of ranks, a row each: the strongest word of each, what they bar, what they are admitted by, if unbounded."""

    words: NDArray[np.int32]
    barred: NDArray[np.bool_]
    admitted: NDArray[np.bool_]
    free: NDArray[np.bool_]

    def one(self, n: int) -> RankSets:
        """Return one of them."""
        here = slice(n, n + 1)
        return RankSets(self.words[here], self.barred[here], self.admitted[here], self.free[here])


class Combiner:
    """Works out what sets of ranks give, many sets at once: candidates are rows, structures and clauses columns.

    A clause is met where all of some structures are held: those that a capability rests on at a place.
    """

    def __init__(self, structures: Structures) -> None:
        self.structures = structures
        self.row = {rank: n for n, rank in enumerate(sorted((*structures.candidates, *structures.unbounded)))}
        self._columns: dict[Structure, int] = {}
        self._clauses: dict[tuple[int, ...], int] = {}
        self.weights: list[int] = []

    def clause(self, spots: Iterable[tuple[str, int]], weight: int = 0) -> int:
        """Return the number of a clause; where it is met it weighs so much more."""
        parts = {self._columns.setdefault(self.structures.of(*spot), len(self._columns)) for spot in spots}
        n = self._clauses.setdefault(tuple(sorted(parts)), len(self._clauses))
        if n == len(self.weights):
            self.weights.append(0)
        self.weights[n] += weight
        return n

    def close(self) -> None:
        """Lay out in arrays what was noted; nothing may be added after it."""
        shape = len(self.row), len(self._columns) + 1  # the last column is held always
        asked = {ranks: n for n, ranks in enumerate({ranks for each in self._columns for ranks in each.asked})}
        self._words = np.full(shape, _SILENT, dtype=np.int32)
        self._rest = np.full((1, shape[1]), _REST + 1, dtype=np.int32)
        self._bars, self._never = np.zeros(shape, dtype=bool), np.zeros(shape[1], dtype=bool)
        self._among = np.zeros((shape[0], len(asked)), dtype=bool)
        self._asks = np.zeros((len(asked), shape[1]), dtype=np.float32)
        self._free = np.zeros(shape[0], dtype=bool)
        self._free[[self.row[rank] for rank in self.structures.unbounded]] = True
        for ranks, n in asked.items():
            self._among[[self.row[rank] for rank in ranks], n] = True
        for structure, column in self._columns.items():
            self._never[column], self._rest[0, column] = structure.never, _REST + structure.default
            for n, (rank, gives) in reversed([*enumerate(structure.words)]):  # of a rank's own the strongest counts
                self._words[self.row[rank], column] = 2 * n + gives
            self._bars[[self.row[rank] for rank in (*structure.bars, *structure.shut)], column] = True
            self._asks[[asked[ranks] for ranks in structure.asked], column] = 1
        self._parts = np.full((max(map(len, self._clauses), default=1), len(self._clauses)), shape[1] - 1)
        for parts, n in self._clauses.items():
            self._parts[: len(parts), n] = parts
        self.weighs = np.array(self.weights, dtype=float)
        # few take anything: each with the part of a clause that it takes, and how strong its word is
        words = np.where(self._bars, -1, np.where(self._words & 1, _SILENT, self._words))
        taken = [np.nonzero(words[:, parts] < _REST) for parts in self._parts]
        self._takers, self._taken = (np.concatenate(pairs) for pairs in zip(*taken, strict=True))
        self._taken_part = np.concatenate([parts[n] for parts, (_, n) in zip(self._parts, taken, strict=True)])
        self._takes = words[self._takers, self._taken_part]

    def nothing(self) -> RankSets:
        """Return the set of no rank."""
        wide = self._rest.shape[1]
        return RankSets(self._rest, np.zeros((1, wide), bool), np.zeros((1, len(self._asks)), bool), np.zeros(1, bool))

    def with_each(self, some: RankSets, rows: Sequence[int]) -> RankSets:
        """Return a set with one rank more, for each of these."""
        return RankSets(
            np.minimum(some.words, self._words[rows]),
            some.barred | self._bars[rows],
            some.admitted | self._among[rows],
            some.free | self._free[rows],
        )

    def met(self, sets: RankSets) -> NDArray[np.bool_]:
        """Return for each set which clauses are met."""
        held = (sets.words & 1).astype(bool) & ~sets.barred & ~self._never
        held &= (~sets.admitted).astype(np.float32) @ self._asks == 0
        held |= sets.free[:, None]
        met: NDArray[np.bool_] = np.logical_and.reduce([held[:, parts] for parts in self._parts])
        return met

    def losses(self, one: RankSets, met: NDArray[np.bool_], rows: Sequence[int]) -> NDArray[np.float64]:
        """Return what each rank could at most take away of the weight of a set."""
        takes = met[self._taken] & (self._takes < one.words[0, self._taken_part]) & ~one.free
        return np.bincount(self._takers[takes], self.weighs[self._taken[takes]], len(self.row))[rows].astype(float)

    def helping(self, rows: Sequence[int], clauses: Sequence[int]) -> list[int]:
        """Return the ranks without which none of some clauses comes to be met: they give, or are asked for."""
        words = self._words[rows]
        gives = (words < _REST) & (words & 1 == 1)
        gives |= self._among[rows].astype(np.float32) @ self._asks > 0
        helps = gives[:, self._parts[:, clauses].ravel()].any(axis=1) | self._free[rows]
        return [row for row, does in zip(rows, helps, strict=True) if does]


class Need(NamedTuple):
    """A capability, by its full name, and where: at one place, or without one at any place at all."""

    capability: str
    place: int | None = None


def needed(names: Names, wanted: Iterable[str | tuple[str, str]]) -> list[Need]:
    """Return needs with all their names found."""
    pairs = [each if isinstance(each, tuple) else (each, None) for each in several(wanted, "capabilities")]
    return [Need(names.capability(name), None if place is None else names.place_number(place)) for name, place in pairs]


class Excess(NamedTuple):
    """A capability that someone would get without need, and the places where."""

    capability: str
    risk: str
    places: tuple[str, ...]


class Fitting(NamedTuple):
    """Ranks, highest first, that together give what is needed; ``weight`` is that of all that is too much."""

    ranks: tuple[str, ...]
    weight: int
    excess: tuple[Excess, ...]


@prints
class Fit(NamedTuple):
    """The best single rank and the best few; ``None`` where nothing gives what is needed.

    Best is the least weight of what is too much, then the fewest ranks, then the lowest on the ladder.
    """

    single: Fitting | None
    few: Fitting | None
    needs: tuple[Need, ...]
    never: tuple[Need, ...]
    compiled: CompiledCharter

    def __repr__(self) -> str:
        return f"<Fit: {', '.join(self.few.ranks) if self.few else 'nothing fits'}>"


def prevented(fit: Fit) -> str:
    """Say why no rank at all can give what is needed."""
    compiled, bit = fit.compiled, fit.compiled.catalogue.bit
    for need in fit.needs:
        places = range(len(compiled.places)) if need.place is None else [need.place]
        meant = [place for place in places if compiled.has_meaning(place) & bit[need.capability]]
        if not meant:
            place = "" if need.place is None else compiled.places[need.place].called
            return f"{need.capability} does not apply {in_place(place, site=need.place == 0) if place else 'anywhere'}"
        for other in fit.never:
            rests = (compiled.rests(need.capability, place) & compiled.has_meaning(place) for place in meant)
            if other.place in (None, need.place) and all(bit[other.capability] & mask for mask in rests):
                if need.capability == other.capability:
                    return f"{need.capability} is both needed and never to be held"
                return f"nobody may use {need.capability} without {other.capability}"
    return "a bar, a gate or what every member has prevents it"


class Found(NamedTuple):
    """A set of ranks by how good it is: the least is the best."""

    weight: float
    number: int
    lowest: tuple[int, ...]

    @classmethod
    def of(cls, weight: float, rows: Collection[int]) -> Found:
        """Return a set of ranks of a weight."""
        return cls(max(0.0, float(weight)), len(rows), tuple(-row for row in sorted(rows)))


class Fitter:
    """Looks for ranks that fit; everyone is taken to hold the automatic ranks of members besides."""

    def __init__(
        self, decider: Decider, needs: Sequence[Need], never: Sequence[Need], at: Instant, most: int = MOST
    ) -> None:
        if not needs:
            raise QuestionError("Which capabilities are needed? Name at least one.")
        if most < 1:
            raise QuestionError(f"{most} ranks fit nobody; put together one at least.")
        self.decider, self.compiled, self.most = decider, decider.compiled, most
        self.needs, self.never = needs, never
        self.candidates = candidates(decider, at)
        base = ask_anybody(self.compiled).profile
        self.base = base or Profile()
        self.needed = [self._needed(place) for place in range(len(self.compiled.places))]

    def _needed(self, place: int) -> int:
        """Return what does not count as too much at a place: what is needed there, and what everyone has."""
        mask = self.decider.reckoner.usable(self.base, place)
        for need in self.needs:
            if need.place is None or need.place == place:
                mask |= self.compiled.rests(need.capability, place)
        return mask

    def fit(self) -> Fit:
        """Return the best single rank and the best few."""
        search = Search(self)
        single, few = (None if ranks is None else self.fitting(ranks) for ranks in (search.single(), search.few()))
        return Fit(single, few, tuple(self.needs), tuple(self.never), self.compiled)

    # -- one set of ranks, by the rules themselves

    def can(self, ranks: Sequence[int], place: int) -> int:
        """Return what someone can use who holds these ranks on the whole site."""
        placed = frozenset((rank, 0) for rank in ranks)
        return self.decider.reckoner.usable(self.base._replace(placed=placed), place)

    def meets(self, ranks: Sequence[int]) -> bool:
        """Whether ranks give all that is needed and nothing that must never be."""
        bit, everywhere = self.compiled.catalogue.bit, range(len(self.compiled.places))

        def has(need: Need) -> bool:
            places = everywhere if need.place is None else [need.place]
            return any(self.can(ranks, place) & bit[need.capability] for place in places)

        return all(has(need) for need in self.needs) and not any(has(need) for need in self.never)

    def fitting(self, ranks: Sequence[int]) -> Fitting:
        """Return ranks with all that is too much in them."""
        too_much: dict[str, list[str]] = {}
        for place in range(len(self.compiled.places)):
            for key in self.compiled.catalogue.names(self.can(ranks, place) & ~self.needed[place]):
                too_much.setdefault(key, []).append(self.compiled.places[place].key)
        risks = {key: self.compiled.catalogue.capabilities[key].risk for key in too_much}
        weight = sum(WEIGHTS[risks[key]] * len(places) for key, places in too_much.items())
        order = sorted(too_much, key=lambda key: (-RISKS.index(risks[key]), self.compiled.catalogue.keys.index(key)))
        excess = tuple(Excess(key, risks[key], tuple(too_much[key])) for key in order)
        return Fitting(tuple(self.compiled.ranks[rank].key for rank in sorted(ranks)), weight, excess)


class Search:
    """Looks for the best set of ranks: the least weight, then the fewest, then the lowest on the ladder.

    A set is extended by what it needs: while something is missing by the ranks that could bring it, and then by those
    that could take away of what is too much. What cannot come out better than the best so far is left.
    """

    def __init__(self, fitter: Fitter) -> None:
        self.compiled, self.most = fitter.compiled, fitter.most
        self.combiner = Combiner(Structures(self.compiled, fitter.candidates))
        self.rank = dict(enumerate(self.combiner.row))
        self._conditions(set(fitter.base.automatic))
        self.needs = [self._clauses(need) for need in fitter.needs]
        self._too_much(fitter)
        self.combiner.close()
        self.best = self.unfit = Found(self.forbidden, 0, ())

    def _conditions(self, automatic: set[int]) -> None:
        """Note which ranks may not stand together, or only after others (rule 6.8)."""
        row, at = self.combiner.row, self.compiled.rank_at
        self.after: dict[int, set[int]] = {}
        self.apart: dict[int, set[int]] = {n: set() for n in self.rank}
        self.open: list[int] = []
        for n, position in self.rank.items():
            rank = self.compiled.ranks[position]
            self.after[n] = {row.get(at[key], -1) for key in rank.after if at[key] not in automatic}
            if {position, *automatic}.isdisjoint(at[key] for key in rank.apart_from):
                self.open.append(n)
            for other in (row[at[key]] for key in rank.apart_from if at[key] in row):
                self.apart[n].add(other)
                self.apart[other].add(n)

    def _clauses(self, need: Need) -> list[int]:
        """Return the clauses of which one has to be met for a need: of its place, or of any place."""
        bit, spots = self.compiled.catalogue.bit[need.capability], self.combiner.structures.spots
        places = range(len(self.compiled.places)) if need.place is None else [need.place]
        meant = [place for place in places if self.compiled.has_meaning(place) & bit]
        return [self.combiner.clause(parts) for parts in dict.fromkeys(spots(need.capability, n) for n in meant)]

    def _too_much(self, fitter: Fitter) -> None:
        """Let everything weigh that can be used at a place without need; what must never be weighs more than all."""
        catalogue, structures = self.compiled.catalogue, self.combiner.structures
        # most places say nothing themselves: what can be used there can be where the same is said
        alike: Counter[tuple[str, tuple[tuple[str, int], ...]]] = Counter()
        never: set[tuple[tuple[str, int], ...]] = set()
        for place in range(len(self.compiled.places)):
            forbidden = catalogue.mask(need.capability for need in fitter.never if need.place in (None, place))
            meant = self.compiled.has_meaning(place)
            for key in catalogue.names(meant & ~fitter.needed[place]):
                alike[key, structures.spots(key, place)] += 1
            never.update(structures.spots(key, place) for key in catalogue.names(meant & forbidden))
        for (key, spots), count in alike.items():
            self.combiner.clause(spots, WEIGHTS[catalogue.capabilities[key].risk] * count)
        self.forbidden = sum(self.combiner.weights) + 1
        for spots in never:
            self.combiner.clause(spots, self.forbidden)

    def single(self) -> list[int] | None:
        """Return the best rank alone."""
        self.best = self.unfit
        self._try_each((), self.combiner.nothing(), self.open)
        return self._ranks()

    def few(self) -> list[int] | None:
        """Return the best few, or none where everybody may already."""
        self.best = self.unfit
        nothing = self.combiner.nothing()
        met = self.combiner.met(nothing)[0]
        self._note((), met)
        self._extend((), nothing, met, self.open)
        return self._ranks()

    def _ranks(self) -> list[int] | None:
        return None if self.best is self.unfit else [self.rank[-n] for n in self.best.lowest]

    def _extend(self, chosen: tuple[int, ...], one: RankSets, met: NDArray[np.bool_], rows: Sequence[int]) -> None:
        """Try a set with what is left, where that can come out better than the best so far."""
        room = self.most - len(chosen)
        if not room or not rows:
            return
        losses, weight = self.combiner.losses(one, met, rows), met @ self.combiner.weighs
        most = np.cumsum(np.sort(losses)[::-1])[:room]
        if not any(Found.of(weight - lost, (*chosen, *rows[-n:])) < self.best for n, lost in enumerate(most, 1)):
            return
        missing = self._missing(chosen, met, rows)
        if missing is None:
            missing = [row for row, loss in zip(rows, losses, strict=True) if loss]
        sets, mets, order = self._try_each(chosen, one, missing)
        left = set(rows)
        for n in order:  # what one of them was tried with is not tried again with the next
            left.discard(missing[n])
            others = sorted(left - self.apart[missing[n]])
            self._extend((*chosen, missing[n]), sets.one(n), mets[n], others)

    def _missing(self, chosen: Sequence[int], met: NDArray[np.bool_], rows: Sequence[int]) -> list[int] | None:
        """Return the ranks of which one is needed, for what fewest can bring; ``None`` where nothing is missing."""
        ways = [[n for n in rows if n == other] for row in chosen for other in self.after[row].difference(chosen)]
        ways += [self.combiner.helping(rows, clauses) for clauses in self.needs if not met[clauses].any()]
        return min(ways, key=len, default=None)

    def _try_each(
        self, chosen: tuple[int, ...], one: RankSets, rows: Sequence[int]
    ) -> tuple[RankSets, NDArray[np.bool_], list[int]]:
        """Try a set with each of some ranks; return what comes of it, and the order of its weight."""
        sets = self.combiner.with_each(one, rows)
        mets = self.combiner.met(sets)
        for row, met in zip(rows, mets, strict=True):
            self._note((*chosen, row), met)
        weights = mets @ self.combiner.weighs
        return sets, mets, sorted(range(len(rows)), key=lambda n: (weights[n], -rows[n]))

    def _note(self, chosen: tuple[int, ...], met: NDArray[np.bool_]) -> None:
        """Keep a set that gives what is needed, where it is the best so far."""
        if all(self.after[row] <= {*chosen} for row in chosen) and all(met[clauses].any() for clauses in self.needs):
            self.best = min(self.best, Found.of(met @ self.combiner.weighs, chosen))


def candidates(decider: Decider, at: Instant) -> list[int]:
    """Return the ranks that someone new may be given: neither automatic nor entry, not kept outside, not full."""
    compiled = decider.compiled
    limited = {rank.key for rank in compiled.ranks if rank.limit is not None}
    count = dict.fromkeys(limited, 0)
    for asked, keys in decider.alike(at) if limited else ():
        if not asked.is_retired:
            held_now = {compiled.ranks[holding.rank].key for holding in asked.recorded}
            for key in (held_now | {assignment.rank for assignment in asked.later}) & limited:
                count[key] += len(keys)
    full = {key for key in limited if count[key] >= (compiled.charter.ranks[key].limit or 0)}
    return [
        r.position for r in compiled.ranks if not (r.automatic or r.entry or r.kept_by or r.paused or r.key in full)
    ]
