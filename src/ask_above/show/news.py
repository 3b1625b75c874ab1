"""What a change means for each member whom it concerns, in sentences to them: what letters say."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import TypeVar

from ask_above.ask.describe.claims import doing, under_headings
from ask_above.ask.describe.describer import said_of_acts
from ask_above.ask.impact.whole import Shift
from ask_above.ask.perks import PerkTurned
from ask_above.change.parts import END, DifferencePart, Given, Kind, coverage
from ask_above.charter.moments import Instant
from ask_above.charter.names import SITE
from ask_above.charter.rules import ACTS, Act
from ask_above.decide.decider import Decider
from ask_above.decide.planes import Planes
from ask_above.decide.words import day, in_place, in_places, span
from ask_above.people.register import OUT, Member, Status
from ask_above.show.impact import when_in_words
from ask_above.workspace.plans import Plan

T = TypeVar("T")
_COME = {Status.ACTIVE: "You are now a member.", Status.PENDING: "You are now a pending member."}
"""What somebody new is told; who is invited has the invitation."""


class News:
    """What a change means for members, one by one."""

    def __init__(self, plan: Plan) -> None:
        self.plan, self.effect, self.at = plan, plan.effect, plan.at
        self.before, self.after = plan.before.register.members, plan.after.register.members
        self.places = {**plan.old.compiled.named, **plan.after.decider.compiled.named}
        self.ranks = {**plan.old.compiled.charter.ranks, **plan.after.charter.ranks}

    @cached_property
    def concerned(self) -> list[str]:
        """The members to whom there is something to say, by key."""
        keys = dict.fromkeys((*self._shifts, *self._given, *self._parts, *self._perks))
        return [key for key in keys if key in self.after and (key in self.before or self.after[key].status in _COME)]

    @cached_property
    def _given(self) -> dict[str, list[Given]]:
        """The assignments that differ, by member; not those of which only the record does."""
        return _by_member((each, (each.member,)) for each in self.plan.difference.given if each.gained or each.lost)

    @cached_property
    def _parts(self) -> dict[str, list[DifferencePart]]:
        """What differs in members' standing: that they are there, their status, their groups, the ownership."""
        parts: dict[str, list[DifferencePart]] = {}
        for part in self.plan.difference.parts:
            if part.kind is Kind.MEMBER and part.field in ("", "status", "groups"):
                parts.setdefault(part.key, []).append(part)
            elif part.kind is Kind.CHARTER and part.field == "owner":
                for key in filter(None, (part.before, part.after)):
                    parts.setdefault(key, []).append(part)
        return parts

    @cached_property
    def _shifts(self) -> dict[str, list[Shift]]:
        """What members gain and lose, by member."""
        return _by_member((shift, shift.members) for shift in self.effect.shifts)

    @cached_property
    def _perks(self) -> dict[str, list[PerkTurned]]:
        """The perks that are another for members, by member."""
        return _by_member((turned, turned.members) for turned in self.plan.perks)

    def subject(self, key: str, site: str) -> str:
        """Say in short what has changed."""
        if key in self._given:
            return f"Your ranks at {site} have changed"
        return f"{'Your membership' if key in self._parts else 'What you may do'} at {site} has changed"

    def of(self, key: str) -> Iterator[str]:
        """Yield what it means for one of those concerned: who they are, their ranks, what they may and may no more."""
        parts, was, now = self._parts.get(key, ()), self.before.get(key), self.after[key]
        wholly = was is not None and (now.status in OUT) != (was.status in OUT)
        for part in parts:
            if part.kind is Kind.CHARTER:
                wholly = True
                owns = part.after == key
                yield f"You are {'now the owner and may do everything' if owns else 'no longer the owner'}."
            elif part.field == "groups":
                yield from self._groups(part)
            elif part.field != "status" or was is not None:
                yield _standing(was, now)
        yield from self.of_ranks(key)
        if wholly:  # that somebody is in or out says it shorter than a list of all that members may
            return
        yield from self._capabilities(key)
        yield from (f"{turned}." for turned in self._perks.get(key, ()))
        yield from self._acts(key)

    def _groups(self, part: DifferencePart) -> Iterator[str]:
        for verb, keys, others, side in (
            ("You are now in", part.after, part.before, self.plan.after.charter),
            ("You are no longer in", part.before, part.after, self.plan.old.compiled.charter),
        ):
            for key in keys:
                if key not in others:
                    group = side.groups.get(key)
                    yield f"{verb} the group {group.called if group else key}."

    def of_ranks(self, key: str) -> Iterator[str]:
        """Yield which ranks somebody is given, where, from when and until when, and which are taken from them."""
        active = self.after[key].is_active
        waits = " once you are active" if self.after[key].status == Status.PENDING else ""
        for given in self._given.get(key, ()):
            mine = self.plan.after.register.of(key)
            left = coverage(each for each in mine if (each.rank, each.place) == given[1:3]).since(self.at)
            first, until = (left or given.lost).stretches[0]
            will = first > self.at
            what = f"the rank {self.ranks[given.rank].called} {self._where(given.place)}"
            if not left:
                yield f"You {'will not' if will else 'no longer'} have {what}."
                continue
            begins, ends = self.effect.day(first) if will else "", self.effect.ends(until if until != END else None)
            yield f"You {'' if active and not will else 'will '}have {what}{span(begins, ends)}{waits}."

    def _where(self, place: str) -> str:
        return in_place(self.places[place].called, site=place == SITE)

    def _capabilities(self, key: str) -> Iterator[str]:
        """Yield what somebody may do now, and what is over: where, from when and until when."""
        for (gains, later, when), places in self._turned(key).items():
            compiled = (self.plan.after.decider if gains else self.plan.old).compiled
            alike: dict[tuple[str, ...], list[str]] = {}
            for name, spots in places.items():
                if name in compiled.catalogue.bit:
                    alike.setdefault(tuple(place for place in self.places if place in spots), []).append(name)
            for here, names in alike.items():
                things = [doing(compiled, name) for keys in under_headings(compiled, names).values() for name in keys]
                everywhere = len(compiled.place_at) > 1 and compiled.place_at.keys() <= {*here}
                where = "everywhere" if everywhere else in_places(self.places, here, len(here))
                yield f"{_may(gains=gains, later=later)}, {where}{when}: {_listed(things)}."

    def _turned(self, key: str) -> dict[tuple[bool, bool, str], dict[str, set[str]]]:
        """Return where somebody gains and loses each capability, by whether they gain it, later, and when."""
        turned: dict[tuple[bool, bool, str], dict[str, set[str]]] = {}
        for shift in sorted(self._shifts.get(key, ()), key=lambda shift: not shift.gains):
            spell = shift.gains, bool(shift.since), when_in_words(self.effect, shift)
            places = turned.setdefault(spell, {})
            for name in shift.capabilities:
                places.setdefault(name, set()).update(shift.places)
        return turned

    def _acts(self, key: str) -> Iterator[str]:
        """Yield on whom somebody acts who did not, and on whom no more, where their ranks or groups differ."""
        last = dict[tuple[str, bool], str]()
        for place, at in self._spots(key):
            was, now = (self._acts_at(decider, key, place, at) for decider in (self.plan.old, self.plan.after.decider))
            when = f", from {day(self.effect.day(at))}" if at > self.at else ""
            for gains, more, less in ((True, now, was), (False, was, now)):
                turned = {act: [key for key in keys if key not in less.get(act, ())] for act, keys in more.items()}
                acts = said_of_acts({act: [self.ranks[key].called for key in keys] for act, keys in turned.items()})
                if acts and acts != last.get((place, gains)):
                    yield f"{_may(gains=gains, later=at > self.at)}, {self._where(place)}{when}: {acts}."
                last[place, gains] = acts

    def _spots(self, key: str) -> list[tuple[str, Instant]]:
        """Return where somebody's power may differ, and when that is looked at: now, and where it begins."""
        spots = {place: {self.at} for place in ((SITE, *self._conferred) if key in self._parts else ())}
        for given in self._given.get(key, ()):
            begins = {max(self.at, given.gained.first)} if given.gained else set[Instant]()
            spots.setdefault(given.place, {self.at}).update(begins)
        return [(place, at) for place, moments in spots.items() for at in sorted(moments)]

    @cached_property
    def _conferred(self) -> list[str]:
        """The places at which some group confers a rank, before or after."""
        groups = (*self.plan.old.compiled.charter.groups.values(), *self.plan.after.charter.groups.values())
        return list(dict.fromkeys(conferred.place for group in groups for conferred in group.confers))

    @staticmethod
    def _acts_at(decider: Decider, key: str, place: str, at: Instant) -> dict[Act, list[str]]:
        number = decider.compiled.place_at.get(place)
        if number is None or key not in decider.people.register.members:
            return {}
        asked, planes = decider.people.ask(key, at), decider.keep(Planes)
        return {act: planes.named(asked, act, number) for act in ACTS}


def _by_member(things: Iterable[tuple[T, Iterable[str]]]) -> dict[str, list[T]]:
    """Return things by the members whom they concern."""
    concerned: dict[str, list[T]] = {}
    for thing, keys in things:
        for key in keys:
            concerned.setdefault(key, []).append(thing)
    return concerned


def _standing(was: Member | None, now: Member) -> str:
    """Say who somebody is now, who was another before or not there."""
    if was is None:
        return _COME[Status(now.status)]
    if now.status == Status.RETIRED:
        return "You are no longer a member."
    if now.status == Status.LOCKED:
        return "Your account is locked."
    if was.status in OUT and now.status == Status.INVITED:
        return "Your invitation is valid again."
    if was.status in OUT:
        return "Your account is no longer locked." if was.status == Status.LOCKED else "You are a member again."
    return f"You are now {'a' if now.status == Status.PENDING else 'an'} {now.status} member."


def _may(*, gains: bool, later: bool) -> str:
    return "You may no longer" if not gains else "You may" if later else "You may now"


def _listed(things: Sequence[str]) -> str:
    """Say to somebody what they can do: own things are theirs."""
    return "; ".join(each.replace(" own ", " your own ").replace("themselves", "yourself") for each in things)
