"""Who may use a capability, place by place: on the whole site, and where else (rule 5)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from ask_above.bulk.everyone import Everyone
from ask_above.bulk.table import unpack
from ask_above.charter.moments import Instant
from ask_above.decide.decider import Decider


class AbleAt(NamedTuple):
    """The members who may use a capability at a place, by their keys, in the register's order."""

    capability: str
    place: str
    members: tuple[str, ...]


class Elsewhere(NamedTuple):
    """Places where the same members may use a capability who may not on the whole site."""

    places: tuple[str, ...]
    members: tuple[str, ...]


def anywhere(decider: Decider, capabilities: Sequence[str], at: Instant) -> list[AbleAt]:
    """Return who may use capabilities, by their full names, at each place where somebody may."""
    compiled = decider.compiled
    sweep, crowd = decider.keep(Everyone).rows(at)
    keys = np.array(crowd.members, dtype=np.object_)
    known: dict[bytes, tuple[str, ...]] = {}
    by_place: list[list[AbleAt]] = [[] for _ in capabilities]
    numbers = [compiled.catalogue.keys.index(name) for name in capabilities]
    for place, planes in sweep.run(capabilities=numbers):
        for n, plane in enumerate(planes):
            form = plane.tobytes()
            if form not in known:  # most places let the same people
                known[form] = tuple(keys[unpack(plane)[crowd.rows]].tolist())
            if known[form]:
                by_place[n].append(AbleAt(capabilities[n], compiled.places[place].key, known[form]))
    return [able for some in by_place for able in some]


def elsewhere(able: Sequence[AbleAt], here: str) -> list[Elsewhere]:
    """Return where else who may, of those who may not ``here``; places with the same people together."""
    already = {key for each in able if each.place == here for key in each.members}
    places: dict[tuple[str, ...], list[str]] = {}
    for each in able:
        more = tuple(key for key in each.members if key not in already)
        if more:
            places.setdefault(more, []).append(each.place)
    return [Elsewhere(tuple(keys), members) for members, keys in places.items()]
