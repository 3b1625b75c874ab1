"""What time some periods cover together, and what is left of it when others are taken away (rule 9.8)."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from ask_above.charter.moments import Instant
from ask_above.people.register import Assignment

BEGINNING: Instant = -(1 << 62)
END: Instant = 1 << 62


class Coverage(NamedTuple):
    """Stretches of time, apart from one another and in order; each from an instant until another, that one excluded."""

    stretches: tuple[tuple[Instant, Instant], ...] = ()

    def __bool__(self) -> bool:
        return bool(self.stretches)

    def __sub__(self, other: Coverage) -> Coverage:
        left = list(self.stretches)
        for start, end in other.stretches:
            left = [
                piece
                for first, last in left
                for piece in ((first, min(last, start)), (max(first, end), last))
                if piece[0] < piece[1]
            ]
        return Coverage(tuple(left))

    def since(self, now: Instant) -> Coverage:
        """Return what of it is yet to be."""
        return Coverage(tuple((max(start, now), end) for start, end in self.stretches if end > now))

    @property
    def first(self) -> Instant:
        """The instant at which it begins."""
        return self.stretches[0][0]

    @property
    def open_ended(self) -> bool:
        """Whether it is one stretch that never ends."""
        return len(self.stretches) == 1 and self.stretches[0][1] == END


ALWAYS_COVERED = Coverage(((BEGINNING, END),))


def coverage(given: Iterable[Assignment]) -> Coverage:
    """Return what time assignments cover together."""
    spans = sorted(
        (
            BEGINNING if assignment.period.start is None else assignment.period.start,
            END if assignment.period.end is None else assignment.period.end,
        )
        for assignment in given
    )
    merged: list[tuple[Instant, Instant]] = []
    for start, end in spans:
        if start >= end:
            continue
        if merged and start <= merged[-1][1]:
            merged[-1] = (merged[-1][0], max(end, merged[-1][1]))
        else:
            merged.append((start, end))
    return Coverage(tuple(merged))
