"""What each rank grants and what of it was used, as a figure: capabilities down the side, ranks across."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from ask_above.ask.audit.result import Audit
from ask_above.show.figures.lettering import LINE
from ask_above.show.figures.matrix import Columns, fitting, rule, side
from ask_above.show.figures.sheet import MARGIN, Sheet

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MARKS: Final = {
    "used": ("dot", "yes", "granted and used", 7.0),
    "unused": ("ring", "dim", "granted, never used", 7.0),
    "grave": ("up", "loss", "high risk, used", 8.0),
    "none": ("speck", "faint", "not granted", 3.0),
}


def usage(found: Audit, axes: Axes | None = None, *, dark: bool = False) -> Axes:
    """Draw what of all that ranks grant was used through them in the time of a log; unbounded ranks are left out.

    >>> import pandas as pd
    >>> from ask_above import Community
    >>> from ask_above.show import figures
    >>> log = pd.DataFrame(
    ...     {"member": ["tove"], "action": ["photo.upload"], "place": ["photo-wall"], "when": ["2026-05-01T12:00:00Z"]}
    ... )
    >>> figures.usage(Community.demo().audit(log)).texts[0].get_text()
    'Capabilities granted and used, by rank'
    """
    names = found.states.now.names
    compiled = names.decider.compiled
    ranks = [rank for rank in compiled.ranks if not rank.unbounded]
    used = {(capability.rank, capability.capability) for capability in found.used}
    sheet = Sheet(dark=dark)
    top = sheet.title("Capabilities granted and used, by rank", f"{names.charter.title}: {found.days} days of a log")
    columns = Columns([rank.called for rank in ranks], least=15.0)
    blocks: dict[str, list[str]] = {}
    for key, capability in compiled.catalogue.capabilities.items():
        blocks.setdefault(capability.heading, []).append(key)
    labels = side([f"    {key}" for key in compiled.catalogue.keys])
    width = labels + columns.pitch * len(ranks)
    heights = [LINE * (len(keys) + 1) for keys in blocks.values()]
    bottom, drawn = 0.0, list(blocks.items())
    for n, block in enumerate(fitting(width, heights, columns.height + top)):
        left, y = n * (width + 10), top + columns.height
        columns.draw(sheet, left + labels, y)
        y += LINE * 0.8
        for heading, keys in (drawn[capability] for capability in block):
            sheet.box(left + MARGIN - 4, y - LINE / 2, width - MARGIN + 4, LINE, fill="band")
            sheet.text(left + MARGIN, y, heading, bold=True)
            for key in keys:
                y += LINE
                sheet.text(left + MARGIN + 10, y, key)
                bit, risk = compiled.catalogue.bit[key], compiled.catalogue.capabilities[key].risk
                for column, rank in enumerate(ranks):
                    carried = bool(compiled.granted(rank) & bit)
                    kind = "none" if not carried else "unused" if (rank.key, key) not in used else "used"
                    kind = "grave" if kind == "used" and risk == "high" else kind
                    shape, ink, _, size = _MARKS[kind]
                    sheet.mark(shape, columns.middle(left + labels, column), y, ink=ink, size=size)
                rule(sheet, left + MARGIN, left + width, y + LINE / 2)
            y += LINE
        bottom = max(bottom, y)
    sheet.legend(bottom + 10, [(shape, ink, words) for shape, ink, words, _ in _MARKS.values()])
    return sheet.draw(axes)
