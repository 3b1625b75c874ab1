"""Headings of narrow columns: whole titles, titles on several lines, or short forms with a legend."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple


class Headings(NamedTuple):
    """Headings for columns, and the legend where they are short forms."""

    heads: tuple[str, ...]
    legend: tuple[tuple[str, str], ...] = ()

    @property
    def width(self) -> int:
        """The width that the columns take, two blanks between them."""
        return sum(widest(head) + 2 for head in self.heads)


def widest(head: str) -> int:
    """Return the width of a heading of several lines."""
    return max((len(line) for line in head.split("\n")), default=0)


def fit(titles: Sequence[str], keys: Sequence[str], room: int) -> Headings:
    """Return the fullest headings that fit into ``room``; the shortest where none do."""
    for heads in (tuple(titles), tuple(title.replace(" ", "\n").replace("-", "-\n") for title in titles)):
        if Headings(heads).width <= room:
            return Headings(heads)
    short = shorten(keys)
    return Headings(short, tuple(zip(short, titles, strict=True)))


def shorten(keys: Sequence[str]) -> tuple[str, ...]:
    """Return short forms of keys, each one of its own: as few letters as tell it from the others, at least three.

    >>> shorten(["surveyor", "steward", "relay-bot", "relay-box"])
    ('sur', 'ste', 'relbot', 'relbox')
    """
    short: list[str] = []
    for key in keys:
        words = key.replace("_", "-").split("-")
        candidates = [words[0][:3]] if len(words) == 1 else [words[0][:2] + words[1][:2]]
        candidates += [words[0][:3] + words[-1][:n] for n in range(1, 8)] if len(words) > 1 else []
        candidates += [key[:n] for n in range(4, len(key) + 1)]
        others = [other for other in keys if other != key]
        short.append(next((one for one in candidates if not any(_same(one, other) for other in others)), key))
    return tuple(short)


def _same(short: str, other: str) -> bool:
    words = other.replace("_", "-").split("-")
    forms = {other[: len(short)]}
    if len(words) > 1:
        forms |= {words[0][:2] + words[1][:2], *(words[0][:3] + words[-1][:n] for n in range(1, 8))}
    return short in forms
