"""The rules of a charter: how disagreement is settled, and what each act takes (rules 5.4 and 6)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from ask_above.charter.where import NOTHING

ACTS = ("moderate", "assign", "manage")
"""The acts that ``rules.authority`` sets and that tables of powers are made of."""

USING = {
    "moderate": "member.moderate",
    "assign": "rank.assign",
    "manage": "rank.manage",
    "overrides": "place.manage",
    "accounts": "member.lock",
    "call": "rank.call",
}
"""The capability that each act takes where the charter says nothing."""

OVER = ("below", "level", "anyone")
HAND_ON = ("held", "any")
DISAGREEMENT = ("topmost", "allow", "deny")


class ActRule(NamedTuple):
    """What one act takes: ``using`` one of these capabilities, ``over`` whom, handing on what (rules 6.2, 6.3, 6.6).

    ``using`` holds full names; empty means that the act is the owner's alone. ``words`` are those that were written,
    and ``naming`` the capabilities of moderating by which a member's name may be changed too.
    """

    act: str
    using: tuple[str, ...] = ()
    over: str = "below"
    hand_on: str = "held"
    oneself: bool = False
    words: tuple[str, ...] = ()
    naming: tuple[str, ...] = ()


class Advice(NamedTuple):
    """What advice is to keep quiet about, and from which number on it speaks."""

    most_unbounded: int = 2
    most_high_risk: int = 5
    silent: Mapping[str, str] = NOTHING


class Rules(NamedTuple):
    """The rules of a charter; ``contacts`` is the bare name of a pair of own and all."""

    timezone: str = "UTC"
    disagreement: str = "topmost"
    seeing: str | None = None
    acts: Mapping[str, ActRule] = NOTHING
    contacts: str | None = None
    advice: Advice = Advice()

    def act(self, name: str) -> ActRule:
        """Return the rule of an act; one that is not set is the owner's alone."""
        return self.acts.get(name) or ActRule(name)
