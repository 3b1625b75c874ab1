"""The frame of a table in a figure: titles across the top, upright where they are many, labels down the side."""

from __future__ import annotations

from collections.abc import Sequence
from math import log

from ask_above.show.figures.lettering import BODY, LINE, folded, measure
from ask_above.show.figures.sheet import MARGIN, Sheet

_LEVEL = 84.0
"""How wide a column may become for the sake of a title that is not turned."""
_UPRIGHT = 170.0
"""How long a line of an upright title may be."""
_GAP = 8.0
_SCREEN = 1.5
"""How much wider than high a figure is at its best."""
_MOST_COLUMNS = 12


class Columns:
    """Titles across the top: level where that takes little room, else upright; each column as wide as it needs."""

    def __init__(self, titles: Sequence[str], least: float, room: float = 700.0) -> None:
        level = [folded(title, _LEVEL - _GAP) for title in titles]
        width = max([least, *(measure(line, BODY) + _GAP for lines in level for line in lines)])
        self.upright = width * len(titles) > room or any(_broken(*each) for each in zip(titles, level, strict=True))
        if self.upright:
            level = [folded(title, _UPRIGHT) for title in titles]
            width = max([least, *(len(lines) * LINE + 1 for lines in level)])
        self.lines, self.pitch = level, width
        longest = max((measure(line, BODY) for lines in level for line in lines), default=0.0)
        self.height = longest if self.upright else LINE * max((len(lines) for lines in level), default=1)

    def middle(self, left: float, column: int) -> float:
        """Return the middle of a column."""
        return left + (column + 0.5) * self.pitch

    def draw(self, sheet: Sheet, left: float, bottom: float) -> None:
        """Write the titles so that they end at ``bottom``."""
        for n, lines in enumerate(self.lines):
            x = self.middle(left, n)
            for k, line in enumerate(lines):
                if self.upright:
                    sheet.text(x + (k - (len(lines) - 1) / 2) * LINE, bottom, line, upright=True)
                else:
                    sheet.text(x, bottom - (len(lines) - k - 0.5) * LINE, line, across="center")


def _broken(title: str, lines: Sequence[str]) -> bool:
    return " ".join(lines) != " ".join(title.split())


def side(labels: Sequence[str], *, bold: bool = False) -> float:
    """Return how much room labels down the side take, from the margin to the table."""
    return MARGIN + max((measure(label, BODY, bold=bold) for label in labels), default=0.0) + _GAP


def rule(sheet: Sheet, left: float, right: float, y: float) -> None:
    """Draw the faint line below a row."""
    sheet.line([(left, y), (right, y)], ink="faint", width=0.6)


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
