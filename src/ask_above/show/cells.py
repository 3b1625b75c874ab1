"""The cells of the report's grid: each mark with why it is so; on the whole, and place by place."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, Final, NamedTuple

from ask_above.ask.compare import carrier
from ask_above.ask.describe.sentences import doing
from ask_above.charter.ladder import Rank
from ask_above.charter.places import Place
from ask_above.decide.decider import Decider
from ask_above.decide.profile import ask_rank
from ask_above.decide.sources import source_of
from ask_above.decide.walk import ranks_at
from ask_above.decide.words import in_file
from ask_above.show.grid import ANYHOW, BESIDES, GIVEN, MEANINGLESS, NO, TAKEN, YES, marks

_MOST = 4_000_000
"""Of how many cells the places are left out, as no browser would be quick with them."""


def carried_rows(decider: Decider) -> list[dict[str, Any]]:
    """Return the grid's rows with their headings: for each rank the mark, and why, by what ranks grant."""
    compiled, found = decider.compiled, []
    for key, row in zip(compiled.catalogue.keys, marks(decider, None), strict=True):
        each = compiled.catalogue.capabilities[key]
        cells = [
            {"mark": mark, "why": _why(decider, rank, key, mark), "rank": rank.key}
            for rank, mark in zip(compiled.ranks, row, strict=True)
        ]
        said = {"key": key, "heading": each.heading, "about": doing(compiled, key), "risk": each.risk}
        found.append(said | {"cells": cells})
    return found


def _why(decider: Decider, rank: Rank, key: str, mark: str) -> str:
    if mark == NO:
        return f"{rank.title} does not grant {key}."
    if mark == ANYHOW:
        return f"{rank.title} does not grant {key} itself; it {carrier(decider.compiled, rank, key)}."
    if mark == TAKEN:
        return f"{rank.title} withholds {key}{in_file(rank.withhold.where)}."
    if rank.unbounded:
        return f"{rank.title} is unbounded and may do everything."
    where, how = source_of(decider.compiled, rank, key)
    return f"{rank.title} grants {key}{how}{in_file(where)}."


CODES: Final = {YES: "y", BESIDES: "b", ANYHOW: "a", GIVEN: "+", TAKEN: "-", NO: ".", MEANINGLESS: "/"}
"""The letter that a mark has in a layer, which keeps the page small."""


class Layers(NamedTuple):
    """The grid at every place.

    ``places`` holds, in order, each place's title, its depth and the number of its layer. A layer is the marks of all
    cells, row by row, as letters of ``CODES``, and for cells that the place changes the number of a text in ``whys``.
    """

    places: list[tuple[str, int, int]]
    layers: list[tuple[str, dict[int, int]]]
    whys: list[str]


def layers(decider: Decider, told: Callable[[int, int], None] | None = None) -> Layers:
    """Return the grid at every place; where there are too many cells, no places.

    Places that differ in nothing share a layer. ``told`` is called with how many places are done, and of how many.
    """
    compiled = decider.compiled
    if len(compiled.places) * len(compiled.ranks) * len(compiled.catalogue.keys) > _MOST:
        return Layers([], [], [])
    known: dict[object, int] = {}
    made, reasons = Layers([], [], []), _Reasons(decider)
    for n, place in enumerate(compiled.places):
        # nothing tells a place from another but its kind and what is said there and above
        form = place.kind, tuple(each for each in compiled.chains[n] if _says(compiled.places[each])), n == 0
        if form not in known:
            known[form] = len(made.layers)
            made.layers.append(_layer(decider, n, reasons))
        title = place.title or place.key if n else "the whole site"
        made.places.append((title, len(compiled.chains[n]) - 1, known[form]))
        if told is not None:
            told(n, len(compiled.places))
    return made._replace(whys=list(reasons.numbers))


def _says(place: Place) -> bool:
    return bool(place.overrides or place.like or place.gate)


def _layer(decider: Decider, place: int, reasons: _Reasons) -> tuple[str, dict[int, int]]:
    table, changed = marks(decider, place), dict[int, int]()
    for row, key in enumerate(decider.compiled.catalogue.keys):
        for column, mark in enumerate(table[row]):
            if mark in (GIVEN, TAKEN):
                changed[row * len(table[row]) + column] = reasons.of(column, key, place)
    return "".join(CODES[mark] for row in table for mark in row), changed


class _Reasons:
    """Why a rank may or may not somewhere, each told once however many places it holds for."""

    def __init__(self, decider: Decider) -> None:
        self.decider, self.compiled = decider, decider.compiled
        self.asked = [ask_rank(self.compiled, rank.position) for rank in self.compiled.ranks]
        self.numbers: dict[str, int] = {}
        self._known: dict[object, int] = {}

    def of(self, rank: int, key: str, place: int) -> int:
        """Return the number of the reason."""
        form = rank, key, self.compiled.places[place].kind, place == 0, tuple(self._heard(rank, key, place))
        if form not in self._known:
            reason = self.decider.may(self.asked[rank], key, place).reason
            self._known[form] = self.numbers.setdefault(reason, len(self.numbers))
        return self._known[form]

    def _heard(self, rank: int, key: str, place: int) -> Iterator[int]:
        """Yield the places on the way down that have a gate, or a word on what this rests on for a rank held."""
        compiled, profile = self.compiled, self.asked[rank].profile
        rests = compiled.rests(key, place)
        held = [compiled.ranks[each].key for each in ranks_at(compiled, profile, place)] if profile else []
        for each in compiled.chains[place]:
            words = compiled.words_at(each)
            said = [words[holder] for holder in held if holder in words]
            if compiled.places[each].gate or any((word.allow | word.deny | word.bar) & rests for word in said):
                yield each
