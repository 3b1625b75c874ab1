"""Who acts on whom between ranks: for each act at a place, the ranks that each rank reaches (rule 6.13).

The one engine for that, from what each rank may do to others (:class:`Powers`). :mod:`~ask_above.decide.authority`
explains a single cell of a plane, with every reason.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import NamedTuple

from ask_above.charter.ladder import Rank, RankList
from ask_above.charter.rules import Act
from ask_above.decide.authority import Case, reached
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.ladder import Standing
from ask_above.decide.profile import Asked, Profile, ask_rank
from ask_above.decide.walk import Reckoner, lists_that_count, ranks_at

_NO_MOMENT = 0
"""What just anybody may be assigned depends on no moment; who asks is asked about as of one already."""


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
            managed = 0 if place else self._all  # ranks are managed on the whole site alone
            # the owner moderates with nothing too
            return Power((everyone,) * max(1, len(self.rules[Act.MODERATE].using)), self._all, managed, self._all)
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


class Planes:
    """Tells which ranks are reached; kept beside what answers: ``decider.keep(Planes)``."""

    def __init__(self, decider: Decider) -> None:
        self.decider, self.powers = decider, decider.keep(Powers.beside)
        self.ranks = decider.compiled.ranks
        self.asked = [ask_rank(decider.compiled, rank) for rank in self.ranks]
        self._tops = [reached(decider.compiled, asked, 0) for asked in self.asked]
        self._standing_in: dict[int, int] = {}
        self._kept = sum(1 << rank.position for rank in self.ranks if rank.kept_by)
        self._assignable = sum(
            1 << rank.position for rank in self.ranks if not (rank.automatic or rank.kept_by or rank.paused)
        )

    def after(self, _: Decider) -> None:
        """Nothing of this is true after a change."""

    def rows(self, act: Act, place: int) -> list[int]:
        """Return :meth:`row` of every rank, in the order of the ladder."""
        # what a rank brings there is worked out once for all of them, and not kept: places are many
        beside = self.decider.case(self.asked[0], place, _NO_MOMENT) if act is Act.ASSIGN and self.asked else None
        return [self.row(asked, act, place, beside) for asked in self.asked]

    def row(self, asked: Asked, act: Act, place: int, beside: Case | None = None) -> int:
        """Return the ranks, as bits by their positions, on which somebody may do an act at a place.

        ``beside`` is a case at that place with which what was worked out is shared.
        """
        where = 0 if act is Act.MANAGE else place
        power = self.powers.of(asked.profile, where, owner=asked.rules_all, acts=asked.acts)
        if act is Act.MODERATE:
            return self._standing(power.moderated)
        if act is Act.ASSIGN:
            return self._assigned(asked, power.assign, place, beside)
        return power.manage & ~self._kept if act is Act.MANAGE else power.call

    def named(self, asked: Asked, act: Act, place: int) -> list[str]:
        """Return the same by the ranks' keys, in the order of the ladder."""
        row = self.row(asked, act, place)
        return [rank.key for rank in self.ranks if row >> rank.position & 1]

    def pairs(self, act: Act, place: int) -> Iterator[tuple[Rank, Rank]]:
        """Yield the pairs of ranks, acting and acted on, between which an act is possible."""
        for actor, row in zip(self.ranks, self.rows(act, place), strict=True):
            yield from ((actor, target) for target in self.ranks if row >> target.position & 1)

    @cached_property
    def moderators(self) -> list[tuple[Rank, Asked]]:
        """The ranks that might moderate somewhere: most are granted and allowed nothing of what it takes."""
        compiled, using = self.decider.compiled, self.powers.using[Act.MODERATE]
        allowed = compiled.allowed_anywhere()
        able = {
            rank.position
            for rank in self.ranks
            if rank.unbounded or (compiled.granted(rank) | allowed.get(rank.key, 0)) & using
        }
        return [
            (rank, asked)
            for rank, asked in zip(self.ranks, self.asked, strict=True)
            if not able.isdisjoint(holding.rank for holding in asked.holdings)
        ]

    def _standing(self, moderated: int) -> int:
        """Return the ranks whose holders stand where moderating reaches: of some that is by an automatic rank."""
        known = self._standing_in.get(moderated)
        if known is None:
            known = self._standing_in[moderated] = sum(
                1 << n for n, top in enumerate(self._tops) if moderated >> top & 1
            )
        return known

    def _assigned(self, asked: Asked, power: int, place: int, beside: Case | None) -> int:
        """Return the ranks that may be assigned to just anybody: what they hand on counts too (rule 6.6)."""
        if asked.rules_all or not power:
            return self._assignable if asked.rules_all else 0
        case = beside.again(asked) if beside else self.decider.case(asked, place, _NO_MOMENT)
        return sum(1 << rank.position for rank in case.given(power))
