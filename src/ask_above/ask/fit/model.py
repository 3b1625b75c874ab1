"""What a set of ranks comes to, as linear constraints: the whole of rule 5 for someone who holds them on the site.

A variable is 1 for each rank that is given. What is held at a place is a list of words, the strongest first, of which
the first that a given rank speaks counts; bars, gates and unbounded ranks come on top. Each of these becomes a linear
inequality that is exact for ranks that are given or not.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.profile import ask_anybody

if TYPE_CHECKING:
    from scipy.sparse import csr_array

Terms = tuple[tuple[int, float], ...]
"""Variables and their factors."""


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

    def of(self, capability: str, place: int) -> Structure:
        """Return what a capability depends on at a place."""
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
