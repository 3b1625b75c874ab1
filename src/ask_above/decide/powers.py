"""Power over ranks: which rank may moderate, assign, manage or call somewhere, by order, lists and capability.

What is handed on, and the conditions of ranks, are left aside (rule 9.7d).
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from ask_above.charter.ladder import RankList
from ask_above.charter.rules import Act
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.ladder import Standing
from ask_above.decide.profile import Profile
from ask_above.decide.walk import Reckoner, lists_that_count, ranks_at

if TYPE_CHECKING:
    from ask_above.decide.decider import Decider


class Power(NamedTuple):
    """Sets of ranks by their positions, as bits; the bit after the last rank is someone without any.

    ``moderate`` has a set for each capability that the act takes.
    """

    moderate: tuple[int, ...] = ()
    assign: int = 0
    manage: int = 0
    call: int = 0

    @property
    def moderated(self) -> int:
        """Those who may be moderated with any of the capabilities."""
        found = 0
        for mask in self.moderate:
            found |= mask
        return found

    def __bool__(self) -> bool:
        return bool(any(self.moderate) or self.assign or self.manage or self.call)


class Powers:
    """Keeps the power of those who were asked about before."""

    def __init__(self, reckoner: Reckoner) -> None:
        self.reckoner: Reckoner = reckoner
        self.compiled: CompiledCharter = reckoner.compiled
        rules, catalogue = self.compiled.charter.rules, self.compiled.catalogue
        self.rules = {name: rules.act(name) for name in (Act.MODERATE, Act.ASSIGN, Act.MANAGE, Act.CALL)}
        self.using = {name: catalogue.mask(rule.using) for name, rule in self.rules.items()}
        self.any_using = 0
        for mask in self.using.values():
            self.any_using |= mask
        self._open = sum(1 << rank.position for rank in self.compiled.ranks if rank.call_open)
        self._all = (1 << len(self.compiled.ranks)) - 1
        self._known: dict[tuple[tuple[int, ...], int, bool], Power] = {}
        self._admitted: dict[tuple[str, tuple[int, ...], str], int] = {}

    @classmethod
    def beside(cls, decider: Decider) -> Powers:
        """Return those that are kept beside what answers: ``decider.keep(Powers.beside)``."""
        return cls(decider.reckoner)

    def after(self, _: Decider) -> None:
        """Nothing of this is true after a change."""

    def of(self, profile: Profile | None, place: int, *, owner: bool = False, acts: bool = True) -> Power:
        """Return the power of somebody at a place; none for whom acts nowhere (rule 6.1)."""
        if not acts:
            return Power()
        if owner:
            everyone = self._all << 1 | 1
            return Power(tuple(everyone for _ in self.rules[Act.MODERATE].using), self._all, self._all, self._all)
        if profile is None:
            return Power()
        usable = self.reckoner.usable(profile, place) & self.any_using
        ranks = tuple(ranks_at(self.compiled, profile, place))
        # two people, or one at two places, with the same ranks and use have the same power; the site alone has managing
        form = ranks, usable, place == 0
        known = self._known.get(form)
        if known is None:
            known = self._known[form] = self._reckon(ranks, usable, profile, place)
        return known

    def _reckon(self, ranks: tuple[int, ...], usable: int, profile: Profile, place: int) -> Power:
        bit = self.compiled.catalogue.bit
        own = Standing(ranks[0]) if ranks else self.compiled.ladder.bottom
        # moderating is told apart by capability, as each may be used on other ranks (6.4)
        moderate = self.rules[Act.MODERATE]
        over = self.compiled.ladder.bits_reached(own, moderate.over)
        some = tuple(
            over & self._lists(Act.MODERATE, ranks, key, profile, place) if usable & bit[key] else 0
            for key in moderate.using
        )
        by_act = {
            act: self._act(act, own, ranks, usable, profile, place)
            for act in ((Act.ASSIGN, Act.MANAGE) if place == 0 else (Act.ASSIGN,))
        }
        call = self._all if usable & self.using[Act.CALL] else self._open
        return Power(some, by_act[Act.ASSIGN], by_act.get(Act.MANAGE, 0), call)

    def _act(self, act: Act, own: Standing, ranks: tuple[int, ...], usable: int, profile: Profile, place: int) -> int:
        rule, bit = self.rules[act], self.compiled.catalogue.bit
        able = [key for key in rule.using if usable & bit[key]]
        admitted = 0
        for key in able:
            admitted |= self._lists(act, ranks, key, profile, place)
        return admitted & self.compiled.ladder.bits_reached(own, rule.over) & self._all

    def _lists(self, act: Act, ranks: tuple[int, ...], capability: str, profile: Profile, place: int) -> int:
        """Return the ranks that the lists for an act admit, and someone without any (rule 6.4)."""
        known = self._admitted.get((act, ranks, capability))
        if known is None:
            asked = lists_that_count(self.compiled, profile, place, act, capability)
            known = 0 if asked else self._all << 1 | 1
            for rank in asked:
                known |= self._all << 1 | 1 if act not in rank.lists else self._admits(rank.lists[act])
            self._admitted[act, ranks, capability] = known
        return known

    def _admits(self, listed: RankList) -> int:
        found = sum(1 << rank.position for rank in self.compiled.ranks if listed.admits(rank.key))
        return found | (1 << len(self.compiled.ranks) if listed.admits(None) else 0)
