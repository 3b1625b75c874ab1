"""What a member looks like and what their ranks bring (rules 7.1 to 7.3)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from ask_above.charter.ladder import Perk, PerkValue, Rank
from ask_above.charter.where import NOTHING
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.profile import Asked
from ask_above.decide.walk import ranks_at


class Looks(NamedTuple):
    """Colour, badge, prefix and heading of someone; ``sources`` says from which rank each comes.

    ``heading`` is the key of the rank under which they stand in the roster. What no rank has is ``None``.
    """

    color: str | None = None
    badge: str | None = None
    prefix: str | None = None
    heading: str | None = None
    sources: Mapping[str, str] = NOTHING


class PerkHeld(NamedTuple):
    """The value of a perk for someone, and the keys of the ranks that it comes from; none for the default."""

    value: PerkValue
    sources: tuple[str, ...] = ()


def held_at_root(compiled: CompiledCharter, asked: Asked) -> list[Rank]:
    """Return the ranks that someone holds at the root, highest first; none where the status does not count."""
    return [compiled.ranks[rank] for rank in ranks_at(compiled, asked.profile, 0)] if asked.profile else []


def looks(compiled: CompiledCharter, asked: Asked) -> Looks:
    """Return how someone looks: each thing from the highest rank held at the root that has it (rule 7.2)."""
    values: dict[str, str] = {}
    sources: dict[str, str] = {}
    for rank in held_at_root(compiled, asked):
        said = {"color": rank.color, "badge": rank.badge, "prefix": rank.prefix}
        said["heading"] = rank.key if rank.heading else None
        for what, value in said.items():
            if value is not None and what not in values:
                values[what], sources[what] = value, rank.key
    return Looks(**values, sources=sources)


def perks(compiled: CompiledCharter, asked: Asked) -> dict[str, PerkHeld]:
    """Return what every perk comes to for someone (rule 7.3)."""
    ranks = held_at_root(compiled, asked)
    return {key: settle_perk(perk, ranks) for key, perk in compiled.charter.perks.items()}


def settle_perk(perk: Perk, ranks: list[Rank]) -> PerkHeld:
    """Settle what several ranks, highest first, say of one perk."""
    values = [(rank.key, rank.perks[perk.key]) for rank in ranks if perk.key in rank.perks]
    if not values:
        return PerkHeld(perk.default)
    if perk.settle == "topmost":
        return PerkHeld(values[0][1], (values[0][0],))
    if perk.settle == "total":
        # tenths do not add up as floats, and people see the sum
        from fractions import Fraction

        total = sum((Fraction(str(value)) for _, value in values), start=Fraction(0))
        exact = int(total) if total.denominator == 1 else float(total)
        return PerkHeld(exact, tuple(key for key, _ in values))
    highest = perk.settle in ("any", "most")
    numbers = [value if isinstance(value, bool | int | float) else 0 for _, value in values]
    value = max(numbers) if highest else min(numbers)
    return PerkHeld(value, tuple(key for key, each in values if each == value))
