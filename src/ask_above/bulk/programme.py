"""All that the places of a charter do, as one list of operations on planes; follows from the charter alone.

A plane is a row of words with one bit for each row of people. A place hands on to the places in it every plane that it
does not change, so that there are far fewer planes than places times capabilities: every plane that differs is worked
out once, from planes before it, and a table of numbers says which of them stands where. Planes of places equally deep
are worked out together, first those that rest on the places above.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from enum import StrEnum
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Numbers: TypeAlias = NDArray[np.intp]

NOTHING, EVERYONE, NOBODY, FIRST = range(4)
"""The planes that are there before any is worked out: none, all, those who can do nothing, and then what is held."""


class PlaneHow(StrEnum):
    """What is done to make a plane."""

    GIVE = "give"
    TAKE = "take"
    ALL = "all"
    ANY = "any"


class PlaneBatch(NamedTuple):
    """Some planes that are worked out together: the number of the first of them, and what each is made from.

    ``give`` and ``take`` set and clear in a plane the bits of those that a number in ``rows`` speaks for; ``all`` and
    ``any`` are what several planes have in common, and what they have together. ``sources`` has a line for each plane.
    """

    start: int
    how: PlaneHow
    sources: Numbers
    rows: Numbers | None = None


class Portion(NamedTuple):
    """What has to be worked out for some places, and where it stands then.

    ``planes`` are worked out in all. ``shown`` are the planes of each place, one for each capability; ``seen`` is the
    plane of those who are let in and see it.
    """

    batches: list[PlaneBatch]
    planes: int
    places: Numbers
    shown: Numbers
    seen: Numbers


class Lists(NamedTuple):
    """Many short lists of numbers in one array; the n-th begins at ``starts[n]`` and ends where the next begins."""

    starts: Numbers
    numbers: Numbers

    def of(self, which: Numbers) -> tuple[Numbers, Numbers]:
        """Return the numbers of some lists one after the other, and for each the list it is from, counted in these."""
        sizes = self.starts[which + 1] - self.starts[which]
        before = np.cumsum(sizes) - sizes
        at = np.repeat(self.starts[which] - before, sizes) + np.arange(int(sizes.sum()))
        return self.numbers[at], np.repeat(np.arange(len(which)), sizes)


def lists(found: Sequence[Sequence[int]]) -> Lists:
    """Put lists into one array."""
    starts = np.cumsum([0, *(len(each) for each in found)])
    return Lists(starts, np.array([n for each in found for n in each], dtype=np.intp))


class Programme:
    """The operations of all places (``whole``), and what of them some places need.

    ``sets`` are the members that steps speak for together.
    """

    def __init__(self, whole: Portion, sets: Lists) -> None:
        self.whole, self.sets = whole, sets
        self._portions: tuple[tuple[int, int], list[Portion]] | None = None
        self._last: tuple[tuple[object, object], Portion] | None = None

    def part(self, places: Sequence[int], capabilities: Sequence[int] | None = None) -> Portion:
        """Return what is needed for these places, in the charter's order, and capabilities alone, numbered anew."""
        if len(places) == len(self.whole.places) and capabilities is None:
            return self.whole
        # two registers of one charter ask for the same, one after the other
        wanted = (tuple(places), None if capabilities is None else tuple(capabilities))
        last = self._last
        if last is None or last[0] != wanted:
            last = self._last = (wanted, self._part(places, capabilities))
        return last[1]

    def _part(self, places: Sequence[int], capabilities: Sequence[int] | None) -> Portion:
        batches, planes, _, shown, seen = self.whole
        at = np.array(places, dtype=np.intp)
        if capabilities is not None:
            shown = shown[:, np.array(capabilities, dtype=np.intp)]
        needed = np.zeros(planes, dtype=bool)
        needed[: FIRST + self.whole.shown.shape[1]] = True
        needed[shown[at]] = True
        needed[seen[at]] = True
        kept: list[tuple[PlaneBatch, Numbers]] = []
        for batch in reversed(batches):
            lines = np.flatnonzero(needed[batch.start : batch.start + len(batch.sources)])
            if len(lines):
                needed[batch.sources[lines]] = True
                kept.append((batch, lines))
        number = np.cumsum(needed) - 1
        fewer = [
            PlaneBatch(
                int(number[batch.start + lines[0]]),
                batch.how,
                number[batch.sources[lines]],
                None if batch.rows is None else batch.rows[lines],
            )
            for batch, lines in reversed(kept)
        ]
        return Portion(fewer, int(number[-1]) + 1, at, number[shown[at]], number[seen[at]])

    def portions(
        self, places: Sequence[int], most: int, planes: int, capabilities: Sequence[int] | None = None
    ) -> Iterator[Portion]:
        """Yield what is needed for the places, at most so many at a time, few enough planes being worked out for each.

        A single place may need more.
        """
        if len(places) < len(self.whole.places) or capabilities is not None:
            yield from self._divided(places, most, planes, capabilities)
            return
        if self._portions is None or self._portions[0] != (most, planes):
            self._portions = ((most, planes), list(self._divided(places, most, planes, None)))
        yield from self._portions[1]

    def _divided(
        self, places: Sequence[int], most: int, planes: int, capabilities: Sequence[int] | None
    ) -> Iterator[Portion]:
        start = 0
        while start < len(places):
            some = places[start : start + most]
            part = self.part(some, capabilities)
            while part.planes > planes and len(some) > 1:
                some = some[: max(1, min(len(some) - 1, len(some) * planes // part.planes))]
                part = self.part(some, capabilities)
            yield part
            start += len(some)
