"""The ladder: who stands above whom, and whom an act reaches from where (rules 3.2, 4.8 and 6.3).

Nothing else compares standings.
"""

from __future__ import annotations

from collections.abc import Iterable

from ask_above.charter.ladder import Rank
from ask_above.charter.rules import Over


class Standing(int):
    """How high somebody stands: the number of their highest rank, 0 the highest.

    The owner stands at :data:`ABOVE_ALL`, someone without any rank at :attr:`Ladder.bottom`.
    """

    __slots__ = ()

    def above(self, other: int) -> bool:
        """Whether this is higher than another."""
        return self < other

    def first_reached(self, over: Over) -> int:
        """Return the highest standing that an act over these reaches from here; it reaches all below too (rule 6.3)."""
        return ABOVE_ALL if over is Over.ANYONE else self if over is Over.LEVEL else self + 1

    def reaches(self, over: Over, other: int) -> bool:
        """Whether an act over these reaches from here somebody who stands there (rule 6.3)."""
        return other >= self.first_reached(over)


ABOVE_ALL = Standing(-1)
"""The standing of the owner."""


class Ladder:
    """The ranks of a charter, highest first; ``bottom`` is the standing of someone without any."""

    def __init__(self, ranks: Iterable[Rank]) -> None:
        self.ranks = tuple(ranks)
        self.number = {rank.key: rank.position for rank in self.ranks}
        self.bottom = Standing(len(self.ranks))

    def at(self, rank: Rank | str) -> Standing:
        """Return where a rank stands, given itself or by its key."""
        return Standing(rank.position if isinstance(rank, Rank) else self.number[rank])

    def rank(self, standing: int) -> Rank | None:
        """Return the rank that stands there; the owner, and whoever is without any, stand by none."""
        return self.ranks[standing] if 0 <= standing < len(self.ranks) else None

    def above(self, standing: int) -> tuple[Rank, ...]:
        """Return the ranks above a standing."""
        return self.ranks[: max(standing, 0)]

    def below(self, standing: int) -> tuple[Rank, ...]:
        """Return the ranks below a standing."""
        return self.ranks[standing + 1 :]

    def reached(self, standing: Standing, over: Over) -> tuple[Rank, ...]:
        """Return the ranks that an act reaches from a standing (rule 6.3)."""
        return self.ranks[max(standing.first_reached(over), 0) :]

    def bits_reached(self, standing: Standing, over: Over) -> int:
        """Return the same as bits; the bit after the last rank is someone without any."""
        first = max(standing.first_reached(over), 0)
        return (1 << len(self.ranks) + 1) - 1 >> first << first
