"""The rules of a charter: how disagreement is settled, and what each act takes (rules 5.4 and 6)."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import NamedTuple

from ask_above.charter.where import NOTHING


class Act(StrEnum):
    """What members may do to others, and with the last two to places and to accounts (rules 6 and 9)."""

    MODERATE = "moderate"
    ASSIGN = "assign"
    UNASSIGN = "unassign"
    MANAGE = "manage"
    CALL = "call"
    OVERRIDES = "overrides"
    ACCOUNTS = "accounts"


class Over(StrEnum):
    """Whom an act reaches, by where they stand: those below, those level too, or anyone (rule 6.3)."""

    BELOW = "below"
    LEVEL = "level"
    ANYONE = "anyone"


ACT_WORDS = (Act.MODERATE, Act.ASSIGN, Act.UNASSIGN, Act.MANAGE, Act.CALL)
"""The acts that can be asked about by name."""

BETWEEN_RANKS = (Act.MODERATE, Act.ASSIGN, Act.MANAGE, Act.CALL)
"""The acts that one rank may do on another; calling stands open unless a rank is closed to it."""

ACTS = (Act.MODERATE, Act.ASSIGN, Act.MANAGE)
"""The acts that ``rules.authority`` sets and that tables of powers are made of."""

USING = {
    Act.MODERATE: "member.moderate",
    Act.ASSIGN: "rank.assign",
    Act.MANAGE: "rank.manage",
    Act.OVERRIDES: "place.manage",
    Act.ACCOUNTS: "member.lock",
    Act.CALL: "rank.call",
}
"""The capability that each act takes where the charter says nothing."""

HAND_ON = ("held", "any")
DISAGREEMENT = ("topmost", "allow", "deny")


class ActRule(NamedTuple):
    """What one act takes: ``using`` one of these capabilities, ``over`` whom, handing on what (rules 6.2, 6.3, 6.6).

    ``using`` holds full names; empty means that the act is the owner's alone. ``words`` are those that were written,
    and ``naming`` the capabilities of moderating by which a member's name may be changed too.
    """

    act: Act
    using: tuple[str, ...] = ()
    over: Over = Over.BELOW
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
    acts: Mapping[Act, ActRule] = NOTHING
    contacts: str | None = None
    advice: Advice = Advice()

    def act(self, act: Act) -> ActRule:
        """Return the rule of an act; one that is not set is the owner's alone."""
        # no capability to use: what nobody can use is left to the owner
        return self.acts.get(act) or ActRule(act)
