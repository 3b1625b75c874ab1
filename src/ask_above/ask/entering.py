"""Who can enter each closed room: every place with a gate, and the members whom it lets in (rule 5.3)."""

from __future__ import annotations

from typing import NamedTuple

from ask_above.charter.moments import Instant
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.explain import gate_asks
from ask_above.decide.profile import Asked
from ask_above.decide.walk import closed_gate, held

COLUMNS = ("place", "title", "asks", "members", "who")


class Closed(NamedTuple):
    """A closed place: what its gate asks for, and the keys of the active members who can enter, in their order."""

    place: str
    asks: str
    members: tuple[str, ...]


def closed_places(decider: Decider, at: Instant) -> list[Closed]:
    """Return every place that has a gate itself, in the charter's order, with who can enter."""
    compiled = decider.compiled
    people = [asked for asked in decider.people.all(at) if asked.is_active]
    closed = []
    for n, place in enumerate(compiled.places):
        if n in compiled.gated and place.gate is not None:
            members = tuple(asked.key for asked in people if asked.key and _enters(compiled, asked, n))
            closed.append(Closed(place.key, gate_asks(compiled, place.gate), members))
    return closed


def _enters(compiled: CompiledCharter, asked: Asked, place: int) -> bool:
    if asked.rules_all:
        return True
    if asked.profile is None:
        return False
    return held(compiled, asked.profile, place).unbounded or closed_gate(compiled, asked.profile, place) is None
