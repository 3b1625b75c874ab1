"""What of a change has no effect, and why: a rank behind a gate, a word that something else keeps from being so."""

from __future__ import annotations

from collections.abc import Iterator

from ask_above.ask.describe.claims import of_holder
from ask_above.change.difference import Difference
from ask_above.charter.moments import Instant
from ask_above.decide.classes import MemberClass
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.explain import gate_asks
from ask_above.decide.walk import closed_gate, ranks_at, standing
from ask_above.decide.words import in_place
from ask_above.people.register import edges_of


def vain(before: Decider, after: Decider, difference: Difference, at: Instant) -> list[str]:
    """Return in sentences what a change gives that nobody comes to have by it."""
    return [*_ranks(before, after, difference, at), *_words(before.compiled, after)]


def _ranks(before: Decider, after: Decider, difference: Difference, at: Instant) -> Iterator[str]:
    """Say of ranks that are given where the gate keeps their holder out, or where they bring nothing."""
    compiled = after.compiled
    known: dict[tuple[MemberClass, MemberClass, int], bool] = {}  # of many who are alike it is worked out once
    for given in difference.given:
        gone = given.rank not in compiled.rank_at or given.place not in compiled.place_at
        if gone or not given.gained or given.member not in after.people.register.members:
            continue
        asked, n = after.people.ask(given.member, at), compiled.place_at[given.place]
        if not asked.is_active or asked.profile is None or asked.owner:
            continue
        if not any((h.rank, h.place) == (compiled.rank_at[given.rank], n) for h in asked.holdings):
            continue  # it is taken, or has yet to begin
        place, title = compiled.places[n], compiled.charter.ranks[given.rank].called
        where = in_place(place.called, site=n == 0)
        shut = closed_gate(compiled, asked.profile, n)
        if shut is not None and compiled.unbounded.isdisjoint(ranks_at(compiled, asked.profile, n)):
            gate = compiled.places[shut]
            asks = gate_asks(compiled, gate.gate) if gate.gate else ""
            shuts = f"the gate of {gate.called} does not admit them; {asks}"
            yield f"{title} has no effect for {asked.label} {where}: {shuts}."
        elif before.compiled is compiled and compiled.granted(given.rank):
            if given.member not in before.people.register.members:
                continue
            kinds = (before.ready.class_of(given.member), after.ready.class_of(given.member), n)
            if kinds not in known:
                known[kinds] = _brings_nothing(before, after, given.member, n, at)
            if known[kinds]:
                yield f"{title} grants {asked.label} nothing new {where}."


def _brings_nothing(before: Decider, after: Decider, member: str, place: int, at: Instant) -> bool:
    """Whether a member can use the same, and stands as high, at a place and below it as before, now and later."""
    sides = before, after
    edges = edges_of(given for side in sides for given in side.people.register.of(member))
    for moment in (at, *(edge for edge in edges if edge > at)):
        was, now = (side.people.ask(member, moment) for side in sides)
        for n in after.compiled.below[place]:
            stands = [standing(after.compiled, asked.profile, n) for asked in (was, now)]
            if before.usable(was, n) != after.usable(now, n) or stands[0] != stands[1]:
                return False
    return True


def _words(before: CompiledCharter, after: Decider) -> Iterator[str]:
    """Say of what a place comes to allow, and those of that rank or group alone may not use there, why not."""
    compiled = after.compiled
    for n, place in enumerate(compiled.places):
        was = before.charter.places.get(place.key)
        if was is compiled.charter.places[place.key] or was is None:
            continue
        old = before.words_at(before.place_at[place.key])
        for holder, word in compiled.words_at(n).items():
            if holder in old and old[holder] == word:
                continue
            if holder not in compiled.charter.groups and compiled.charter.ranks[holder].unbounded:
                title = compiled.charter.ranks[holder].called
                yield f"The override of {place.called} for {title} has no effect: {title} is unbounded."
                continue
            new = word.allow & ~(old[holder].allow if holder in old else 0)
            asked = of_holder(compiled, holder)
            for key in compiled.catalogue.names(new & ~after.usable(asked, n)):
                title = (compiled.charter.ranks.get(holder) or compiled.charter.groups[holder]).called
                reason = after.may(asked, key, n).reason
                yield f"{title} still may not use {key} {in_place(place.called, site=n == 0)}: {reason}"
