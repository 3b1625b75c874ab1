"""The cells of the report's grid: each mark with why it is so; on the whole, and place by place."""

from __future__ import annotations

from typing import Any

from ask_above.ask.sentences import doing
from ask_above.charter.ladder import Rank
from ask_above.charter.places import Place
from ask_above.decide.may import Decider
from ask_above.decide.profile import ask_rank
from ask_above.decide.sources import source_of
from ask_above.decide.words import in_file
from ask_above.show.grid import GIVEN, NO, TAKEN, marks

_MOST = 4_000_000
"""Of how many cells the places are left out, as no browser would be quick with them."""


def carried_rows(decider: Decider) -> list[dict[str, Any]]:
    """Return the grid's rows with their headings: for each rank the mark, and why, by what ranks carry."""
    frame, found = decider.frame, []
    for key, row in zip(frame.catalogue.keys, marks(decider, None), strict=True):
        each = frame.catalogue.capabilities[key]
        cells = [
            {"mark": mark, "why": _why(decider, rank, key, mark), "rank": rank.key}
            for rank, mark in zip(frame.ranks, row, strict=True)
        ]
        said = {"key": key, "heading": each.heading, "about": doing(frame, key), "risk": each.risk}
        found.append(said | {"cells": cells})
    return found


def _why(decider: Decider, rank: Rank, key: str, mark: str) -> str:
    if mark == NO:
        return f"{rank.title} does not carry {key}."
    if mark == TAKEN:
        return f"{rank.title} withholds {key}{in_file(rank.withhold.where)}."
    if rank.unbounded:
        return f"{rank.title} is unbounded and may do everything."
    where, how = source_of(decider.frame, rank, key)
    return f"{rank.title} carries {key}{how}{in_file(where)}."


def layers(decider: Decider) -> dict[str, Any]:
    """Return the grid at every place: ``places`` in order, each with the number of its layer; ``layers``; ``most``.

    A layer is the marks of all cells, row by row, as one text, and why it is so of those that the place changes.
    Places that differ in nothing share a layer. Where there are too many cells, there are no places.
    """
    frame = decider.frame
    if len(frame.places) * len(frame.ranks) * len(frame.catalogue.keys) > _MOST:
        return {"places": [], "layers": []}
    known: dict[object, int] = {}
    made: list[tuple[str, dict[int, str]]] = []
    places = []
    for n, place in enumerate(frame.places):
        # nothing tells a place from another but its kind and what is said there and above
        form = place.kind, tuple(each for each in frame.chains[n] if _says(frame.places[each])), n == 0
        if form not in known:
            known[form] = len(made)
            made.append(_layer(decider, n))
        title = place.title or place.key if n else "the whole site"
        places.append([title, len(frame.chains[n]) - 1, known[form]])
    return {"places": places, "layers": made}


def _says(place: Place) -> bool:
    return bool(place.overrides or place.like or place.gate)


def _layer(decider: Decider, place: int) -> tuple[str, dict[int, str]]:
    frame = decider.frame
    table, whys = marks(decider, place), dict[int, str]()
    asked = [ask_rank(frame, rank.position) for rank in frame.ranks]
    for row, key in enumerate(frame.catalogue.keys):
        for column, mark in enumerate(table[row]):
            if mark in (GIVEN, TAKEN):
                whys[row * len(asked) + column] = decider.may(asked[column], key, place).reason
    return "".join("".join(row) for row in table), whys
