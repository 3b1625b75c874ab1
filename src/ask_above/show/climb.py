"""How far ranks can climb, on the screen."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from ask_above.charter.charter import Charter
from ask_above.charter.names import SITE, few, listed, upper
from ask_above.decide.words import in_place, in_places, with_risk
from ask_above.escalation.moves import said, sentence
from ask_above.show.data import Table
from ask_above.show.screen import Screen, at_most

if TYPE_CHECKING:
    from ask_above.escalation.paths import Climbed, ClimbPath

_FEW = 6


def show_climbs(screen: Screen, charter: Charter, rows: Sequence[tuple[Any, ...]], *, accomplice: bool) -> None:
    """Show all ranks, those that reach the highest risk first."""
    with_whom = ", with one accomplice of the same rank" if accomplice else ""
    screen.line(f"Climb: what each rank can reach beyond its capabilities{with_whom}", "head")
    screen.line()
    table = []
    for key, free, high, medium, low, names in sorted(rows, key=lambda row: (not row[1], *(-n for n in row[2:5]))):
        what = ["everything, through an unbounded rank"] if free else str(names).split()
        if not (free or names):
            continue
        table.append(
            [charter.ranks[key].called, *(str(n or "·") for n in (high, medium, low)), few(what, at_most(_FEW))]
        )
    if table:
        screen.table(["Rank", "High", "Medium", "Low", "What"], table, right=(1, 2, 3))
        screen.paragraph("Numbers: capabilities of that risk, each counted in every place.", style="dim")
        screen.line()
    none = [charter.ranks[row[0]].called for row in rows if not (row[1] or row[5])]
    if none:
        screen.paragraph(f"✓ Nothing more: {listed(none)}.", rest="  ", style="yes")
    if table:
        screen.line("The way, and what prevents it: ask-above climb RANK", "dim")


def show_climb(screen: Screen, climbed: Climbed) -> None:
    """Show one rank's ways up."""
    charter, place = climbed.charter, climbed.place
    title = charter.ranks[climbed.rank].called
    with_whom = " with one accomplice" if climbed.accomplice else ""
    where = "" if place is None else f" {in_place(charter.places[place].called, site=place == SITE)}"
    if not climbed.paths:
        screen.line(f"✓ {title}{with_whom} can reach nothing{where} beyond its capabilities.", "yes")
        return
    screen.line(f"Climb from {title}{where}{with_whom}", "head")
    if climbed.free:
        screen.line("▲ Reaches an unbounded rank, and so every capability.", "warn")
    for paths in together(climbed.paths):
        screen.line()
        _ways(screen, charter, paths)
    if any(not path.certain for path in climbed.paths):
        screen.line()
        screen.paragraph("An upper bound: it may not be reachable.", style="dim")


def together(paths: Sequence[ClimbPath]) -> list[list[ClimbPath]]:
    """Return the paths that go by the same moves together, in their order."""
    found: dict[tuple[Any, ...], list[ClimbPath]] = {}
    for path in paths:
        found.setdefault((path.moves, path.certain, path.cuts), []).append(path)
    return list(found.values())


def _ways(screen: Screen, charter: Charter, paths: Sequence[ClimbPath]) -> None:
    first = paths[0]
    moves = [said(charter, move) for move in first.moves]
    for n, move in enumerate(moves, 1):
        number = f"{n}. " if len(moves) > 1 else ""
        screen.paragraph(f"{number}{upper(move)}", first="  ", rest="     ", style="head")
    for path in paths:
        style = "warn" if path.risk == "high" else ""
        what = with_risk(", ".join(path.capabilities), path.risk)
        screen.paragraph(
            f"→ {what} {in_places(charter.places, path.places, at_most(_FEW))}",
            first="     ",
            rest="       ",
            style=style,
        )
    if not first.certain:
        screen.paragraph(f"upper bound: {first.why}", first="     ", rest="     ", style="dim")
    if first.cuts:
        screen.paragraph(f"prevented by: {'; or '.join(first.cuts)}", first="     ", rest="     ", style="yes")
    else:
        screen.line("     no single setting that was tested prevents it", "dim")


def climb_table(charter: Charter, climbed: Climbed) -> Table:
    """Return a row for each capability and place."""
    rows = [
        (
            climbed.rank,
            path.risk,
            name,
            place,
            path.certain,
            sentence(charter, path.moves),
            path.why,
            "; ".join(path.cuts),
        )
        for path in climbed.paths
        for name in path.capabilities
        for place in path.places
    ]
    columns = ("rank", "risk", "capability", "place", "certain", "moves", "why", "cuts")
    return Table(columns, rows, _plain(charter, climbed))


def _plain(charter: Charter, climbed: Climbed) -> dict[str, Any]:
    return {
        "rank": climbed.rank,
        "accomplice": climbed.accomplice,
        "unbounded": climbed.free,
        "paths": [
            {
                "capabilities": list(path.capabilities),
                "places": list(path.places),
                "risk": path.risk,
                "certain": path.certain,
                "moves": [
                    {"kind": m.kind, "rank": m.rank, "place": m.place, "names": list(m.names), "said": said(charter, m)}
                    for m in path.moves
                ],
                "why": path.why,
                "cuts": list(path.cuts),
            }
            for path in climbed.paths
        ],
    }
