"""Headings of narrow columns: whole titles, titles on several lines, or positions on the ladder with a key."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple


class Headings(NamedTuple):
    """Headings for columns, and the key where they are numbers."""

    heads: tuple[str, ...]
    legend: tuple[tuple[str, str], ...] = ()

    @property
    def width(self) -> int:
        """The width that the columns take, two blanks between them."""
        return sum(widest(head) + 2 for head in self.heads)


def widest(head: str) -> int:
    """Return the width of a heading of several lines."""
    return max((len(line) for line in head.split("\n")), default=0)


def fit(titles: Sequence[str], numbers: Sequence[str], room: int) -> Headings:
    """Return the fullest headings that fit into ``room``: titles, titles on several lines, else their numbers."""
    for heads in (tuple(titles), tuple(title.replace(" ", "\n").replace("-", "-\n") for title in titles)):
        if Headings(heads).width <= room:
            return Headings(heads)
    return Headings(tuple(numbers), tuple(zip(numbers, titles, strict=True)))
