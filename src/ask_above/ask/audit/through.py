"""Through what something was done: whose grants and words suffice for it (rules 11.2 and 11.3)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final, NamedTuple

from ask_above.charter.moments import Instant
from ask_above.charter.rules import Act
from ask_above.decide.acts import ActAsked
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.gains import Handing
from ask_above.decide.layers import LayerName
from ask_above.decide.profile import Asked, Profile
from ask_above.decide.walk import closed_gate, holders_at, ranks_at

_LABEL: Final = {
    LayerName.AUTOMATIC: "override {}",
    LayerName.RANK: "override {}",
    LayerName.GROUP: "group {}",
    LayerName.MEMBER: "exception",
}


class Rest(NamedTuple):
    """What something that was done rests on: capabilities, as bits, at a place."""

    place: int
    mask: int


class Use(NamedTuple):
    """A capability that was used, and through what.

    ``through`` is a rank's key, ``owner``, ``override RANK in PLACE``, ``group KEY in PLACE``, ``exception in PLACE``.
    """

    through: str
    capability: str


def rests_of(decider: Decider, asked: Asked, capability: str, place: int) -> list[Rest]:
    """Return what it takes to use a capability: itself, what it implies and needs, and to see the place (rule 5.6)."""
    compiled = decider.compiled
    return [Rest(place, compiled.rests(capability, place))] if asked.profile else []


def rests_of_act(decider: Decider, asked: Asked, act: ActAsked, at: Instant) -> list[Rest]:
    """Return what it took to do an act: each capability with which alone it was allowed, and what it handed on."""
    compiled, place = decider.compiled, decider.compiled.place_at[act.place]
    if asked.profile is None:
        return []
    rule = compiled.charter.rules.act({Act.UNASSIGN: Act.ASSIGN}.get(act.name, act.name))
    able = decider.reckoner.usable(asked.profile, place)
    rests = []
    for key in [act.using] if act.using else rule.using:
        if able & compiled.catalogue.bit[key] and (
            act.name != Act.MODERATE or act._replace(using=key).put(decider, asked, at)
        ):
            rests += rests_of(decider, asked, key, place)
    target = act.acted_on(decider, at)
    if act.name in (Act.ASSIGN, Act.UNASSIGN) and rule.hand_on != "any":
        handing = Handing(decider.reckoner, place, asked.profile)
        rank = compiled.charter.ranks[act.rank or ""]
        if act.name == Act.ASSIGN:
            rests += [Rest(gain.place, gain.mask) for gain in handing.brought(rank, target)]
        elif target is not None:
            rests += [Rest(gain.place, gain.mask) for gain in handing.lost(rank, target)]
    return rests


def uses(compiled: CompiledCharter, profile: Profile, rest: Rest) -> Iterator[Use]:
    """Yield through what each of some capabilities was held at a place, the highest rank first.

    A rank's grant or a word suffices where it alone, without all else that gives, would still bring the capability:
    what denies and bars stays (rule 5.4). What an unbounded rank holds nothing takes.
    """
    ranks = ranks_at(compiled, profile, rest.place)
    gated = closed_gate(compiled, profile, rest.place) is not None
    given, taken = ([], 0) if gated else _said(compiled, profile, rest.place)
    for rank in ranks:
        mask = rest.mask if rank in compiled.unbounded else 0 if gated else compiled.carried[rank] & rest.mask & ~taken
        yield from (Use(compiled.ranks[rank].key, key) for key in compiled.catalogue.names(mask))
    for label, mask in given:
        yield from (Use(label, key) for key in compiled.catalogue.names(mask & rest.mask))


def _said(compiled: CompiledCharter, profile: Profile, place: int) -> tuple[list[tuple[str, int]], int]:
    """Return the words that give somebody something at a place, with what is not taken again; and all that is taken."""
    holders = holders_at(compiled, profile, place)
    given: list[tuple[str, int]] = []
    taken = bars = 0
    for here in compiled.chains[place]:
        sayings = compiled.sayings_at(here)
        turns = sayings.of(holders)
        own = compiled.own_saying(here, profile.exceptions)
        for saying in turns if own is None else [*turns, own]:
            denied = saying.deny
            given = [(label, mask & ~denied) for label, mask in given]
            if not profile.pending or saying.layer not in (LayerName.GROUP, LayerName.MEMBER):
                given.append(
                    (f"{_LABEL[saying.layer].format(saying.holder)} in {compiled.places[here].key}", saying.allow)
                )
            taken |= denied
        for key, bar in sayings.bars.items():
            bars |= bar if key in holders else 0
        entry = compiled.exception(here, profile.exceptions)
        bars |= compiled.word_of(entry).bar if entry else 0
    return [(label, mask & ~bars) for label, mask in given], taken | bars
