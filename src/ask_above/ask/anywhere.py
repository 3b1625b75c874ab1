"""Who may use a capability: place by place, elsewhere than here, or anywhere at all (rule 5)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from ask_above.bulk.everyone import Everyone
from ask_above.bulk.places import CompiledPlaces
from ask_above.bulk.table import Sweep, unpack
from ask_above.charter.moments import Instant
from ask_above.decide.decider import Decider

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from ask_above.bulk.table import Bits


def high_risk_holders(decider: Decider, at: Instant) -> dict[str, tuple[str, ...]]:
    """Return, for each capability of high risk, the keys of the active members who can use it in some place.

    Capabilities and members stand in the order of the charter and the register; one that nobody is meant to have is
    there too.
    """
    risky = [key for key, each in decider.compiled.catalogue.capabilities.items() if each.risk == "high"]
    return able_anywhere(decider, risky, at)


def able_anywhere(decider: Decider, capabilities: Sequence[str], at: Instant) -> dict[str, tuple[str, ...]]:
    """Return, for each capability by its full name, the keys of the active members who can use it in some place."""
    members = decider.keep(Everyone).rows(at)[1].members if capabilities else ()
    return {
        key: tuple(members[m] for m in np.flatnonzero(able).tolist()) for key, able in _able(decider, capabilities, at)
    }


def count_anywhere(decider: Decider, capabilities: Sequence[str], at: Instant) -> dict[str, int]:
    """Return, for each capability by its full name, how many active members can use it in some place."""
    return {key: int(able.sum()) for key, able in _able(decider, capabilities, at)}


def _able(decider: Decider, capabilities: Sequence[str], at: Instant) -> Iterator[tuple[str, NDArray[np.bool_]]]:
    """Yield each capability with who of everybody is active and can use it in some place."""
    if capabilities:
        sweep, crowd = decider.keep(Everyone).rows(at)
        for key, rows in zip(capabilities, _somewhere(decider, sweep, capabilities), strict=True):
            yield key, unpack(rows)[crowd.rows].astype(bool) & crowd.active


def able_among(decider: Decider, keys: Iterable[str], capabilities: Sequence[str], at: Instant) -> Counter[str]:
    """Return how many of some members, those of them who are active, can use each capability in some place."""
    active = (decider.ready.class_of(key) for key in keys if decider.people.register.members[key].is_active)
    counts = Counter(decider.ready.at(member_class, at) for member_class in active)
    rows = _somewhere(decider, Sweep(decider.compiled.keep(CompiledPlaces), [*counts]), capabilities)
    able = {key: unpack(row)[: len(counts)] for key, row in zip(capabilities, rows, strict=True)}
    return Counter({key: int(np.dot(row, [*counts.values()])) if counts else 0 for key, row in able.items()})


def _somewhere(decider: Decider, sweep: Sweep, capabilities: Sequence[str]) -> Bits:
    """Return a line for each capability: the rows that can use it in some place."""
    numbers = [decider.compiled.catalogue.keys.index(key) for key in capabilities]
    somewhere = np.zeros((len(capabilities), sweep.words), dtype=np.uint64)
    for _, mine in sweep.run(capabilities=numbers):
        somewhere |= mine
    return somewhere


class AbleIn(NamedTuple):
    """Places, in the charter's order, where the same members may use a capability, in the register's order; by keys."""

    places: tuple[str, ...]
    members: tuple[str, ...]


def able_in(
    decider: Decider, capabilities: Sequence[str], at: Instant, *, but_in: str | None = None
) -> dict[str, list[AbleIn]]:
    """Return who may use capabilities, by their full names, and where: places with the same people together.

    With ``but_in`` those alone are told who may not at that place.
    """
    compiled = decider.compiled
    sweep, crowd = decider.keep(Everyone).rows(at)
    numbers = [compiled.catalogue.keys.index(name) for name in capabilities]
    already = np.zeros((len(numbers), sweep.words), dtype=np.uint64)
    if but_in is not None:
        already |= sweep.at([compiled.place_at[but_in]], numbers)[0]
    places: list[dict[bytes, list[int]]] = [{} for _ in capabilities]
    for place, planes in sweep.run(capabilities=numbers):
        for plane, known in zip(planes & ~already, places, strict=True):
            known.setdefault(plane.tobytes(), []).append(place)
    keys = np.array(crowd.members, dtype=np.object_)

    def told(known: dict[bytes, list[int]]) -> Iterator[AbleIn]:
        by_members: dict[tuple[str, ...], list[int]] = {}
        for plane, where in known.items():
            rows = unpack(np.frombuffer(plane, dtype=np.uint64))
            by_members.setdefault(tuple(keys[rows[crowd.rows]].tolist()), []).extend(where)
        by_members.pop((), None)
        for members, where in sorted(by_members.items(), key=lambda spot: min(spot[1])):
            yield AbleIn(tuple(compiled.places[n].key for n in sorted(where)), members)

    return {name: [*told(known)] for name, known in zip(capabilities, places, strict=True)}
