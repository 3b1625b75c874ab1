"""Who stands over whom as a figure: the three acts in one picture."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from ask_above.ask.tables import allowed_powers
from ask_above.charter.names import SITE
from ask_above.charter.rules import ACTS
from ask_above.community import Community
from ask_above.decide.words import in_place
from ask_above.show.figures.matrix import Columns, rule, side
from ask_above.show.figures.sheet import LINE, MARGIN, Sheet

if TYPE_CHECKING:
    from matplotlib.axes import Axes

ACT_MARKS: Final = {
    "moderate": ("dot", "yes", "may moderate"),
    "assign": ("up", "gain", "may give"),
    "manage": ("square", "loss", "may change"),
}
"""How each act is drawn, and what it says."""
_STEP = 7.0
_ROW = LINE + 1


def powers(
    community: Community, axes: Axes | None = None, *, act: str | None = None, at: str = SITE, dark: bool = False
) -> Axes:
    """Draw which ranks may moderate, give and change which: acting ranks down the side, those acted on across.

    ``act`` draws one of the three alone. Each has its own shape and its own spot in a cell (rule 6.13, now).
    Put on ``axes``, all of it shrinks to fit.

    >>> from ask_above import Community
    >>> from ask_above.show import figures
    >>> axes = figures.powers(Community.demo())
    >>> axes.texts[0].get_text()
    'Who stands over whom, on the whole site'
    """
    decider = community.decider
    compiled, place = decider.compiled, decider.compiled.place_at[community.place(at).key]
    now = community.names.moment()
    sheet = Sheet(dark=dark)
    where = in_place(compiled.places[place].title, site=place == 0)
    top = sheet.title(f"Who stands over whom, {where}", "Down the side: who acts. Across: on whom.")
    titles = [rank.title for rank in compiled.ranks]
    columns = Columns(titles, least=3 * _STEP + 4)
    left = side(titles)
    y = top + columns.height
    columns.draw(sheet, left, y)
    right, start = left + columns.pitch * len(titles), y + 4
    for n, title in enumerate(titles):
        y = start + (n + 0.5) * _ROW
        sheet.box(left + n * columns.pitch, y - _ROW / 2, columns.pitch, _ROW, fill="faint")
        sheet.text(MARGIN, y, title)
        rule(sheet, MARGIN, right, y + _ROW / 2)
    bottom = start + len(titles) * _ROW
    for n in range(len(titles) + 1):
        x = left + n * columns.pitch
        sheet.line([(x, start), (x, bottom)], ink="faint", width=0.6)
    drawn = ACTS if act is None else (act,)
    for k, each in enumerate(drawn, start=1 - len(drawn) // 2):
        shape, ink, _ = ACT_MARKS[each]
        for actor, target in allowed_powers(decider, each, place, now):
            x = columns.middle(left, compiled.rank_at[target]) + (k - 1) * _STEP
            sheet.mark(shape, x, start + (compiled.rank_at[actor] + 0.5) * _ROW, ink=ink, size=6.0)
    sheet.legend(bottom + 14, [*(ACT_MARKS[each] for each in drawn), ("square", "faint", "the rank itself")])
    return sheet.draw(axes)
