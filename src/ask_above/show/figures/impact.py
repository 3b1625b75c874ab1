"""What a change does as a figure: who gains to the right, who loses to the left, the riskiest first."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from ask_above.ask.impact.whole import Impact, Shift
from ask_above.charter.names import few, how_many
from ask_above.show.figures.lettering import BODY, LINE, SMALL, folded
from ask_above.show.figures.matrix import rule
from ask_above.show.figures.sheet import MARGIN, Sheet
from ask_above.show.impact import power_lines, when_in_words, where_in_words, who_in_words

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_BAR = 110.0
_COUNT = 84.0
"""Room for how many members it concerns, in words."""
_ROOM = 430.0
_MOST = 40
_NAMES = 8


class _ImpactRow(NamedTuple):
    shift: Shift
    head: list[str]
    below: list[str]

    @property
    def height(self) -> float:
        return LINE * (len(self.head) + len(self.below)) + 8


def impact(found: Impact, axes: Axes | None = None, *, dark: bool = False) -> Axes:
    """Draw who gains and who loses what, equal changes folded: each a bar as long as the number of members it concerns.

    What concerns a rank or visitors alone, and nobody now, has a hollow bar. Of more than forty the riskiest are drawn.

    >>> from ask_above import Community
    >>> from ask_above.show import figures
    >>> from ask_above.charter.changes import withholding
    >>> community = Community.demo()
    >>> changed = community.after(charter=withholding(community.charter, "volunteer", ["photo.upload"]))
    >>> axes = figures.impact(community.impact(changed))
    >>> axes.texts[0].get_text()
    'Who gains and who loses'
    """
    sheet = Sheet(dark=dark)
    said = how_many(len(found.members), "member gains or loses", "members gain or lose") + " a capability or power"
    top = sheet.title("Who gains and who loses", said if found else "Nobody gains or loses anything.")
    most = max([1, *(len(shift.members) for shift in found.shifts)])
    middle = MARGIN + _BAR + _COUNT
    words, y = middle + _BAR + _COUNT, top + 6
    rows = [_row(found, shift) for shift in found.shifts[:_MOST]]
    if rows:
        sheet.text(middle - 8, y, "loses", size=SMALL, ink="dim", across="right")
        sheet.text(middle + 8, y, "gains", size=SMALL, ink="dim")
        y += LINE
    start = y
    for row in rows:
        _draw(sheet, row, (middle, words), y, most)
        y += row.height
        rule(sheet, MARGIN, words + _ROOM, y - LINE / 2 - 3)
    if rows:
        sheet.line([(middle, start - LINE / 2), (middle, y - LINE / 2 - 3)], ink="ink", width=0.9)
    if len(found.shifts) > _MOST:
        sheet.text(words, y, f"and {len(found.shifts) - _MOST} more, of lower risk", ink="dim")
        y += LINE
    y = _lines(sheet, y, "Power over ranks", [(gains, text) for gains, text in power_lines(found)[:_MOST]])
    turned = [(each.holds, f"{each.text}: {'met' if each.holds else 'not met'}") for each in found.turned]
    y = _lines(sheet, y, "Expectations", turned)
    if found:
        sheet.legend(
            y + 6,
            [
                ("plus", "gain", "gains"),
                ("minus", "loss", "loses"),
                ("open square", "dim", "a rank or visitors, no member now"),
                ("up", "loss", "high risk"),
            ],
        )
    return sheet.draw(axes)


def _row(found: Impact, shift: Shift) -> _ImpactRow:
    risk = f"{shift.risk} risk; " if shift.risk != "low" else ""
    below = f"{risk}{who_in_words(found, shift)}; {where_in_words(found, shift.places)}{when_in_words(found, shift)}"
    return _ImpactRow(shift, folded(few(shift.capabilities, _NAMES), _ROOM, bold=True), folded(below, _ROOM, SMALL))


def _draw(sheet: Sheet, row: _ImpactRow, at: tuple[float, float], y: float, most: int) -> None:
    middle, words = at
    shift, sign = row.shift, 1 if row.shift.gains else -1
    ink, count = ("gain" if shift.gains else "loss"), len(shift.members)
    long = max(4.0, _BAR * count / most)
    left = middle if shift.gains else middle - long
    sheet.box(left, y - 5, long, 10, fill=ink if count else "", line=ink)
    end = middle + sign * (long + 8)
    sheet.mark("plus" if shift.gains else "minus", end, y, ink=ink)
    if count:
        said = how_many(count, "member")
        sheet.text(end + sign * 7, y, said, size=SMALL, across="left" if shift.gains else "right")
    if shift.risk == "high":
        sheet.mark("up", words - 9, y, ink="loss")
    for line in row.head:
        sheet.text(words, y, line, bold=True)
        y += LINE
    for line in row.below:
        sheet.text(words, y, line, size=SMALL, ink="dim")
        y += LINE


def _lines(sheet: Sheet, y: float, head: str, lines: list[tuple[bool, str]]) -> float:
    """Write what turns below the bars; return where it goes on."""
    if not lines:
        return y
    y += 8
    sheet.text(MARGIN, y, head, size=BODY, bold=True)
    for gains, text in lines:
        for n, line in enumerate(folded(text, _BAR * 2 + _ROOM)):
            y += LINE
            if n == 0:
                sheet.mark("plus" if gains else "minus", MARGIN + 5, y, ink="gain" if gains else "loss")
            sheet.text(MARGIN + 16, y, line)
    return y + LINE
