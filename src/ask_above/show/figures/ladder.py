"""The ladder as a figure: the ranks in order, with their colours, how many hold each, and how far down each reaches."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ask_above.ask.tables import Holders
from ask_above.charter.ladder import Rank
from ask_above.charter.rules import ACTS
from ask_above.community import Community
from ask_above.decide.decider import Decider
from ask_above.decide.planes import Planes
from ask_above.decide.words import HELD_BY
from ask_above.show.figures.lettering import BODY, LINE, SMALL, measure
from ask_above.show.figures.matrix import rule
from ask_above.show.figures.sheet import MARGIN, Sheet

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_BAR = 90.0
_ROW = LINE + 4
_LANE = 13.0
_MOST_ROWS = 40


def ladder(community: Community, axes: Axes | None = None, *, dark: bool = False) -> Axes:
    """Draw the ranks, highest first: colour, number of holders now, and on which ranks each may act on the whole site.

    Each rank that acts on any has a line of its own, from its place on the ladder down to the lowest it acts on.

    >>> from ask_above import Community
    >>> from ask_above.show import figures
    >>> axes = figures.ladder(Community.demo())
    >>> axes.texts[0].get_text()
    'The ladder of Wren Valley River Watch'
    """
    decider = community.decider
    compiled, now = decider.compiled, community.names.moment()
    holders = Holders(decider, now)
    held = {rank.key: len(holders.keys(rank.key)) for rank in compiled.ranks}
    sheet = Sheet(dark=dark)
    start = sheet.title(f"The ladder of {compiled.charter.title}") + LINE + 6
    names = MARGIN + 34.0
    bars = names + max((measure(rank.called, BODY, bold=True) for rank in compiled.ranks), default=0.0) + 14
    most = max([1, *(held[rank.key] for rank in compiled.ranks if not rank.automatic)])
    counts = {rank.key: _holders(rank, held[rank.key]) for rank in compiled.ranks}
    beside = max(
        (measure(counts[r.key], SMALL) + (0 if r.automatic else _BAR * held[r.key] / most) for r in compiled.ranks),
        default=0.0,
    )
    lanes = bars + beside + 22
    reach = _reaches(decider)
    # of very many ranks so many stand one below the other, and the rest beside them
    parts = -(-len(compiled.ranks) // _MOST_ROWS)
    rows = -(-len(compiled.ranks) // max(1, parts))
    wide = lanes + len(reach) * _LANE + 8
    for n, rank in enumerate(compiled.ranks):
        left, y = n // rows * wide, start + n % rows * _ROW
        if n % rows == 0:
            sheet.text(left + bars, start - LINE - 2, "Holders", size=SMALL, ink="dim")
        sheet.text(left + names - 20, y, str(n + 1), ink="dim", across="right")
        sheet.box(left + names - 14, y - 4.5, 9, 9, fill=rank.color or "", line="dim" if not rank.color else "")
        sheet.text(left + names, y, rank.called, bold=True)
        long = 0.0 if rank.automatic else _BAR * held[rank.key] / most
        if long:
            sheet.box(left + bars, y - 4, long, 8, fill="yes")
        sheet.text(left + bars + long + (5 if long else 0), y, counts[rank.key], size=SMALL, ink="dim")
        rule(sheet, left + MARGIN, left + wide - 8, y + _ROW / 2)
    for part in range(parts):
        _draw_lanes(sheet, reach, part * wide + lanes, start, range(part * rows, (part + 1) * rows))
    words = "on its line, whom it may moderate, assign or manage"
    sheet.legend(
        start + rows * _ROW + 10,
        [("down", "yes", "a rank that acts on others"), ("dot", "yes", words), ("open square", "dim", "no colour")],
    )
    return sheet.draw(axes)


def _holders(rank: Rank, count: int) -> str:
    if rank.held_by:
        return HELD_BY[rank.held_by].rstrip(",")
    limit = f" of at most {rank.limit}" if rank.limit is not None else ""
    return f"{count}{limit}{', entry rank' if rank.entry else ''}{', open' if rank.open else ''}"


def _reaches(decider: Decider) -> list[tuple[int, list[int]]]:
    """Return the positions of the ranks that act on any, each with those acted on by any act on the whole site."""
    reached: dict[int, set[int]] = {}
    for act in ACTS:
        for actor, target in decider.keep(Planes).pairs(act, 0):
            reached.setdefault(actor.position, set()).add(target.position)
    return [(actor, sorted(targets)) for actor, targets in sorted(reached.items())]


def _draw_lanes(sheet: Sheet, reach: list[tuple[int, list[int]]], left: float, start: float, shown: range) -> None:
    """Draw what of the lanes falls to the ranks that are shown here."""
    for lane, (actor, targets) in enumerate(reach):
        x = left + (lane + 0.5) * _LANE
        rows = [actor, *targets]
        first, last = max(min(rows), shown.start), min(max(rows), shown.stop - 1)
        if first > last:
            continue
        sheet.line([(x, start + (each - shown.start) * _ROW) for each in (first, last)], ink="yes", width=1.2)
        for row in rows:
            if row in shown:
                y = start + (row - shown.start) * _ROW
                shape, size = ("down", 8.0) if row == actor else ("dot", 5.5)
                sheet.mark(shape, x, y, ink="yes", size=size)
    if reach:
        sheet.text(left, start - LINE - 2, "Acts on", size=SMALL, ink="dim")
