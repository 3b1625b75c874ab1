"""A comparison on the screen."""

from __future__ import annotations

from collections.abc import Sequence

from ask_above.ask.compare import BOTH, ONE, OTHER, Compared, Comparison
from ask_above.charter.names import few
from ask_above.decide.compiled import CompiledCharter
from ask_above.show.data import Table
from ask_above.show.screen import Screen


def show_comparison(screen: Screen, comparison: Comparison, *, everything: bool = False) -> None:
    """Show what only the one may, only the other, and, with ``everything``, what both may."""
    one, other, compiled = comparison.one, comparison.other, comparison.compiled
    tie = f"{one} {comparison.how} {other}" if comparison.how else f"{one} and {other}"
    screen.line(f"{tie}, side by side", "head")
    for who, said, style in ((ONE, f"Only {one}", "yes"), (OTHER, f"Only {other}", "place"), (BOTH, "Both", "")):
        rows = comparison.of(who)
        screen.line()
        screen.line(f"{said}: {len(rows) or 'nothing'}", style)
        if who == BOTH and not everything:
            names = [row.capability for row in rows]
            if names:
                screen.paragraph(", ".join(names), first="  ", rest="  ")
            continue
        for row in rows:
            _row(screen, compiled, row)

    if comparison.perks:
        screen.head("Perks")
        for sentence in comparison.perks:
            screen.paragraph(sentence, first="  ", rest="    ")


def _row(screen: Screen, compiled: CompiledCharter, row: Compared) -> None:
    risk = " !" if compiled.catalogue.capabilities[row.capability].risk == "high" else ""
    screen.line(f"  {row.capability}{risk}{_places(compiled, row.places)}")
    for said in dict.fromkeys(filter(None, (row.one, row.other))):
        screen.paragraph(said, first="      ", rest="      ", style="dim")


def _places(compiled: CompiledCharter, places: Sequence[str]) -> str:
    if not places:
        return ""
    titles = (compiled.named[key].title if key != "site" else "the whole site" for key in places)
    return f"  in {few(titles, 3)}"


def comparison_table(comparisons: Sequence[Comparison]) -> Table:
    """Return a row for each capability of each comparison; places joined by ``;``."""
    rows = [
        [comparison.one, comparison.other, row.capability, row.who, ";".join(row.places), row.one, row.other]
        for comparison in comparisons
        for row in comparison.rows
    ]
    return Table(("one", "other", "capability", "who", "places", "through_one", "through_other"), rows)
