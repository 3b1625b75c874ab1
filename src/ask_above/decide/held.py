"""Where what is held differs between two communities, for many people at once (rules 5.3 to 5.5)."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ask_above.decide.plan import Plan
from ask_above.decide.profile import Profile
from ask_above.decide.ready import Cell
from ask_above.decide.rows import Rows
from ask_above.decide.table import Sweep, unpack

_AT_A_TIME = 1 << 24  # bytes of one side's block of places


def held_otherwise(
    old: Plan, new: Plan, pairs: Sequence[tuple[Profile, Profile]], beside: Sequence[int]
) -> list[list[int]]:
    """Return for each pair the new places where the second holds other than the first did.

    ``beside`` says for each of the new places with which of the old ones it is compared. What is held is looked at with
    gates and with gates left aside. Both sides must have the same capabilities.
    """
    found: list[list[int]] = [[] for _ in pairs]
    if not pairs:
        return found
    cells = [[Cell(profile, owner=False) for profile in side] for side in zip(*pairs, strict=True)]
    first, second = Rows(old, cells[0]), Rows(new, cells[1])
    words = -(-len(pairs) // 64)
    differ = np.zeros((len(beside), words), dtype=np.uint64)
    for gated in (True, False) if old.frame.gated or new.frame.gated else (False,):
        one = Sweep(old, cells[0], first, old.holding(gated=gated))
        other = Sweep(new, cells[1], second, new.holding(gated=gated))
        room = max(1, _AT_A_TIME // max(one.bytes_of_place, other.bytes_of_place))
        for start in range(0, len(beside), room):
            some = slice(start, start + room)
            was, which = np.unique(np.array(beside[some], dtype=np.intp), return_inverse=True)
            before, after = one.at(was.tolist()), other.at(range(*some.indices(len(beside))))
            turned = before[which, :, :words] ^ after[..., :words]
            differ[some] |= np.bitwise_or.reduce(turned, axis=1)
    for place in np.flatnonzero(differ.any(axis=1)).tolist():
        for n in np.flatnonzero(unpack(differ[place])[: len(pairs)]).tolist():
            found[n].append(place)
    return found
