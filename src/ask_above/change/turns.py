"""What a change turns: all that anybody comes to hold or holds no more, place by place (rule 9.6)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property, reduce
from operator import or_
from typing import NamedTuple

from ask_above.bulk.places import CompiledPlaces
from ask_above.change.difference import Difference
from ask_above.change.subjects import Affected, Subjects
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant, written
from ask_above.charter.names import SITE, few, how_many
from ask_above.charter.rules import ActRule, Over
from ask_above.decide.authority import reached
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Asked, Profile
from ask_above.decide.walk import Held, standing
from ask_above.decide.words import day, in_place

_FEW = 3_000
"""Up to how many pairs times places are looked at one by one."""
_MOST_NAMED = 3


class Spot(NamedTuple):
    """A place after the change, and the one it is compared with before it; one that is removed is ``gone``."""

    after: int
    before: int
    gone: bool = False


class Turn(NamedTuple):
    """What some pairs gain and lose at one spot, with gates or with gates left aside; ``freed`` are made unbounded."""

    spot: Spot
    gated: bool
    gained: int
    lost: int
    freed: bool
    pairs: tuple[int, ...]


class Turns:
    """What a change turns, and for whom.

    The two sides have the same catalogue, rules and groups: what changes those is the owner's alone, and the owner is
    held to no effect.
    """

    def __init__(self, old: Decider, new: Decider, difference: Difference, now: Instant) -> None:
        self.old, self.new, self.difference, self.now = old, new, difference, now
        self._of_actor: dict[str | None, set[int]] = {}

    @cached_property
    def subjects(self) -> Subjects:
        """Whom the change may touch."""
        return Subjects(self.old, self.new, self.difference, self.now)

    @cached_property
    def spots(self) -> list[Spot]:
        """The places that are compared: each with itself, a new one with the one it is in, one gone as if emptied."""
        old, new = self.old.compiled, self.new.compiled
        # what a place has that is new is held against what was so where it is put
        compared = [Spot(n, self._nearest(new.charter, place.key, old.place_at)) for n, place in enumerate(new.places)]
        if old is not new:
            compared += [
                Spot(self._nearest(old.charter, place.key, new.place_at), n, gone=True)
                for n, place in enumerate(old.places)
                if place.key not in new.place_at
            ]
        return compared

    @staticmethod
    def _nearest(charter: Charter, key: str, known: dict[str, int]) -> int:
        here: str | None = key
        while here is not None and here not in known:
            here = charter.places[here].parent
        return known[here or SITE]

    @cached_property
    def all(self) -> list[Turn]:
        """All that anybody gains and loses: what turns alike at a spot together, in the order of places."""
        # what is told first does not depend on which way was quicker
        alike: dict[tuple[Spot, bool, int, int, bool], list[tuple[int, ...]]] = {}
        for spot, gated, gained, lost, freed, pairs in self._find_turns():
            alike.setdefault((spot, gated, gained, lost, freed), []).append(pairs)
        turns = [
            Turn(*turned, parts[0] if len(parts) == 1 else tuple(sorted({n for part in parts for n in part})))
            for turned, parts in alike.items()
        ]
        return sorted(turns, key=lambda turn: (turn.spot, not turn.gated, turn.pairs))

    @property
    def are_few(self) -> bool:
        """Whether every pair is looked at everywhere."""
        return len(self.subjects.pairs) * len(self.spots) <= _FEW

    def _find_turns(self) -> Iterator[Turn]:
        pairs = self.subjects.pairs
        old, new = self.old.compiled, self.new.compiled
        if self.are_few:
            yield from self._one_by_one(range(len(pairs)), self.spots)
        else:
            # who is unbounded, before or after, may hold the same as before and be made so, or be so no more
            # being made unbounded is a gain even where everything was held before, and masks do not show it
            free = [n for n, (one, two) in enumerate(pairs) if _unbounded(one, old) or _unbounded(two, new)]
            yield from self._one_by_one([n for n in free if not self._always_free(pairs[n])], self.spots)
            yield from self._together(sorted(set(range(len(pairs))) - set(free)))
            yield from self._one_by_one(range(len(pairs)), [spot for spot in self.spots if spot.gone])
        yield from self._emptied(pairs)

    def _always_free(self, pair: tuple[Profile, Profile]) -> bool:
        """Whether somebody holds everything everywhere on both sides."""
        sides = zip((self.old.compiled, self.new.compiled), pair, strict=True)
        return all(
            not compiled.unbounded.isdisjoint((*profile.automatic, *(r for r, place in profile.placed if not place)))
            for compiled, profile in sides
        )

    def _together(self, some: list[int]) -> Iterator[Turn]:
        """Yield what many pairs gain and lose, worked out in arrays."""
        from ask_above.bulk.sides import held_otherwise

        plain = [spot for spot in self.spots if not spot.gone]
        beside, known = [spot.before for spot in plain], dict[int, tuple[tuple[int, ...], tuple[int, ...]]]()
        behind = [spot.after for spot in plain if len(self._ways(spot)) > 1]
        for turned in held_otherwise(
            self.old.compiled.keep(CompiledPlaces),
            self.new.compiled.keep(CompiledPlaces),
            [self.subjects.pairs[n] for n in some],
            beside,
            behind,
        ):
            # the same pairs at very many places are the very same tuple: it is gone through once
            if id(turned.pairs) not in known:
                known[id(turned.pairs)] = turned.pairs, tuple(map(some.__getitem__, turned.pairs))
            which = known[id(turned.pairs)][1]
            yield Turn(plain[turned.place], turned.gated, turned.gained, turned.lost, False, which)

    def _one_by_one(self, some: Sequence[int], spots: Iterable[Spot]) -> Iterator[Turn]:
        """Yield what a few pairs gain and lose; at a place that is gone, what its words gave is no loss."""
        pairs = self.subjects.pairs
        for spot in spots:
            for gated in self._ways(spot):
                alike: dict[tuple[int, int, bool], list[int]] = {}
                for n in some:
                    was, now = self._both(pairs[n], spot, gated=gated)
                    if was != now:
                        turned = now.mask & ~was.mask, was.mask & ~now.mask, now.unbounded and not was.unbounded
                        alike.setdefault(turned, []).append(n)
                for (gained, lost, freed), which in alike.items():
                    yield Turn(spot, gated, gained, 0 if spot.gone else lost, freed, tuple(which))

    @cached_property
    def _behind(self) -> tuple[frozenset[int], frozenset[int]]:
        """The places with a gate on the way to them, before and after."""
        sides = (self.old.compiled, self.new.compiled)
        old, new = (frozenset(n for gate in side.gated for n in side.below[gate]) for side in sides)
        return old, new

    def _ways(self, spot: Spot) -> tuple[bool, ...]:
        """Return the ways to look at a spot: with gates, and with gates left aside where there are any."""
        old, new = self._behind
        return (True, False) if spot.before in old or spot.after in new else (True,)

    def _both(self, pair: tuple[Profile, Profile], spot: Spot, *, gated: bool) -> tuple[Held, Held]:
        before, after = pair
        return (
            self.old.reckoner.held(before, spot.before, gated=gated),
            self.new.reckoner.held(after, spot.after, gated=gated),
        )

    def differ(self, pair: tuple[Profile | None, Profile | None], spot: Spot) -> int:
        """Return all that somebody gains or loses at a spot, with gates or with gates left aside."""
        before, after = pair
        if before is None or after is None:
            return 0
        both = (self._both((before, after), spot, gated=gated) for gated in self._ways(spot))
        return reduce(or_, (now.mask & ~was.mask if spot.gone else now.mask ^ was.mask for was, now in both))

    def _emptied(self, pairs: Sequence[tuple[Profile, Profile]]) -> Iterator[Turn]:
        """Yield what is lost at places that are gone because the assignments there end."""
        gone = {spot.before for spot in self.spots if spot.gone}
        for spot in self.spots if gone else ():
            for gated in self._ways(spot) if spot.gone else ():
                for n, (before, _) in enumerate(pairs):
                    if not any(place in gone for _, place in before.placed):
                        continue
                    # what is lost is told apart from what the words of the place gave, which is no loss
                    rest = before._replace(placed=frozenset(each for each in before.placed if each[1] not in gone))
                    was, now = (self.old.reckoner.held(profile, spot.before, gated=gated) for profile in (before, rest))
                    if was.mask & ~now.mask:
                        yield Turn(spot, gated, 0, was.mask & ~now.mask, False, (n,))

    # -- what the rules ask of them

    def own(self, actor: Asked, place: int, *, gated: bool) -> Held:
        """Return what the actor holds at a place before the change."""
        if actor.profile is None:
            return Held(0, unbounded=False)
        return self.old.reckoner.held(actor.profile, place, gated=gated)

    def of(self, pairs: Iterable[int]) -> Iterator[Affected]:
        """Yield the subjects that come down to any of these pairs; the owner holds everything whatever happens."""
        return (affected for n in pairs for affected in self.subjects.of_pair[n] if not affected.asked.owner)

    def pairs_of(self, actor: Asked) -> set[int]:
        """Return the pairs that the actor comes down to, by their numbers."""
        known = self._of_actor.get(actor.key)
        if known is None:
            known = {affected.pair for affected in self.subjects.all if actor.key in affected.keys}
            self._of_actor[actor.key] = known
        return known

    def own_pairs(self, actor: Asked) -> list[tuple[Profile, Profile]]:
        """Return what the actor comes down to before and after, at every moment, with and without open ranks."""
        own = [self.subjects.pairs[n] for n in sorted(self.pairs_of(actor))]
        if not own and actor.profile is not None and self.old.compiled is not self.new.compiled:
            later = self.new.people.ask(actor.key or "", self.now).profile
            own = [] if later is None else [(actor.profile, later)]
        return own

    def who(self, subject: Affected, actor: Asked) -> str:
        """Name somebody among those alike who is not the actor, and say how many more of them there are."""
        first = next((key for key in subject.keys if key != actor.key), None)
        called = subject.label if first is None else self.new.people.register.members[first].called
        more = self.many(subject, actor) - 1
        return f"{called} and {how_many(more, 'other')}" if more else called

    @staticmethod
    def many(subject: Affected, actor: Asked) -> int:
        """Return how many are alike, without the actor; 1 for a rank, a group, a visitor."""
        return max(1, len(subject.keys) - (actor.key in subject.keys))

    def below(self, actor: Asked, rule: ActRule, target: Asked, place: int) -> bool:
        """Whether somebody stands where the actor reaches, now and by all that is recorded to come."""
        if rule.over is Over.ANYONE:
            return not target.owner
        own = standing(self.old.compiled, actor.profile, place)
        return own.reaches(rule.over, reached(self.old.compiled, target, place, later=True))

    # -- in words

    def at(self, spot: Spot) -> str:
        """Return a spot in words."""
        compiled, n = (self.old.compiled, spot.before) if spot.gone else (self.new.compiled, spot.after)
        return in_place(compiled.places[n].called, site=n == 0)

    def since(self, subject: Affected) -> str:
        """Return from when somebody is what they are, where that is to come."""
        if subject.since <= self.now:
            return ""
        return f", from {day(written(subject.since, self.new.compiled.charter.zone))},"

    def some(self, mask: int) -> str:
        """Return capabilities in words, the first few by name."""
        return few(self.old.compiled.catalogue.names(mask), _MOST_NAMED)


def _unbounded(profile: Profile, compiled: CompiledCharter) -> bool:
    return not compiled.unbounded.isdisjoint((*profile.automatic, *(rank for rank, _ in profile.placed)))
