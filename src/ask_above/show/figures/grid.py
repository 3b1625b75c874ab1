"""The grid as a figure: capabilities down the side under their headings, ranks across."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final, NamedTuple

from ask_above.charter.names import SITE
from ask_above.community import Community
from ask_above.decide.compiled import CompiledCharter
from ask_above.show.figures.lettering import BODY, LINE, measure
from ask_above.show.figures.matrix import Columns, fitting, rule, side
from ask_above.show.figures.sheet import MARGIN, Sheet
from ask_above.show.grid import ANYHOW, AT_A_PLACE, BESIDES, GIVEN, LEGEND, MEANINGLESS, NO, TAKEN, YES, marks

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_DRAWN: Final = {
    YES: ("dot", "yes"),
    BESIDES: ("ring", "yes"),
    GIVEN: ("plus", "gain"),
    ANYHOW: ("ring", "dim"),
    TAKEN: ("minus", "loss"),
    NO: ("speck", "dim"),
    MEANINGLESS: ("slash", "dim"),
}
_SIZES = {NO: 3.0, ANYHOW: 5.0, MEANINGLESS: 6.0, GIVEN: 8.0, TAKEN: 9.0}
_RISK = 12.0
_BETWEEN = 10.0
_MANY = 40
"""Above so many ranks a figure that can be read shows what they have of each heading."""
_SHARES: Final = (("all", "dot", "yes", 8.0), ("some", "ring", "yes", 7.0), ("none", "speck", "dim", 3.0))


class _GridRow(NamedTuple):
    key: str
    risky: bool
    marks: list[str]


def grid(community: Community, axes: Axes | None = None, *, at: str | None = None, dark: bool = False) -> Axes:
    """Draw capabilities by ranks: what each rank grants, builds on, withholds; with ``at`` what a place changes.

    Put on ``axes``, all of it shrinks to fit; without, on a figure as large as it takes. Raises
    :class:`~ask_above.UnknownNameError` for a place that there is not.

    >>> from ask_above import Community
    >>> from ask_above.show import figures
    >>> axes = figures.grid(Community.demo(), at="lower-gauges")
    >>> axes.texts[0].get_text()
    'Capabilities usable, by rank, in Lower gauges'
    """
    decider = community.decider
    compiled = decider.compiled
    place = None if at is None else compiled.place_at[community.place(at).key]
    where = "on the whole site" if at == SITE else f"in {compiled.places[place].called}" if place is not None else ""
    table = marks(decider, place)
    sheet = Sheet(dark=dark)
    title = f"Capabilities usable, by rank, {where}" if where else "Capabilities granted, by rank"
    if len(compiled.ranks) > _MANY:
        return _by_heading(sheet, compiled, table, title).draw(axes)
    top = sheet.title(title, compiled.charter.title)
    columns = Columns([rank.called for rank in compiled.ranks], least=15.0)
    rows = _under_headings(compiled, table)
    labels = side([f"    {key}" for key in compiled.catalogue.keys]) + _RISK
    width = labels + columns.pitch * len(compiled.ranks)
    heights = [LINE * (len(under) + 1) for _, under in rows]
    bottom = 0.0
    for n, block in enumerate(fitting(width, heights, columns.height + top)):
        left, y = n * (width + _BETWEEN), top + columns.height
        columns.draw(sheet, left + labels, y)
        y += LINE * 0.8
        for heading, under in (rows[each] for each in block):
            y = _block(sheet, columns, (left, labels), y, heading, under)
        bottom = max(bottom, y)
    words, used = LEGEND if place is None else AT_A_PLACE, {mark for row in table for mark in row}
    said = [(*_DRAWN[mark], words[mark]) for mark in words if mark in used]
    if any(capability.risk == "high" for capability in compiled.catalogue.capabilities.values()):
        said.append(("up", "loss", "high risk"))
    sheet.legend(bottom + 10, said)
    return sheet.draw(axes)


def _under_headings(compiled: CompiledCharter, table: list[list[str]]) -> list[tuple[str, list[_GridRow]]]:
    under_headings: list[tuple[str, list[_GridRow]]] = []
    for (key, each), row in zip(compiled.catalogue.capabilities.items(), table, strict=True):
        if not under_headings or under_headings[-1][0] != each.heading:
            under_headings.append((each.heading, []))
        under_headings[-1][1].append(_GridRow(key, each.risk == "high", row))
    return under_headings


def _by_heading(sheet: Sheet, compiled: CompiledCharter, table: list[list[str]], title: str) -> Sheet:
    """Draw, for very many ranks, whether each has all, some or none of what stands under a heading."""
    top = sheet.title(
        title, f"{compiled.charter.title}: of each heading; one rank or place alone shows more", room=900.0
    )
    columns = Columns([rank.called for rank in compiled.ranks], least=LINE)
    rows = _under_headings(compiled, table)
    left = side([heading for heading, _ in rows], bold=True)
    y = top + columns.height
    columns.draw(sheet, left, y)
    for heading, under in rows:
        y += LINE + 4
        sheet.text(MARGIN, y, heading, bold=True)
        for n in range(len(compiled.ranks)):
            can = [row.marks[n] in (YES, BESIDES, GIVEN) for row in under if row.marks[n] != MEANINGLESS]
            _, shape, ink, size = _SHARES[0 if can and all(can) else 1 if any(can) else 2]
            sheet.mark(shape, columns.middle(left, n), y, ink=ink, size=size)
        rule(sheet, MARGIN, left + columns.pitch * len(compiled.ranks), y + LINE / 2 + 2)
    sheet.legend(y + LINE + 10, [(shape, ink, f"{words} of what stands under it") for words, shape, ink, _ in _SHARES])
    return sheet


def _block(
    sheet: Sheet, columns: Columns, sides: tuple[float, float], y: float, heading: str, rows: list[_GridRow]
) -> float:
    """Draw what stands under one heading; return where the next goes."""
    start, labels = sides
    left, right = start + MARGIN, start + labels + columns.pitch * len(columns.lines)
    sheet.box(left - 4, y - LINE / 2, right - left + 4, LINE, fill="band")
    sheet.text(left, y, heading, bold=True)
    for row in rows:
        y += LINE
        sheet.text(left + 10, y, row.key)
        if row.risky:
            sheet.mark("up", left + 18 + measure(row.key, BODY), y, ink="loss", size=6)
        for n, mark in enumerate(row.marks):
            shape, ink = _DRAWN[mark]
            sheet.mark(shape, columns.middle(start + labels, n), y, ink=ink, size=_SIZES.get(mark, 7.0))
        rule(sheet, left, right, y + LINE / 2)
    return y + LINE
