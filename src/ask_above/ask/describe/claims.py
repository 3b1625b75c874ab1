"""What is so of somebody at a place by what it says for them, and not only what is written there (rules 5.2 to 5.6)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

import numpy as np

from ask_above.bulk.everyone import Everyone
from ask_above.bulk.table import unpack
from ask_above.charter.moments import Instant
from ask_above.charter.places import Group
from ask_above.charter.rules import Act
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.layers import Word
from ask_above.decide.profile import Asked, ask_member, ask_rank
from ask_above.decide.walk import closed_gate, held, usable
from ask_above.people.register import Member

GATE = "where the gate admits them"
SEEN = "while they may see it"


class Claim(NamedTuple):
    """That somebody may do something, or may not: ``verb`` as it is said, ``provided`` what it takes besides."""

    verb: str
    mask: int
    provided: str = ""


def claims(compiled: CompiledCharter, asked: Asked, place: int, word: Word) -> Iterator[Claim]:
    """Yield what of a word is so: for someone of that rank or group alone, or for the member whose exception it is.

    What they may only once the gate lets them in, or once they see the place, is told with that; what other words,
    needs or the kind of the place keep from being so is left out.
    """
    if asked.profile is None:
        return
    now = _usable(compiled, asked, place, seen=False, gated=True)
    if now & word.allow:
        yield Claim("may", now & word.allow)
    left, seeing = word.allow & ~now, compiled.resting(place).seen
    shut = closed_gate(compiled, asked.profile, place) is not None
    for gated, seen, provided in (
        (False, False, GATE if shut else ""),
        (True, True, SEEN if seeing else ""),
        (False, True, f"{GATE} and {SEEN}" if shut and seeing else ""),
    ):
        more = left & _usable(compiled, asked, place, seen=seen, gated=gated) if provided and left else 0
        if more:
            yield Claim("may", more, provided)
            left &= ~more
    # what is denied or barred where it can be used anyhow is news; elsewhere nobody would look for it
    missing = compiled.has_meaning(place) & ~now
    if word.deny & missing:
        yield Claim("may not", word.deny & missing)
    if word.bar & missing:
        yield Claim("may never", word.bar & missing)


def _usable(compiled: CompiledCharter, asked: Asked, place: int, *, seen: bool, gated: bool) -> int:
    if asked.profile is None:
        return 0
    mask = held(compiled, asked.profile, place, gated=gated).mask
    return usable(compiled, mask | compiled.resting(place).seen if seen else mask, place)


def of_group(compiled: CompiledCharter, group: Group) -> Asked:
    """Return a member who is in a group and has nothing besides."""
    return ask_member(compiled, Member("", groups=(group.key,)), [], 0, excepted=False)


def of_holder(compiled: CompiledCharter, holder: str) -> Asked:
    """Return somebody of a rank or a group alone."""
    rank = compiled.charter.ranks.get(holder)
    if rank is None:
        return of_group(compiled, compiled.charter.groups[holder])
    return ask_rank(compiled, rank)


class Inside(NamedTuple):
    """Of one place: how many active members can use anything there, and the keys of those who may change it."""

    members: int
    keepers: tuple[str, ...]


def inside(decider: Decider, at: Instant) -> list[Inside]:
    """Return what is so of every place, in the charter's order."""
    compiled = decider.compiled
    sweep, crowd = decider.keep(Everyone).rows(at)
    using = compiled.catalogue.mask(compiled.charter.rules.act(Act.OVERRIDES).using)
    keeping = [n for n in range(len(compiled.catalogue.keys)) if using >> n & 1]
    keepers: dict[bytes, tuple[str, ...]] = {}
    insides: list[Inside] = []
    for _, words in sweep.run():
        anything = unpack(np.bitwise_or.reduce(words, axis=0))
        plane = np.bitwise_or.reduce(words[keeping], axis=0) if keeping else np.zeros(sweep.words, dtype=np.uint64)
        form = plane.tobytes()
        if form not in keepers:
            able = unpack(plane)
            keepers[form] = tuple(crowd.members[n] for n in np.flatnonzero(able[crowd.rows] & crowd.active).tolist())
        insides.append(Inside(int(np.count_nonzero(anything[crowd.rows] & crowd.active)), keepers[form]))
    return insides


def doing(compiled: CompiledCharter, key: str) -> str:
    """Say what a capability permits: ``edit own posts``; its key where it has no sentence."""
    capability = compiled.catalogue.capabilities[key]
    about = capability.about or key
    if about[1:2].islower() or len(about) == 1:
        about = about[:1].lower() + about[1:]
    return about


def under_headings(compiled: CompiledCharter, keys: Iterable[str]) -> dict[str, list[str]]:
    """Return capabilities under their headings, in the catalogue's order; own things are not named apart.

    Where it is anybody's, the same for own things is left out.
    """
    wanted = set(keys)
    headed: dict[str, list[str]] = {}
    for key, each in compiled.catalogue.capabilities.items():
        covered = each.pair is not None and key.endswith(".own") and f"{each.pair}.all" in wanted
        if key in wanted and not covered:
            headed.setdefault(each.heading, []).append(key)
    return headed
