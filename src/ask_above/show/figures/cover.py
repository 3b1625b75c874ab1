"""Coverage as a figure: places by duties, how many can, and where nobody or one alone can."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ask_above.ask.cover import Cover
from ask_above.show.figures.lettering import BODY, LINE, SMALL, measure
from ask_above.show.figures.matrix import Columns, rule
from ask_above.show.figures.sheet import MARGIN, Sheet

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INDENT = 12.0
_ROW = LINE + 3
_MOST = 150
"""How many places a figure can hold."""


def cover(found: Cover, axes: Axes | None = None, *, at: str | None = None, left: str = "", dark: bool = False) -> Axes:
    """Draw how many active members can do each duty at each place: 0 and 1 stand out by shape and by shade.

    Places where none of the duties has a meaning are left out, and of very many all but those where most is missing;
    ``at`` draws one place alone. ``left`` names who was left out.

    >>> from ask_above import Community
    >>> from ask_above.show import figures
    >>> axes = figures.cover(Community.demo().cover(["post.publish", "member.mute"]))
    >>> axes.texts[0].get_text()
    'Cover: active members by place and capability'
    """
    compiled = found.decider.compiled
    sheet = Sheet(dark=dark)
    shown, which = _shown(found, at)
    without = f", without {left}" if left else ""
    top = sheet.title(f"Cover: active members by place and capability{without}", f"{compiled.charter.title}: {which}")
    titles = {n: compiled.places[n].called if n else "The whole site" for n in shown}
    columns = Columns(found.duties, least=26.0)
    side = MARGIN + 8 + max((_INDENT * _depth(found, n) + measure(titles[n], BODY) for n in shown), default=0.0)
    start = top + columns.height
    columns.draw(sheet, side, start)
    right = side + columns.pitch * len(found.duties)
    y = start + _ROW * 0.7
    for n in shown:
        sheet.text(MARGIN + _INDENT * _depth(found, n), y, titles[n], bold=_depth(found, n) < 2)  # noqa: PLR2004
        for k, count in enumerate(found.counts[n].tolist()):
            _count(sheet, columns.middle(side, k), y, int(count))
        rule(sheet, MARGIN, right, y + _ROW / 2)
        y += _ROW
    sheet.legend(
        y + 8,
        [
            ("square", "loss", "0: nobody"),
            ("open square", "warn", "1: only one"),
            ("slash", "dim", "does not apply there"),
        ],
    )
    return sheet.draw(axes)


def _shown(found: Cover, at: str | None) -> tuple[list[int], str]:
    """Return which places are drawn, and how to say so; of very many, those where nobody or one alone can."""
    compiled = found.decider.compiled
    places = range(len(compiled.places)) if at is None else [compiled.place_at[at]]
    shown = [n for n in places if (found.counts[n] >= 0).any()]
    if len(shown) <= _MOST:
        return shown, "places down the side, capabilities across"
    # where most is missing first, then in the order of the places
    missing = {n: int(((found.counts[n] == 0) | (found.counts[n] == 1)).sum()) for n in shown}
    first = sorted((n for n in shown if missing[n]), key=lambda n: -missing[n])[:_MOST]
    return sorted(first), f"of {len(shown)} places the {len(first)} where most duties have one member or none"


def _depth(found: Cover, place: int) -> int:
    return max(0, len(found.decider.compiled.chains[place]) - 1)


def _count(sheet: Sheet, x: float, y: float, count: int) -> None:
    if count < 0:
        sheet.mark("slash", x, y, ink="dim", size=5)
        return
    wide = max(20.0, measure(str(count), SMALL, bold=True) + 6)
    if count == 0:
        sheet.box(x - wide / 2, y - 6, wide, 12, fill="loss")
    elif count == 1:
        sheet.box(x - wide / 2, y - 6, wide, 12, line="warn")
    ink = "ground" if count == 0 else "warn" if count == 1 else "ink"
    sheet.text(x, y, str(count), size=SMALL + (0.5 if count > 1 else 0), ink=ink, bold=count < 2, across="center")  # noqa: PLR2004
