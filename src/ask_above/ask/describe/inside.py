"""How many active members can do something in each place, and who may change who does what there (rule 5)."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from ask_above.bulk.everyone import Everyone
from ask_above.bulk.table import unpack
from ask_above.charter.moments import Instant
from ask_above.charter.rules import Act
from ask_above.decide.decider import Decider


class Inside(NamedTuple):
    """Of one place: how many active members can use anything there, and the keys of those who may change it."""

    members: int
    keepers: tuple[str, ...]


def inside(decider: Decider, at: Instant) -> list[Inside]:
    """Return what is so of every place, in the charter's order."""
    compiled = decider.compiled
    sweep, crowd = decider.keep(Everyone).rows(at)
    using = compiled.catalogue.mask(compiled.charter.rules.act(Act.OVERRIDES).using)
    keeping = [n for n in range(len(compiled.catalogue.keys)) if using >> n & 1]
    keepers: dict[bytes, tuple[str, ...]] = {}
    insides: list[Inside] = []
    for _, words in sweep.run():
        anything = unpack(np.bitwise_or.reduce(words, axis=0))
        plane = np.bitwise_or.reduce(words[keeping], axis=0) if keeping else np.zeros(sweep.words, dtype=np.uint64)
        form = plane.tobytes()
        if form not in keepers:
            able = unpack(plane)
            keepers[form] = tuple(crowd.members[n] for n in np.flatnonzero(able[crowd.rows] & crowd.active).tolist())
        insides.append(Inside(int(np.count_nonzero(anything[crowd.rows] & crowd.active)), keepers[form]))
    return insides
