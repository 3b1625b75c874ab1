"""Who can do what is of high risk, anywhere at all (rule 5)."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ask_above.bulk.everyone import Everyone
from ask_above.bulk.table import unpack
from ask_above.charter.moments import Instant
from ask_above.decide.decider import Decider


def high_risk_holders(decider: Decider, at: Instant) -> dict[str, tuple[str, ...]]:
    """Return, for each capability of high risk, the keys of the active members who can use it in some place.

    Capabilities and members stand in the order of the charter and the register; one that nobody is meant to have is
    there too.
    """
    risky = [key for key, each in decider.compiled.catalogue.capabilities.items() if each.risk == "high"]
    return able_anywhere(decider, risky, at)


def able_anywhere(decider: Decider, capabilities: Sequence[str], at: Instant) -> dict[str, tuple[str, ...]]:
    """Return, for each capability by its full name, the keys of the active members who can use it in some place."""
    if not capabilities:
        return {}
    sweep, crowd = decider.keep(Everyone).rows(at)
    numbers = [decider.compiled.catalogue.keys.index(key) for key in capabilities]
    anywhere = np.zeros((len(capabilities), sweep.words), dtype=np.uint64)
    for _, mine in sweep.run(capabilities=numbers):
        anywhere |= mine
    able_to = {}
    for n, key in enumerate(capabilities):
        able = unpack(anywhere[n])[crowd.rows].astype(bool) & crowd.active
        able_to[key] = tuple(crowd.members[m] for m in np.flatnonzero(able).tolist())
    return able_to
