"""The places with what differs in each, in numbers (rules 5.3 to 5.5)."""

from __future__ import annotations

from typing import NamedTuple

from ask_above.ask.advice.places import opposites
from ask_above.charter.names import SITE
from ask_above.decide.frame import Frame


class Spot(NamedTuple):
    """One place: how many entries of it give, take and bar something, what else differs, how deep it lies."""

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
    drift: int
    like: tuple[str, ...]


def spots(frame: Frame, at: str = SITE) -> list[Spot]:
    """Return a place and all below it, in the charter's order; what override sets say there is counted with it."""
    drifts = opposites(frame)
    return [_spot(frame, n, len(drifts.get(n, ()))) for n in frame.below[frame.place_at[at]]]


def _spot(frame: Frame, n: int, drift: int) -> Spot:
    place, words = frame.places[n], frame.words_at(n).values()
    title = place.title or place.key if n else f"{frame.charter.title or 'The site'}"
    return Spot(
        place.key,
        title,
        place.kind if n else "",
        place.parent or "",
        len(frame.chains[n]) - 1,
        sum(bool(word.allow) for word in words),
        sum(bool(word.deny) for word in words),
        sum(bool(word.bar) for word in words),
        len(place.exceptions),
        place.gate is not None,
        drift,
        place.like,
    )
