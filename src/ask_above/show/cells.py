"""The cells of the report's grid: each mark with why it is so; on the whole, and place by place."""

from __future__ import annotations

from typing import Any, Final

from ask_above.ask.compare import carrier
from ask_above.ask.describe.sentences import doing
from ask_above.charter.ladder import Rank
from ask_above.decide.decider import Decider
from ask_above.decide.sources import source_of
from ask_above.decide.words import in_file
from ask_above.show.grid import ANYHOW, BESIDES, GIVEN, MEANINGLESS, NO, TAKEN, YES, marks


def carried_rows(decider: Decider) -> list[dict[str, Any]]:
    """Return the grid's rows with their headings: for each rank the mark, and why, by what ranks grant."""
    compiled, rows = decider.compiled, []
    for key, row in zip(compiled.catalogue.keys, marks(decider, None), strict=True):
        capability = compiled.catalogue.capabilities[key]
        cells = [
            {"mark": mark, "why": _why(decider, rank, key, mark), "rank": rank.key}
            for rank, mark in zip(compiled.ranks, row, strict=True)
        ]
        said = {"key": key, "heading": capability.heading, "about": doing(compiled, key), "risk": capability.risk}
        rows.append(said | {"cells": cells})
    return rows


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
"""The letter that a mark has in the page's data, which keeps it small."""


def place_marks(decider: Decider, place: int) -> list[str]:
    """Return the marks of all cells at a place, a text of ``CODES`` for each row."""
    return ["".join(map(CODES.__getitem__, row)) for row in marks(decider, place)]
