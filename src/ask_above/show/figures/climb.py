"""Climbing as a figure: every rank's gain in numbers, or one rank's paths from move to move."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ask_above.charter.charter import Charter
from ask_above.charter.names import SITE, few, upper
from ask_above.community import Community
from ask_above.decide.words import in_place, in_places
from ask_above.escalation.moves import said
from ask_above.escalation.paths import rows as climb_rows
from ask_above.show.climb import together
from ask_above.show.figures.lettering import BODY, LINE, SMALL, folded, measure
from ask_above.show.figures.matrix import rule
from ask_above.show.figures.sheet import MARGIN, Sheet

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ask_above.escalation.paths import Climbed, ClimbPath

_MOVE, _GAIN, _GAP = 150.0, 280.0, 26.0
_FEW = 6
_BAR = 130.0
_MANY = 40
_RISKS = (("high", "up", "loss"), ("medium", "square", "warn"), ("low", "dot", "yes"))


def climb(
    community: Community,
    axes: Axes | None = None,
    *,
    rank: str | None = None,
    at: str | None = None,
    accomplice: bool = False,
    dark: bool = False,
) -> Axes:
    """Draw how far ranks can climb: all of them as numbers by risk, or ``rank`` with its paths, move by move.

    A path that is drawn through was played through; a dashed one is a bound only (rules 10.1 to 10.4).

    >>> from ask_above import Community
    >>> from ask_above.show import figures
    >>> axes = figures.climb(Community.demo(), rank="warden")
    >>> axes.texts[0].get_text()
    'Climb from River warden'
    """
    where = "" if at is None else f" {in_place(community.place(at).called, site=at == SITE)}"
    if rank is None:
        place = None if at is None else community.names.place_number(at)
        table = climb_rows(community.decider, place=place, accomplice=accomplice)
        return _all(community.charter, table, Sheet(dark=dark), where, accomplice=accomplice).draw(axes)
    climbed = community.climb(rank, at=at, accomplice=accomplice)
    return _one(community.charter, climbed, Sheet(dark=dark), where).draw(axes)


def _all(charter: Charter, table: list[tuple[Any, ...]], sheet: Sheet, where: str, *, accomplice: bool) -> Sheet:
    with_whom = ", with an accomplice of the same rank" if accomplice else ""
    below = f"{charter.title}: capabilities{where or ', each counted in every place'}"
    top = sheet.title(f"Climb: what each rank can reach beyond its capabilities{with_whom}", below)
    names = max((measure(charter.ranks[row[0]].called, BODY, bold=True) for row in table), default=0)
    most = max([1, *(max(row[2:5]) for row in table)])
    left, y = MARGIN + names + 16, top + LINE
    for n, (risk, _, _) in enumerate(_RISKS):
        sheet.text(left + n * (_BAR + 44), y - LINE, f"{risk} risk", size=SMALL, ink="dim")
    # of very many ranks those that can reach nothing stand in one line
    still = [row for row in table if not row[1] and not any(row[2:5])] if len(table) > _MANY else []
    for key, free, *counts, _ in (row for row in table if row not in still):
        sheet.text(MARGIN, y, charter.ranks[key].called, bold=True)
        if free:
            sheet.text(left, y, "everything, through an unbounded rank", size=SMALL, ink="loss", bold=True)
        for n, (count, (_, shape, ink)) in enumerate(() if free else zip(counts, _RISKS, strict=True)):
            x = left + n * (_BAR + 44)
            if count:
                sheet.box(x, y - 4, _BAR * count / most, 8, fill=ink)
                sheet.mark(shape, x + _BAR * count / most + 8, y, ink=ink, size=6)
                sheet.text(x + _BAR * count / most + 15, y, str(count), size=SMALL)
        rule(sheet, MARGIN, left + 3 * (_BAR + 44), y + LINE / 2 + 1)
        y += LINE + 2
    if still:
        titles = few((charter.ranks[row[0]].called for row in still), _FEW)
        sheet.text(MARGIN, y, f"Nothing more: {titles}", ink="dim")
        y += LINE
    sheet.legend(y + 8, [(shape, ink, f"{risk} risk") for risk, shape, ink in _RISKS])
    return sheet


def _one(charter: Charter, found: Climbed, sheet: Sheet, where: str) -> Sheet:
    title = charter.ranks[found.rank].called
    with_whom = " with one accomplice" if found.accomplice else ""
    below = "" if found.paths else "Nothing more."
    y = sheet.title(f"Climb from {title}{where}{with_whom}", below) + 8
    start = max(60.0, measure(title, BODY, bold=True) + 14)
    for paths in together(found.paths):
        y = _path(sheet, charter, paths, title, start, y)
    if found.paths:
        shown = [(shape, ink, f"{risk} risk") for risk, shape, ink in _RISKS]
        sheet.legend(
            y + 4, [*shown, ("cross", "dim", "what prevents it"), ("open square", "dim", "dashed: upper bound")]
        )
    return sheet


def _path(sheet: Sheet, charter: Charter, paths: list[ClimbPath], title: str, start: float, y: float) -> float:
    """Draw one way: the rank, its moves, what they give, what prevents it; return where the next goes."""
    first = paths[0]
    moves = [folded(upper(said(charter, move)), _MOVE - 12, SMALL) for move in first.moves]
    gains = [line for path in paths for line in _gain(charter, path)]
    cuts = [folded(cut, _GAIN - 16, SMALL) for cut in first.cuts]
    right = sum(len(lines) for _, _, lines in gains) + sum(map(len, cuts))
    high = LINE * max(1, right, *(len(lines) for lines in moves)) + 10
    middle, x = y + high / 2, MARGIN
    sheet.box(x, middle - 11, start, 22, fill="band", line="ink")
    sheet.text(x + start / 2, middle, title, bold=True, across="center")
    x += start
    for lines in moves:
        sheet.line([(x, middle), (x + _GAP - 2, middle)], dashed=not first.certain, arrow=True)
        x += _GAP
        tall = LINE * len(lines) + 8
        sheet.box(x, middle - tall / 2, _MOVE, tall, line="dim", dashed=not first.certain)
        for n, line in enumerate(lines):
            sheet.text(x + 6, middle - tall / 2 + 4 + (n + 0.5) * LINE, line, size=SMALL)
        x += _MOVE
    sheet.line([(x, middle), (x + _GAP - 2, middle)], dashed=not first.certain, arrow=True)
    x, row = x + _GAP + 4, y + (high - right * LINE) / 2 + LINE / 2
    for shape, ink, lines in [*gains, *(("cross", "dim", lines) for lines in cuts)]:
        sheet.mark(shape, x + 4, row, ink=ink)
        for line in lines:
            sheet.text(x + 14, row, line, size=SMALL, ink="dim" if shape == "cross" else "ink")
            row += LINE
    rule(sheet, MARGIN, max(sheet.width, x + _GAIN), y + high + 5)
    return y + high + 16


def _gain(charter: Charter, path: ClimbPath) -> list[tuple[str, str, list[str]]]:
    shape, ink = next((shape, ink) for risk, shape, ink in _RISKS if risk == path.risk)
    words = f"{few(path.capabilities, _FEW)} {in_places(charter.places, path.places, _FEW)}"
    return [(shape, ink, folded(words, _GAIN - 16, SMALL))]
