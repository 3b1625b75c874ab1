"""Who acts on whom between ranks: for each act at a place, the ranks that each rank reaches (rule 6.13).

The one engine for that. :mod:`~ask_above.decide.authority` explains a single cell of a plane, with every reason.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from ask_above.charter.ladder import Rank
from ask_above.charter.rules import Act
from ask_above.decide.authority import Case, reached
from ask_above.decide.decider import Decider
from ask_above.decide.powers import Powers
from ask_above.decide.profile import Asked, ask_rank

_NO_MOMENT = 0
"""What just anybody may be assigned depends on no moment; who asks is asked about as of one already."""


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
        if act is Act.MODERATE:  # the owner moderates with nothing too
            return (1 << len(self.ranks)) - 1 if asked.rules_all else self._standing(power.moderated)
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
