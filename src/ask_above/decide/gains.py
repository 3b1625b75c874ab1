"""What someone gains by a change, and whether it is within what another holds (rule 6.6)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from ask_above.charter.ladder import Rank
from ask_above.decide.profile import Asked, Holding, How, Profile, ask_anybody, profile_of
from ask_above.decide.walk import Held, Reckoner


class Gain(NamedTuple):
    """What is gained at one place, with gates or with gates left aside."""

    place: int
    gated: bool
    mask: int
    unbounded: bool


def as_active(asked: Asked, *, plus: Holding | None = None, without: tuple[int, int] | None = None) -> Profile:
    """Return someone's profile as if they were active, with one more holding or without an assignment."""
    holdings = [
        holding
        for holding in asked.active
        # a rank that a group confers stays when an assignment of the same rank goes
        if not (holding.how == How.ASSIGNED and (holding.rank, holding.place) == without)
    ]
    if plus is not None:
        holdings.append(plus)
    return profile_of(holdings, asked.groups, asked.exceptions, pending=False)


def gains(reckoner: Reckoner, before: Profile, after: Profile, place: int) -> Iterator[Gain]:
    """Yield what is held after a change at ``place`` and was not before, there and at every place below.

    Reckoned twice: with gates, and with gates left aside.
    """
    if before == after:
        return
    compiled = reckoner.compiled
    for here in compiled.below[place]:
        # twice: a gate that shuts now may open by another change, and what was given behind it then counts
        for gated in (True, False) if not compiled.gated.isdisjoint(compiled.chains[here]) else (True,):
            old = reckoner.held(before, here, gated=gated)
            new = reckoner.held(after, here, gated=gated)
            mask, unbounded = new.mask & ~old.mask, new.unbounded and not old.unbounded
            if mask or unbounded:
                yield Gain(here, gated, mask, unbounded)


def beyond(gain: Gain, own: Held) -> Gain:
    """Return what of a gain goes beyond ``own``: what the actor holds there, with gates or without as the gain."""
    return Gain(gain.place, gain.gated, gain.mask & ~own.mask, gain.unbounded and not own.unbounded)


class Handing:
    """What an act at a place hands to others, and what of it the actor does not hold (rule 6.6).

    What a rank brings to just anybody is the same for every actor at a place, and is kept for all of them.
    """

    def __init__(self, reckoner: Reckoner, place: int, actor: Profile | None, beside: Handing | None = None) -> None:
        self.reckoner, self.place, self.actor = reckoner, place, actor
        # of each rank what was looked at so far, and what is left to look at
        self._brought: dict[int, tuple[list[Gain], Iterator[Gain]]] = {} if beside is None else beside._brought
        self._own: dict[tuple[int, bool], Held] = {} if beside is None or beside.actor != actor else beside._own

    def brought(self, rank: Rank, target: Asked | None) -> Iterator[Gain]:
        """Yield what a rank brings to someone; to just anybody where none."""
        return self._to_anybody(rank) if target is None else self._gains(rank, target)

    def _gains(self, rank: Rank, someone: Asked) -> Iterator[Gain]:
        plus = Holding(rank.position, self.place, How.ASKED)
        return gains(self.reckoner, as_active(someone), as_active(someone, plus=plus), self.place)

    def _to_anybody(self, rank: Rank) -> Iterator[Gain]:
        """Yield what a rank brings to just anybody; a place is looked at when somebody gets that far."""
        if rank.position not in self._brought:
            self._brought[rank.position] = [], self._gains(rank, ask_anybody(self.reckoner.compiled))
        known, rest = self._brought[rank.position]
        yield from known
        for gain in rest:
            known.append(gain)
            yield gain

    def is_within(self, rank: Rank) -> bool:
        """Whether the actor holds all that a rank brings to just anybody; looks no further than the first they lack."""
        if self.actor is None:
            return next(self._to_anybody(rank), None) is None
        # whoever is unbounded here is so at every place below
        if self.reckoner.held(self.actor, self.place, gated=False).unbounded:
            return True
        return not any(self._lacks(gain) for gain in self._to_anybody(rank))

    def _lacks(self, gain: Gain) -> bool:
        own = self._held(gain)
        return bool(gain.mask & ~own.mask) or (gain.unbounded and not own.unbounded)

    def _held(self, gain: Gain) -> Held:
        """Return what the actor holds where something is gained, with gates or without as the gain."""
        where = gain[:2]
        own = self._own.get(where)
        if own is None:
            own = self._own[where] = self.reckoner.held(self.actor or Profile(), gain.place, gated=gain.gated)
        return own

    def lost(self, rank: Rank, target: Asked) -> list[Gain]:
        """Return what someone gains by being without a rank that they hold here."""
        without = as_active(target, without=(rank.position, self.place))
        return list(gains(self.reckoner, as_active(target), without, self.place))

    def not_held(self, found: Iterable[Gain]) -> Iterator[Gain]:
        """Yield what of some gains the actor does not hold where it is gained, each told once."""
        if self.actor is None:
            yield from told_once(found)
            return
        seen, unbounded = 0, False
        for gain in found:
            own = self._held(gain)
            if gain.unbounded and not own.unbounded and not unbounded:
                yield beyond(gain, own)
                seen, unbounded = -1, True
            elif new := gain.mask & ~own.mask & ~seen:
                yield Gain(gain.place, gain.gated, new, False)
                seen |= new


def told_once(found: Iterable[Gain]) -> list[Gain]:
    """Leave out what is gained alike further down, or alike with gates left aside."""
    kept: list[Gain] = []
    seen = 0
    unbounded = False
    for gain in found:
        if gain.unbounded and not unbounded:
            kept.append(gain)
            unbounded, seen = True, -1
        elif gain.mask & ~seen:
            kept.append(gain._replace(mask=gain.mask & ~seen))
            seen |= gain.mask
    return kept
