"""Who stands over whom as a figure: the three acts in one picture."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from ask_above.charter.names import SITE
from ask_above.charter.rules import ACTS, Act
from ask_above.community import Community
from ask_above.decide.acts import act_named
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.planes import Planes
from ask_above.decide.words import in_place
from ask_above.show.figures.lettering import LINE
from ask_above.show.figures.matrix import Columns, rule, side
from ask_above.show.figures.sheet import MARGIN, Sheet

if TYPE_CHECKING:
    from matplotlib.axes import Axes

ACT_MARKS: Final = {
    Act.MODERATE: ("dot", "yes", "may moderate"),
    Act.ASSIGN: ("up", "gain", "may assign"),
    Act.MANAGE: ("square", "loss", "may manage"),
    Act.CALL: ("ring", "dim", "may call"),
}
"""How each act is drawn, and what it says."""
_STEP = 7.0
_ROW = LINE + 1
_MANY = 24
"""Above so many ranks those acted on alike stand together."""


def powers(
    community: Community, axes: Axes | None = None, *, act: str | None = None, at: str = SITE, dark: bool = False
) -> Axes:
    """Draw which ranks may moderate, give and change which: acting ranks down the side, those acted on across.

    ``act`` draws one of the three alone. Each has its own shape and its own spot in a cell (rule 6.13, now).
    Ranks who act on nobody are left out; of more than two dozen, neighbours who are acted on alike stand in one column.
    Put on ``axes``, all of it shrinks to fit.

    >>> from ask_above import Community
    >>> from ask_above.show import figures
    >>> axes = figures.powers(Community.demo())
    >>> axes.texts[0].get_text()
    'Power over ranks, on the whole site'
    """
    decider = community.decider
    compiled, place = decider.compiled, decider.compiled.place_at[community.place(at).key]
    sheet = Sheet(dark=dark)
    where = in_place(compiled.places[place].called, site=place == 0)
    drawn = ACTS if act is None else (act_named(act),)
    may = {one: {(a.key, b.key) for a, b in decider.keep(Planes).pairs(one, place)} for one in drawn}
    rows, columns_of = _shown(compiled, may)
    below = "Rows act on columns."
    if len(rows) < len(compiled.ranks):
        below += " Ranks without power over others are left out."
    top = sheet.title(f"Power over ranks, {where}", below)
    titles = [compiled.ranks[n].called for n in rows]
    columns = Columns([_called(compiled, column) for column in columns_of], least=3 * _STEP + 4)
    left = side(titles)
    y = top + columns.height
    columns.draw(sheet, left, y)
    right, start = left + columns.pitch * len(columns_of), y + 4
    at_column = {rank: n for n, ranks in enumerate(columns_of) for rank in ranks}
    for n, (rank, title) in enumerate(zip(rows, titles, strict=True)):
        y = start + (n + 0.5) * _ROW
        if len(columns_of[at_column[rank]]) == 1:
            sheet.box(left + at_column[rank] * columns.pitch, y - _ROW / 2, columns.pitch, _ROW, fill="faint")
        sheet.text(MARGIN, y, title)
        rule(sheet, MARGIN, right, y + _ROW / 2)
    bottom = start + len(rows) * _ROW
    for n in range(len(columns_of) + 1):
        x = left + n * columns.pitch
        sheet.line([(x, start), (x, bottom)], ink="faint", width=0.6)
    for k, one in enumerate(drawn, start=1 - len(drawn) // 2):
        shape, ink, _ = ACT_MARKS[one]
        for n, actor in enumerate(rows):
            for m, ranks in enumerate(columns_of):
                if (compiled.ranks[actor].key, compiled.ranks[ranks[-1]].key) in may[one]:
                    sheet.mark(
                        shape, columns.middle(left, m) + (k - 1) * _STEP, start + (n + 0.5) * _ROW, ink=ink, size=6.0
                    )
    sheet.legend(bottom + 14, [*map(ACT_MARKS.__getitem__, drawn), ("square", "faint", "the rank itself")])
    return sheet.draw(axes)


def _shown(compiled: CompiledCharter, may: dict[Act, set[tuple[str, str]]]) -> tuple[list[int], list[list[int]]]:
    """Return the ranks down the side, which act on others, and those across; of very many, those alike together."""
    everyone = range(len(compiled.ranks))
    acting = {actor for pairs in may.values() for actor, _ in pairs}
    rows = [n for n in everyone if compiled.ranks[n].key in acting] or [*everyone]
    if len(everyone) <= _MANY:
        return rows, [[n] for n in everyone]
    across: list[list[int]] = []
    last: object = None
    for n in everyone:
        key = compiled.ranks[n].key
        form = tuple((compiled.ranks[row].key, key) in pairs for pairs in may.values() for row in rows), n in rows
        if across and form == last and n not in rows:
            across[-1].append(n)
        else:
            across.append([n])
        last = form
    return rows, across


def _called(compiled: CompiledCharter, ranks: list[int]) -> str:
    first, last = compiled.ranks[ranks[0]].called, compiled.ranks[ranks[-1]].called
    return first if len(ranks) == 1 else f"{first} to {last} ({len(ranks)})"
