"""Blocks of a figure in columns, so that the whole comes near to a screen's shape."""

from __future__ import annotations

from collections.abc import Sequence
from math import log

_SCREEN = 1.5
"""How much wider than high a figure is at its best."""
_MOST_COLUMNS = 12


def shares(heights: Sequence[float], parts: int) -> list[list[int]]:
    """Return what stands in each of so many columns, in order, so that the tallest is as low as can be."""
    low, high = max(heights, default=0.0), sum(heights)
    while high - low > 1:
        middle = (low + high) / 2
        low, high = (low, middle) if len(_filled(heights, middle)) <= parts else (middle, high)
    return _filled(heights, high)


def _filled(heights: Sequence[float], most: float) -> list[list[int]]:
    lines: list[list[int]] = []
    room = 0.0
    for n, height in enumerate(heights):
        if height > room:
            lines.append([])
            room = most
        lines[-1].append(n)
        room -= height
    return lines


def fitting(width: float, heights: Sequence[float], above: float = 0.0) -> list[list[int]]:
    """Return how to stand blocks of one width in columns so that the whole comes near to a screen's shape.

    ``above`` is what each column takes beside its blocks.
    """
    tried = [shares(heights, parts) for parts in range(1, min(len(heights), _MOST_COLUMNS) + 1)] or [[]]
    return min(tried, key=lambda columns: _off(width, heights, above, columns))


def _off(width: float, heights: Sequence[float], above: float, columns: Sequence[Sequence[int]]) -> float:
    """Return how far off a screen's shape some columns are."""
    tallest = above + max((sum(heights[n] for n in column) for column in columns), default=1.0)
    return abs(log(width * max(1, len(columns)) / tallest / _SCREEN))
