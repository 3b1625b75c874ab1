"""A comparison on the screen."""

from __future__ import annotations

from collections.abc import Sequence

from ask_above.ask.compare import BOTH, ONE, OTHER, Compared, Comparison
from ask_above.charter.names import how_many
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.words import in_places, with_risk
from ask_above.show.data import Table
from ask_above.show.screen import Screen


def show_comparison(screen: Screen, comparison: Comparison, *, everything: bool = False) -> None:
    """Show what only the one may, only the other, and both: where, and in full through what.

    With ``everything`` that is shown of what both may too.
    """
    one, other = comparison.one, comparison.other
    screen.line(f"{one} and {other}, side by side", "head")
    if comparison.how:
        screen.line(f"{one} {'was ' if comparison.how == 'copied from' else ''}{comparison.how} {other}.", "dim")
    for who, said, style in ((ONE, f"Only {one}", "yes"), (OTHER, f"Only {other}", "place"), (BOTH, "Both", "")):
        rows = comparison.of(who)
        screen.line()
        screen.line(f"{said}: {how_many(len(rows), 'capability', 'capabilities') if rows else 'nothing'}", style)
        if who == BOTH and not everything:
            names = [row.capability for row in rows]
            if names:
                screen.paragraph(", ".join(names), first="  ", rest="  ")
        elif screen.full or everything:
            _in_full(screen, comparison.compiled, rows)
        else:
            _in_short(screen, comparison.compiled, rows)
    if any(row.places and row.who != BOTH for row in comparison.rows) and not (screen.full or everything):
        screen.line()
        screen.line("Through what: --full", "dim")
    if comparison.perks:
        screen.head("Perks")
        for sentence in comparison.perks:
            screen.paragraph(sentence, first="  ", rest="    ")


def _in_short(screen: Screen, compiled: CompiledCharter, rows: Sequence[Compared]) -> None:
    """Show capabilities by the places where they differ; of what ranks grant, each with what brings it."""
    by_places: dict[tuple[str, ...], list[str]] = {}
    side = max((len(_risky(compiled, row)) for row in rows if not row.places), default=0)
    for row in rows:
        if row.places:
            by_places.setdefault(row.places, []).append(_risky(compiled, row))
        else:
            screen.paragraph(row.one or row.other, first=f"  {_risky(compiled, row):{side}}  ", rest=" " * (side + 4))
    for places, names in by_places.items():
        screen.paragraph(f"{', '.join(names)} {in_places(compiled.named, places, 3)}", first="  ", rest="    ")


def _in_full(screen: Screen, compiled: CompiledCharter, rows: Sequence[Compared]) -> None:
    for row in rows:
        where = f" {in_places(compiled.named, row.places, len(row.places))}" if row.places else ""
        screen.paragraph(f"{_risky(compiled, row)}{where}", first="  ", rest="    ")
        for said in dict.fromkeys(filter(None, (row.one, row.other))):
            screen.paragraph(said, first="      ", rest="      ", style="dim")


def _risky(compiled: CompiledCharter, row: Compared) -> str:
    return with_risk(row.capability, compiled.catalogue.capabilities[row.capability].risk)


def comparison_table(comparisons: Sequence[Comparison]) -> Table:
    """Return a row for each capability of each comparison; places joined by ``;``."""
    rows = [
        [comparison.one, comparison.other, row.capability, row.who, ";".join(row.places), row.one, row.other]
        for comparison in comparisons
        for row in comparison.rows
    ]
    return Table(("one", "other", "capability", "who", "places", "through_one", "through_other"), rows)
