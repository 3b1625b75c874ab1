"""How far every rank can climb, in one table (rule 10.1)."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ask_above.decide.climb import climb
from ask_above.decide.may import Decider

if TYPE_CHECKING:
    from pandas import DataFrame

COLUMNS = ("rank", "unbounded", "high", "medium", "low", "capabilities")
_RISKS = ("high", "medium", "low")


def rows(decider: Decider, *, place: int | None = None, accomplice: bool = False) -> list[tuple[object, ...]]:
    """Return a row for each rank, in the order of the ladder."""
    known = decider.frame.catalogue.capabilities
    found: list[tuple[object, ...]] = []
    for rank in decider.frame.ranks:
        reached = climb(decider.ground, decider.reckoner, rank, accomplice=accomplice)
        gains = [gain.capability for gain in reached.gains if place is None or gain.place == place]
        names = sorted(dict.fromkeys(gains), key=lambda name: _RISKS.index(known[name].risk))
        counts = [sum(known[name].risk == risk for name in gains) for risk in _RISKS]
        found.append((rank.key, reached.free, *counts, " ".join(names)))
    return found


def climbs(decider: Decider, *, place: int | None = None, accomplice: bool = False) -> DataFrame:
    """Return the table."""
    import pandas as pd

    return pd.DataFrame(rows(decider, place=place, accomplice=accomplice), columns=list(COLUMNS))
