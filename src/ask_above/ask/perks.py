"""What ranks bring that is no right, in words: of a rank, of somebody, and what a change makes of it (rule 7.3)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from ask_above.charter.ladder import Perk, PerkValue
from ask_above.charter.moments import Instant
from ask_above.decide.decider import Decider
from ask_above.decide.looks import PerkHeld, perks


class PerkTurned(NamedTuple):
    """What a perk was for some members before a change, and what it is after it."""

    perk: Perk
    before: PerkValue
    after: PerkValue
    members: tuple[str, ...]

    def __str__(self) -> str:
        return f"{self.perk.about or self.perk.key}: {in_words(self.after)} (was {in_words(self.before)})"


def in_words(value: PerkValue) -> str:
    """Say what a perk comes to."""
    return "nothing" if value is None else "yes" if value is True else "no" if value is False else str(value)


def brought(known: Mapping[str, Perk], values: Mapping[str, PerkValue]) -> Iterator[str]:
    """Yield what each perk is for, and what it comes to."""
    for key, value in values.items():
        yield f"{known[key].about or key}: {in_words(value)}"


def beyond_default(known: Mapping[str, Perk], held: Mapping[str, PerkHeld]) -> dict[str, PerkValue]:
    """Return the perks that somebody has by a rank."""
    return {key: perk.value for key, perk in held.items() if perk.sources and perk.value != known[key].default}


def turned(before: Decider, after: Decider, at: Instant) -> list[PerkTurned]:
    """Return what a change makes of the perks of active members, those alike together."""
    known, people = before.people.register.members, after.people.register
    same = before.compiled.charter.ranks is after.compiled.charter.ranks
    if not after.compiled.charter.perks:
        return []
    keys = people.differing(before.people.register) if same else dict.fromkeys(people.members)
    shifts: dict[tuple[str, PerkValue, PerkValue], list[str]] = {}
    for key in keys:
        asked = after.people.ask(key, at) if key in people.members else None
        if asked is None or not asked.is_active:
            continue
        was = perks(before.compiled, before.people.ask(key, at)) if key in known else {}
        for perk, now in perks(after.compiled, asked).items():
            old = was[perk].value if perk in was else after.compiled.charter.perks[perk].default
            if old != now.value:
                shifts.setdefault((perk, old, now.value), []).append(key)
    named = after.compiled.charter.perks
    return [PerkTurned(named[perk], old, new, tuple(members)) for (perk, old, new), members in shifts.items()]
