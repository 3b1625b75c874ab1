"""The tree of places on the screen: what differs in each, in numbers."""

from __future__ import annotations

from typing import Any

from ask_above.ask.places import PlaceOverview
from ask_above.show.data import Table
from ask_above.show.screen import Screen, cell


def show_places(screen: Screen, found: list[PlaceOverview]) -> None:
    """Show the tree."""
    screen.line("Places, and what differs in each", "head")
    screen.line()
    first = found[0].depth
    rows = []
    for spot in found:
        name = cell("  " * (spot.depth - first) + spot.called, "head" if spot.depth < 2 else "")  # noqa: PLR2004
        signs = [
            _sign("+", spot.gives, "place"),
            _sign("−", spot.takes, "no"),
            _sign("✗", spot.bars, "no"),
            _sign("*", spot.exceptions, "warn"),
            _sign("#", int(spot.gate), "place"),
            _sign("!", spot.drift, "warn"),
        ]
        rows.append([name, cell(spot.key, "dim"), cell(spot.kind, "dim"), *signs, cell(", ".join(spot.like), "dim")])
    screen.table(["Place", "Key", "Kind", "", "", "", "", "", "", "Like"], rows)
    legend = ["+ allows", "− denies", "✗ bars", "* exceptions", "# has a gate"]
    screen.items([*legend, "! contradicts the place above"], style="dim")


def _sign(mark: str, count: int, style: str) -> Any:
    return cell("" if not count else mark if count == 1 else f"{mark}{count}", style)


def place_table(found: list[PlaceOverview]) -> Table:
    """Return a row for each place."""
    columns = ("place", "title", "kind", "parent", "gives", "takes", "bars", "exceptions", "gate", "drift", "like")
    rows = (
        [s.key, s.title, s.kind, s.parent, s.gives, s.takes, s.bars, s.exceptions, s.gate, s.drift, ";".join(s.like)]
        for s in found
    )
    return Table(columns, rows)
