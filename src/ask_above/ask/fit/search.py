"""Which ranks fit someone who must be able to do certain things and, as far as can be, nothing else.

First the model, what each rank brings where, then the search for the smallest sum.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from functools import cache, reduce
from operator import or_
from typing import TYPE_CHECKING, Final, NamedTuple

import numpy as np

from ask_above.charter.catalogue import RISKS
from ask_above.charter.moments import Instant
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.names import Names
from ask_above.decide.profile import Profile, ask_anybody
from ask_above.printing import prints

if TYPE_CHECKING:
    from scipy.sparse import csr_array


Terms = tuple[tuple[int, float], ...]
"""Variables and their factors."""
WEIGHTS: Final = {"low": 1, "medium": 5, "high": 25}
"""What each capability beyond need weighs, for each place where it can be used."""
MOST: Final = 3
"""How many ranks at most are put together."""


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
        self._gates: dict[int, tuple[tuple[tuple[int, ...], ...], tuple[int, ...], bool]] = {}
        self._known: dict[tuple[str, int], Structure] = {}
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
        spot = capability, self.spot(capability, place)
        known = self._known.get(spot)
        if known is None:
            known = self._known[spot] = self._work_out(*spot)
        return known

    def _work_out(self, capability: str, place: int) -> Structure:
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

    def _gate(self, place: int) -> tuple[tuple[tuple[int, ...], ...], tuple[int, ...], bool]:
        known = self._gates.get(place)
        if known is None:
            known = self._gates[place] = self._find_gate(place)
        return known

    def _find_gate(self, place: int) -> tuple[tuple[tuple[int, ...], ...], tuple[int, ...], bool]:
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


class Model:
    """A growing set of linear constraints; variables 0 to n-1 are the candidates, by their place in the list."""

    def __init__(self, candidates: Sequence[int], unbounded: Sequence[int]) -> None:
        self.number = {rank: n for n, rank in enumerate(candidates)}
        self.unbounded = [self.number[rank] for rank in unbounded]
        self.size = len(candidates) + 1  # one that nothing depends on, so that there is always a variable
        self.rows: list[tuple[Terms, float, float]] = []
        self.weights: dict[int, float] = {}
        self._held: dict[Structure, int] = {}
        self._fails: dict[tuple[int, ...], int] = {}
        self._all: dict[tuple[int, ...], int] = {}

    def variable(self) -> int:
        """Return a new variable between 0 and 1."""
        self.size += 1
        return self.size - 1

    def add(self, terms: Iterable[tuple[int, float]], least: float = -np.inf, most: float = np.inf) -> None:
        """Hold a sum of variables between two bounds."""
        self.rows.append((tuple(terms), least, most))

    def require(self, each: Structure, met: Terms = (), met_least: float = 1) -> None:
        """Let it be held; with ``met``, a variable that may be 1 only where it is."""
        free = [(n, 1.0) for n in self.unbounded]
        whether = [(n, -factor) for n, factor in met]
        least = 0.0 if met else met_least
        if each.never:
            self.add([*free, *whether], least=least)
            return
        before: list[tuple[int, float]] = []
        for rank, gives in each.words:
            if gives:
                before.append((self.number[rank], 1.0))
            else:
                self.add([*free, *before, (self.number[rank], -1.0), *whether], least=least - 1)
        if not each.default:
            self.add([*free, *before, *whether], least=least)
        for rank in (*each.bars, *each.shut):
            self.add([*free, (self.number[rank], -1.0), *whether], least=least - 1)
        for ranks in each.asked:
            self.add([*free, *((self.number[rank], 1.0) for rank in ranks), *whether], least=least)

    def held(self, each: Structure) -> int:
        """Return a variable that is 1 wherever it is held."""
        known = self._held.get(each)
        if known is None:
            known = self._held[each] = self._make_held(each)
        return known

    def _make_held(self, each: Structure) -> int:
        held = self.variable()
        for n in self.unbounded:
            self.add([(held, 1.0), (n, -1.0)], least=0)
        if each.never:
            return held
        against = [(self.number[rank], 1.0) for rank in {*each.bars, *each.shut}]
        against += [(self._fail(ranks), 1.0) for ranks in each.asked]
        for rank, gives in each.words:
            if gives:
                self.add([(held, 1.0), (self.number[rank], -1.0), *against], least=0)
            else:
                against.append((self.number[rank], 1.0))
        if each.default:
            self.add([(held, 1.0), *against], least=1)
        return held

    def _fail(self, ranks: tuple[int, ...]) -> int:
        """Return a variable that may be 1 only where none of these ranks is given."""
        known = self._fails.get(ranks)
        if known is None:
            known = self._fails[ranks] = self.variable()
            for rank in ranks:
                self.add([(known, 1.0), (self.number[rank], 1.0)], most=1)
        return known

    def usable(self, held: Iterable[int]) -> int:
        """Return a variable that is 1 wherever all of these are held."""
        key = tuple(sorted(set(held)))
        if len(key) == 1:
            return key[0]
        known = self._all.get(key)
        if known is None:
            known = self._all[key] = self.variable()
            self.add([(known, 1.0), *((n, -1.0) for n in key)], least=1 - len(key))
        return known

    def weigh(self, variable: int, weight: float) -> None:
        """Let a variable cost something."""
        self.weights[variable] = self.weights.get(variable, 0) + weight

    def matrix(self) -> tuple[csr_array, list[float], list[float]]:
        """Return the constraints as a sparse matrix with its bounds."""
        from scipy.sparse import coo_array

        entries = [(n, at, factor) for n, (terms, _, _) in enumerate(self.rows) for at, factor in terms]
        rows, columns, factors = zip(*entries, strict=True) if entries else ((), (), ())
        shape = (len(self.rows), self.size)
        matrix = coo_array((factors, (rows, columns)), shape=shape).tocsr()
        return matrix, [low for _, low, _ in self.rows], [high for _, _, high in self.rows]


class Need(NamedTuple):
    """A capability, by its full name, and where: at one place, or without one at any place at all."""

    capability: str
    place: int | None = None


def needed(names: Names, wanted: Iterable[str | tuple[str, str]]) -> list[Need]:
    """Return needs with all their names found."""
    pairs = [(each, None) if isinstance(each, str) else each for each in wanted]
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


class Fitter:
    """Looks for ranks that fit; everyone is taken to hold the automatic ranks of members besides."""

    def __init__(
        self, decider: Decider, needs: Sequence[Need], never: Sequence[Need], at: Instant, most: int = MOST
    ) -> None:
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
        singles = [self.fitting((rank,)) for rank in self.candidates if self._allowed((rank,)) and self.meets((rank,))]
        best = min(singles, key=self._order, default=None)
        found = self.best_few()
        few = None if found is None else self.fitting(found)
        return Fit(best, few, tuple(self.needs), tuple(self.never), self.compiled)

    def _order(self, each: Fitting) -> tuple[int, int, tuple[int, ...]]:
        return each.weight, len(each.ranks), tuple(-self.compiled.rank_at[key] for key in each.ranks)

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

    def _allowed(self, ranks: Sequence[int]) -> bool:
        """Whether ranks may be held together (rule 6.8)."""
        given = [self.compiled.ranks[rank] for rank in ranks]
        keys = {rank.key for rank in given} | {self.compiled.ranks[n].key for n in self.base.automatic}
        return all(set(rank.after) <= keys and not keys & set(rank.apart_from) for rank in given)

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

    # -- the best few, as an exact minimum

    def best_few(self) -> list[int] | None:
        """Return the ranks of the exact minimum: weight, then number, then the lowest on the ladder."""
        model = self._model()
        given = [(n, 1.0) for n in range(len(self.candidates))]
        weight = self._solved(model, model.weights)
        if weight is None:
            return None
        model.add(model.weights.items(), most=round(weight[0]) + 0.5)
        number = self._solved(model, dict(given))
        if number is None:
            return None
        model.add(given, most=round(number[0]) + 0.5)
        chosen = number[1]
        for n in range(len(self.candidates)):  # the highest first: is there one as good without it?
            if n in chosen:
                model.add([(n, 1.0)], most=0)
                without = self._solved(model, {})
                if without is None:
                    model.rows.pop()
                    model.add([(n, 1.0)], least=1)
                else:
                    chosen = without[1]
            else:
                model.add([(n, 1.0)], most=0)
        return [self.candidates[n] for n in chosen]

    def _model(self) -> Model:
        structures = Structures(self.compiled, self.candidates)
        model = Model(self.candidates, structures.unbounded)
        model.add([(n, 1.0) for n in range(len(self.candidates))], most=self.most)
        self._conditions(model)
        for need in self.needs:
            self._need(model, structures, need)
        self._too_much(model, structures)
        return model

    def _conditions(self, model: Model) -> None:
        """Ranks that may not stand together, or only after others (rule 6.8)."""
        for rank in self.candidates:
            here = self.compiled.ranks[rank]
            for key in here.after:
                other = self.compiled.rank_at[key]
                if other not in self.base.automatic:
                    given = [(model.number[other], 1.0)] if other in model.number else []
                    model.add([*given, (model.number[rank], -1.0)], least=0)
            for key in here.apart_from:
                other = self.compiled.rank_at[key]
                if other in self.base.automatic:
                    model.add([(model.number[rank], 1.0)], most=0)
                elif other in model.number:
                    model.add([(model.number[rank], 1.0), (model.number[other], 1.0)], most=1)

    def _places(self, need: Need) -> list[int]:
        bit = self.compiled.catalogue.bit[need.capability]
        places = range(len(self.compiled.places)) if need.place is None else [need.place]
        return [place for place in places if self.compiled.has_meaning(place) & bit]

    def _need(self, model: Model, structures: Structures, need: Need) -> None:
        """Let what is needed be usable: at its place, or at one place at least."""
        alike = dict.fromkeys(structures.spots(need.capability, place) for place in self._places(need))
        if need.place is not None and alike:
            for spot in next(iter(alike)):
                model.require(structures.of(*spot))
            return
        somewhere = []
        for spots in alike:
            met = model.variable()
            somewhere.append((met, 1.0))
            for spot in spots:
                model.require(structures.of(*spot), ((met, 1.0),))
        model.add(somewhere, least=1)

    def _too_much(self, model: Model, structures: Structures) -> None:
        """Let everything cost that can be used at a place without need, and forbid what must never be."""
        catalogue = self.compiled.catalogue
        # most places say nothing themselves: what can be used there can be where the same is said
        alike: Counter[tuple[str, bool, tuple[tuple[str, int], ...]]] = Counter()
        for place in range(len(self.compiled.places)):
            forbidden = catalogue.mask(need.capability for need in self.never if need.place in (None, place))
            meant = self.compiled.has_meaning(place)
            for key in catalogue.names(meant & (~self.needed[place] | forbidden)):
                alike[key, bool(forbidden & catalogue.bit[key]), structures.spots(key, place)] += 1
        for (key, is_forbidden, spots), count in alike.items():
            can = model.usable(model.held(structures.of(*spot)) for spot in spots)
            if is_forbidden:
                model.add([(can, 1.0)], most=0)
            else:
                model.weigh(can, WEIGHTS[catalogue.capabilities[key].risk] * count)

    def _solved(self, model: Model, costs: dict[int, float]) -> tuple[float, list[int]] | None:
        """Return the least cost and the candidates given for it; ``None`` where the constraints cannot be met."""
        from scipy.optimize import Bounds, LinearConstraint, milp

        objective = np.zeros(model.size)
        for at, cost in costs.items():
            objective[at] = cost
        whole = np.zeros(model.size)
        whole[: len(self.candidates)] = 1
        matrix, low, high = model.matrix()
        solution = milp(
            objective,
            integrality=whole,
            bounds=Bounds(0, 1),
            constraints=LinearConstraint(matrix, low, high),
            options={"mip_rel_gap": 0},
        )
        if solution.x is None:
            return None
        return float(solution.fun), [n for n in range(len(self.candidates)) if round(solution.x[n])]


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
