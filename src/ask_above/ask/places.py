"""The places with what differs in each, in numbers (rules 5.3 to 5.5)."""

from __future__ import annotations

from typing import NamedTuple

from ask_above.ask.advice.places import opposites
from ask_above.charter.names import SITE
from ask_above.decide.compiled import CompiledCharter


class PlaceOverview(NamedTuple):
    """One place: how many entries of it give, take and bar something, what else differs, how deep it lies.

    ``closed_above`` tells that a place above it has a gate, which whoever enters this one passes too. ``called`` is its
    title with what tells it from others of that title.
    """

    key: str
    title: str
    kind: str
    parent: str
    depth: int
    gives: int
    takes: int
    bars: int
    exceptions: int
    gate: bool
    closed_above: bool
    drift: int
    like: tuple[str, ...]
    called: str = ""


def spots(compiled: CompiledCharter, at: str = SITE) -> list[PlaceOverview]:
    """Return a place and all below it, in the charter's order; what override sets say there is counted with it."""
    drifts = opposites(compiled)
    return [_spot(compiled, n, len(drifts.get(n, ()))) for n in compiled.below[compiled.place_at[at]]]


def _spot(compiled: CompiledCharter, n: int, drift: int) -> PlaceOverview:
    place, words = compiled.places[n], compiled.words_at(n).values()
    return PlaceOverview(
        place.key,
        place.title,
        place.kind if n else "",
        place.parent or "",
        len(compiled.chains[n]) - 1,
        sum(bool(word.allow) for word in words),
        sum(bool(word.deny) for word in words),
        sum(bool(word.bar) for word in words),
        len(place.exceptions),
        place.gate is not None,
        any(compiled.places[above].gate is not None for above in compiled.chains[n] if above != n),
        drift,
        place.like,
        place.called,
    )
