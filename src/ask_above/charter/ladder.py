"""The ladder: the ranks, highest first, and all that an administrator says of each (rules 3 and 4)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple, TypeAlias

from ask_above.charter.catalogue import NO_WORDS, Words
from ask_above.charter.names import titled
from ask_above.charter.where import NOTHING, NOWHERE, Where

HELD_BY = ("anyone", "visitors", "members", "bots")
"""Who holds an automatic rank."""

RANK_LOOKS = frozenset({"title", "about", "heading", "color", "badge", "prefix", "perks", "copied_from", "distinct"})
"""The fields of a rank on which no answer rests."""

PerkValue: TypeAlias = bool | int | float | str | None


class RankList(NamedTuple):
    """Which ranks may be acted on: ``only`` these, or all ``except`` these (rule 6.4)."""

    only: frozenset[str] | None = None
    excluded: frozenset[str] = frozenset()
    where: Where = NOWHERE

    def admits(self, rank: str | None) -> bool:
        """Whether the list lets one act on ``rank``; ``None`` is someone without any, who is in no list."""
        return rank in self.only if self.only is not None else rank not in self.excluded


class Rank(NamedTuple):
    """A step on the ladder.

    ``position`` counts from 0 at the top. ``held_by`` is set for an automatic rank. ``lists`` holds, for the acts
    ``moderate``, ``assign`` and ``manage``, whom this rank lets one act on. ``call_open`` tells whether anyone may
    call it. ``paused``: nobody holds it for now, whatever is recorded (rule 4.3). ``distinct`` is its key where other
    ranks have its title.
    """

    key: str
    position: int
    title: str = ""
    about: str = ""
    held_by: str | None = None
    unbounded: bool = False
    entry: bool = False
    open: bool = False
    on_joining: bool = False
    grants: Words = NO_WORDS
    withhold: Words = NO_WORDS
    builds_on: tuple[str, ...] = ()
    copied_from: str | None = None
    kept_by: str | None = None
    limit: int | None = None
    after: tuple[str, ...] = ()
    apart_from: tuple[str, ...] = ()
    lists: Mapping[str, RankList] = NOTHING
    call_open: bool = True
    heading: bool = False
    color: str | None = None
    badge: str | None = None
    prefix: str | None = None
    perks: Mapping[str, PerkValue] = NOTHING
    paused: bool = False
    where: Where = NOWHERE
    distinct: str = ""

    @property
    def called(self) -> str:
        """What people call it: its title, with what tells it from others of that title."""
        return titled(self.title, self.key, self.distinct)

    @property
    def may_be_joined(self) -> bool:
        """Whether an active member may assign it to themselves (rule 4.7)."""
        return self.open and not (self.kept_by or self.automatic or self.paused)

    @property
    def automatic(self) -> bool:
        """Whether the rank is automatic: nobody assigns or unassigns it (rule 4.1)."""
        return self.held_by is not None


class Perk(NamedTuple):
    """Something a rank brings that is no right; ``settle`` says how several ranks' values become one (rule 7.3)."""

    key: str
    about: str = ""
    settle: str = "topmost"
    default: PerkValue = None
    where: Where = NOWHERE


SETTLE = ("any", "all", "most", "least", "total", "topmost")
"""The ways in which several ranks' values of one perk are settled."""
