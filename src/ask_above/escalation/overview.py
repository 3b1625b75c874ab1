"""How far every rank can climb, in one table (rule 10.1)."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ask_above.charter.catalogue import RISKS
from ask_above.decide.decider import Decider
from ask_above.escalation.climb import climb
from ask_above.escalation.ground import Ground

if TYPE_CHECKING:
    from pandas import DataFrame

COLUMNS = ("rank", "unbounded", "high", "medium", "low", "capabilities")
_HIGHEST_FIRST = RISKS[::-1]


def rows(decider: Decider, *, place: int | None = None, accomplice: bool = False) -> list[tuple[object, ...]]:
    """Return a row for each rank, in the order of the ladder."""
    catalogue = decider.compiled.catalogue
    known = catalogue.capabilities
    risky = {risk: catalogue.mask(key for key, each in known.items() if each.risk == risk) for risk in _HIGHEST_FIRST}
    overview: list[tuple[object, ...]] = []
    for rank in decider.compiled.ranks:
        reached = climb(decider.compiled.keep(Ground), decider.reckoner, rank, accomplice=accomplice)
        masks = [last & ~first for first, last in zip(reached.start, reached.reach, strict=True)]
        masks = masks if place is None else [masks[place]]
        counts = [sum((mask & risky[risk]).bit_count() for mask in masks) for risk in _HIGHEST_FIRST]
        every = 0
        for mask in masks:
            every |= mask
        names = sorted(catalogue.names(every), key=lambda name: _HIGHEST_FIRST.index(known[name].risk))
        overview.append((rank.key, reached.free, *counts, " ".join(names)))
    return overview


def climbs(decider: Decider, *, place: int | None = None, accomplice: bool = False) -> DataFrame:
    """Return the table."""
    import pandas as pd

    return pd.DataFrame(rows(decider, place=place, accomplice=accomplice), columns=list(COLUMNS))
