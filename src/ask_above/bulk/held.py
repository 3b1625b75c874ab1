"""Where what is held differs between two communities, and in what, for many people at once (rules 5.3 to 5.5)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from ask_above.bulk.making import ProgrammeMaker
from ask_above.bulk.places import CompiledPlaces
from ask_above.bulk.rows import BitRows
from ask_above.bulk.sides import may_differ
from ask_above.bulk.table import Sweep, unpack
from ask_above.decide.classes import ClassState
from ask_above.decide.profile import Profile

if TYPE_CHECKING:
    from numpy.typing import NDArray

_AT_A_TIME = 1 << 24  # bytes of one side's block of places
_MOST_KEPT = 4_096


class TurnedHoldings(NamedTuple):
    """At one of the places some pairs gain and lose the same, with gates or with gates left aside."""

    place: int
    gated: bool
    gained: int
    lost: int
    pairs: tuple[int, ...]


def held_otherwise(
    old: CompiledPlaces,
    new: CompiledPlaces,
    pairs: Sequence[tuple[Profile, Profile]],
    beside: Sequence[int],
    behind: Sequence[int],
) -> Iterator[TurnedHoldings]:
    """Yield what the second of each pair holds at the new places and the first did not, or the other way round.

    ``beside`` says for each of the new places with which of the old ones it is compared. ``behind`` are those for which
    gates matter on either side: at them what is held with gates left aside is compared as well. Both sides must have
    the same capabilities, and nobody may be unbounded.
    """
    if not pairs:
        return
    cells = [[ClassState(profile, owner=False) for profile in side] for side in zip(*pairs, strict=True)]
    first = BitRows(old, cells[0])
    second = first.over(new, cells[1]) or BitRows(new, cells[1])
    words = -(-len(pairs) // 64)
    folds = _Folds(len(pairs))
    for gated, places in ((True, range(len(beside))), (False, behind)):
        if not places:
            continue
        one = Sweep(old, cells[0], first, ProgrammeMaker(old).holding(gated=gated))
        other = Sweep(new, cells[1], second, ProgrammeMaker(new).holding(gated=gated))
        where = [beside[n] for n in places]
        known = may_differ(one, other, places) if where == list(places) else None
        some, capabilities = known or (list(places), np.arange(one.capabilities))
        asked = None if len(capabilities) == one.capabilities else capabilities.tolist()
        room = max(1, _AT_A_TIME // max(8, len(capabilities) * words * 8))
        for start in range(0, len(some), room):
            here = some[start : start + room]
            was, which = np.unique(np.array([beside[n] for n in here], dtype=np.intp), return_inverse=True)
            before, after = one.at(was.tolist(), asked)[which], other.at(here, asked)
            turned = before[..., :words] ^ after[..., :words]
            differs: NDArray[np.bool_] = np.any(turned, axis=2)
            for n in np.flatnonzero(differs.any(axis=1)).tolist():
                lines = np.flatnonzero(differs[n])
                bits = turned[n, lines]
                for gained, lost, pairs_here in folds.of(capabilities[lines], bits, bits & after[n, lines, :words]):
                    yield TurnedHoldings(here[n], gated, gained, lost, pairs_here)


class _Folds:
    """Folds the bits of one place into pairs that gain and lose the same; many places turn alike."""

    def __init__(self, pairs: int) -> None:
        self.pairs = pairs
        self._known: dict[tuple[bytes, bytes, bytes], list[tuple[int, int, tuple[int, ...]]]] = {}

    def of(
        self, lines: NDArray[np.intp], bits: NDArray[np.uint64], now: NDArray[np.uint64]
    ) -> list[tuple[int, int, tuple[int, ...]]]:
        """Return what is gained, what is lost, and by whom; by capability, for which pairs it differs, who has it."""
        key = lines.tobytes(), bits.tobytes(), now.tobytes()
        known = self._known.get(key)
        if known is None:
            if len(self._known) >= _MOST_KEPT:
                self._known.clear()
            known = self._known[key] = self._fold(lines.tolist(), bits, now)
        return known

    def _fold(
        self, lines: list[int], bits: NDArray[np.uint64], now: NDArray[np.uint64]
    ) -> list[tuple[int, int, tuple[int, ...]]]:
        count = self.pairs
        rows = np.stack([unpack(line)[:count] for line in (*bits, *now)])
        some = np.flatnonzero(rows[: len(lines)].any(axis=0))
        columns, which = np.unique(rows[:, some], axis=1, return_inverse=True)
        folded = []
        for n, column in enumerate(columns.T.tolist()):
            turned, gains = column[: len(lines)], column[len(lines) :]
            gained = sum(1 << line for line, yes in zip(lines, gains, strict=True) if yes)
            lost = sum(1 << line for line, a, b in zip(lines, turned, gains, strict=True) if a and not b)
            folded.append((gained, lost, tuple(some[which.reshape(-1) == n].tolist())))
        return folded
