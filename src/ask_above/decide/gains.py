"""What someone gains by a change, and whether it is within what another holds (rule 6.6)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from ask_above.decide.profile import Asked, Holding, Profile, profile_of
from ask_above.decide.walk import Held, Reckoner


class Gain(NamedTuple):
    """What is gained at one place, with gates or with gates left aside."""

    place: int
    gated: bool
    mask: int
    unbounded: bool


def as_active(asked: Asked, *, plus: Holding | None = None, without: tuple[int, int] | None = None) -> Profile:
    """Return someone's profile as if they were active, with one more holding or without an assignment."""
    holdings = [each for each in asked.active if not (each.how == "assigned" and (each.rank, each.place) == without)]
    if plus is not None:
        holdings.append(plus)
    return profile_of(holdings, asked.groups, asked.exceptions, pending=False)


def gains(reckoner: Reckoner, before: Profile, after: Profile, place: int) -> Iterator[Gain]:
    """Yield what is held after a change at ``place`` and was not before, there and at every place below.

    Reckoned twice: with gates, and with gates left aside.
    """
    if before == after:
        return
    for here in reckoner.compiled.below[place]:
        for gated in (True, False):
            old = reckoner.held(before, here, gated=gated)
            new = reckoner.held(after, here, gated=gated)
            mask, unbounded = new.mask & ~old.mask, new.unbounded and not old.unbounded
            if mask or unbounded:
                yield Gain(here, gated, mask, unbounded)


def beyond(gain: Gain, own: Held) -> Gain:
    """Return what of a gain goes beyond ``own``: what the actor holds there, with gates or without as the gain."""
    return Gain(gain.place, gain.gated, gain.mask & ~own.mask, gain.unbounded and not own.unbounded)
