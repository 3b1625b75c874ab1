"""The ways to turn an answer, on the screen."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ask_above.charter.names import how_many
from ask_above.show.screen import Screen

if TYPE_CHECKING:
    from ask_above.ask.ways.search import Way, Ways

_MOST_SHOWN = 8
WAY_COLUMNS = ("way", "kinds", "file", "line", "lines", "answers", "members", "acts", "command")


def show_ways(screen: Screen, ways: Ways) -> None:
    """Show the first few ways, the smallest first."""
    screen.line()
    wanted = "no" if ways.allowed else "yes"
    if not ways:
        screen.paragraph(f"No single change, nor two together, of those that were tried would turn it to {wanted}.")
        return
    shown = min(len(ways), _MOST_SHOWN)
    screen.line(f"What would turn it to {wanted}, each tried, the least harmful first", "head")
    for n, way in enumerate(ways[:shown], 1):
        screen.paragraph(f"{way.what}.", first=f"  {n}. ", rest="     ")
        spot = f"{way.where}" if way.where.line else f"a new line in {way.where.file}" if way.where.file else ""
        size = how_many(way.lines, "line")
        screen.paragraph(
            f"{way.said_besides}; {size}{f', {spot}' if spot else ''}", first="     ", rest="     ", style="dim"
        )
        for command in way.command.split(" && "):
            screen.line(f"     → {command}")
    if len(ways) > shown:
        screen.line(f"  and {len(ways) - shown} more; --format json lists them", "dim")


def way_rows(ways: Sequence[Way]) -> list[list[object]]:
    """Return the ways as rows."""
    return [
        [
            w.what,
            ";".join(w.kinds),
            w.where.file,
            w.where.line or None,
            w.lines,
            w.answers,
            w.members,
            w.acts,
            w.command,
        ]
        for w in ways
    ]
