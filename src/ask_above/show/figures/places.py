"""The places as a figure: the tree, and where overrides, exceptions, gates and drift sit."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from ask_above.ask.places import PlaceOverview, spots
from ask_above.charter.names import SITE
from ask_above.community import Community
from ask_above.show.figures.lettering import BODY, LINE, SMALL, measure
from ask_above.show.figures.matrix import fitting, rule
from ask_above.show.figures.sheet import MARGIN, Sheet

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INDENT = 15.0
_COLUMN: Final = 26.0
_DRAWN: Final = (
    ("gives", "plus", "gain", "allows, to how many"),
    ("takes", "minus", "loss", "denies, to how many"),
    ("bars", "cross", "loss", "bars, how many"),
    ("exceptions", "diamond", "warn", "exceptions, how many"),
    ("gate", "square", "yes", "has a gate"),
    ("closed_above", "open square", "yes", "behind the gate of a place above"),
    ("drift", "slash", "warn", "contradicts the place above"),
)
"""What is marked at a place: its name in a spot, how it is drawn, what it says."""


def places(community: Community, axes: Axes | None = None, *, at: str = SITE, dark: bool = False) -> Axes:
    """Draw the tree of places with what differs in each: how many entries give, take, bar; exceptions, gates, drift.

    A number beside a mark tells how many ranks, groups or members where it is more than one. ``at`` draws a part of the
    tree. What behind the gate of a place above says so.

    >>> from ask_above import Community
    >>> from ask_above.show import figures
    >>> axes = figures.places(Community.demo(), at="field")
    >>> axes.texts[0].get_text()
    'Field work: overrides'
    """
    compiled = community.decider.compiled
    overviews = spots(compiled, community.place(at).key)
    sheet = Sheet(dark=dark)
    where = compiled.charter.title if at == SITE else overviews[0].title
    top = sheet.title(f"{where}: overrides")
    labels = max(_label(spot) for spot in overviews) + 14
    width = labels + _COLUMN * len(_DRAWN) + max(measure(_like(spot), SMALL) for spot in overviews) + 16
    # each branch below the top stands in one piece
    cuts = [n for n, spot in enumerate(overviews) if n == 0 or spot.depth <= overviews[0].depth + 1]
    branches = [overviews[n:end] for n, end in zip(cuts, [*cuts[1:], len(overviews)], strict=True)]
    heights = [len(branch) * LINE for branch in branches]
    bottom = top
    for n, column in enumerate(fitting(width, heights, top)):
        left, y = MARGIN + n * (width + 10), top + LINE
        for branch in column:
            y = _branch(sheet, branches[branch], (left, left + labels, left + width - 10), y, overviews[0].depth)
        bottom = max(bottom, y)
    used = [each for each in _DRAWN if any(getattr(spot, each[0]) for spot in overviews)]
    sheet.legend(bottom + 8, [(shape, ink, words) for _, shape, ink, words in used])
    return sheet.draw(axes)


def _label(spot: PlaceOverview) -> float:
    return spot.depth * _INDENT + measure(spot.called, BODY, bold=spot.depth < 2) + 6 + measure(spot.kind, SMALL)  # noqa: PLR2004


def _like(spot: PlaceOverview) -> str:
    return f"like {', '.join(spot.like)}" if spot.like else ""


def _branch(
    sheet: Sheet, branch: list[PlaceOverview], sides: tuple[float, float, float], y: float, first: int
) -> float:
    """Draw a place and all below it; return where the next goes."""
    left, marks, right = sides
    trunk: dict[int, float] = {}
    for spot in branch:
        depth = spot.depth - first
        x = left + depth * _INDENT
        if depth and depth - 1 in trunk:
            sheet.line([(x - 9, trunk[depth - 1] + 6), (x - 9, y), (x - 2, y)], ink="dim", width=0.7)
        trunk[depth] = y
        long = sheet.text(x, y, spot.called, bold=spot.depth < 2)  # noqa: PLR2004
        sheet.text(x + long + 6, y, spot.kind, size=SMALL, ink="dim")
        for n, (name, shape, ink, _) in enumerate(_DRAWN):
            count = int(getattr(spot, name))
            if count:
                sheet.mark(shape, marks + n * _COLUMN + 5, y, ink=ink)
            if count > 1:
                sheet.text(marks + n * _COLUMN + 11, y, str(count), size=SMALL, ink="dim")
        sheet.text(marks + len(_DRAWN) * _COLUMN, y, _like(spot), size=SMALL, ink="dim")
        rule(sheet, left, right, y + LINE / 2)
        y += LINE
    return y
