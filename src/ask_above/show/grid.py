"""The grid on the screen: capabilities down the side under their headings, ranks across."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from ask_above.ask.tables import brought_masks, grid_masks
from ask_above.charter.ladder import Rank
from ask_above.charter.names import how_many, listed
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.show.data import Table
from ask_above.show.screen import Mark, Screen
from ask_above.visible import visible

YES, BESIDES, GIVEN, TAKEN, NO, MEANINGLESS, ANYHOW = "●", "○", "+", "−", "·", "/", "◌"
LEGEND = {
    YES: "yes",
    BESIDES: "yes, through a rank it builds on",
    GIVEN: "yes, because of this place",
    TAKEN: "withheld: it would grant it otherwise",
    ANYHOW: "yes, through an automatic rank",
    NO: "no",
    MEANINGLESS: "does not apply in a place of this kind",
}
AT_A_PLACE = LEGEND | {BESIDES: "yes, through an automatic rank", TAKEN: "granted, but not usable here"}
_STYLE = {YES: "yes", BESIDES: "yes", GIVEN: "place", TAKEN: "no", NO: "dim", MEANINGLESS: "dim", ANYHOW: "dim"}


class Headings(NamedTuple):
    """Headings for columns, and the key where they are numbers."""

    heads: tuple[str, ...]
    legend: tuple[tuple[str, str], ...] = ()

    @property
    def width(self) -> int:
        """The width that the columns take, two blanks between them."""
        return sum(widest(head) + 2 for head in self.heads)


def widest(head: str) -> int:
    """Return the width of a heading of several lines."""
    return max((len(line) for line in head.split("\n")), default=0)


def fit(titles: Sequence[str], numbers: Sequence[str], room: int) -> Headings:
    """Return the fullest headings that fit into ``room``: titles, titles on several lines, else their numbers."""
    for heads in (tuple(titles), tuple(title.replace(" ", "\n").replace("-", "-\n") for title in titles)):
        if Headings(heads).width <= room:
            return Headings(heads)
    return Headings(tuple(numbers), tuple(zip(numbers, titles, strict=True)))


def marks(decider: Decider, place: int | None) -> list[list[str]]:
    """Return the mark of every cell, capability by capability."""
    compiled = decider.compiled
    ranks, bits = range(len(compiled.ranks)), [compiled.catalogue.bit[key] for key in compiled.catalogue.keys]
    carried, brought = grid_masks(decider, None), brought_masks(decider)
    if place is None:
        inherited, withheld = [_inherited(compiled, n) for n in ranks], [_withheld(compiled, n) for n in ranks]
        masks = [*zip(carried, inherited, brought, withheld, strict=True)]
        return [
            [
                (BESIDES if through & bit else YES)
                if own & bit
                else (ANYHOW if anyhow & bit else TAKEN if taken & bit else NO)
                for own, through, anyhow, taken in masks
            ]
            for bit in bits
        ]
    meaning, masks_here = compiled.has_meaning(place), [*zip(grid_masks(decider, place), carried, brought, strict=True)]
    return [
        [
            (YES if own & bit else BESIDES if anyhow & bit else GIVEN) if can & bit else (TAKEN if anyhow & bit else NO)
            for can, own, anyhow in masks_here
        ]
        if meaning & bit
        else [MEANINGLESS] * len(ranks)
        for bit in bits
    ]


def _inherited(compiled: CompiledCharter, position: int) -> int:
    """Return what a rank grants only because of the ranks it builds on."""
    rank = compiled.ranks[position]
    own = compiled.catalogue.close(compiled.catalogue.expand_all(rank.grants))
    return 0 if rank.unbounded else compiled.carried[position] & ~own


def _withheld(compiled: CompiledCharter, position: int) -> int:
    """Return what a rank would grant if it withheld nothing (rule 3.3)."""
    rank, catalogue = compiled.ranks[position], compiled.catalogue
    total = catalogue.close(catalogue.expand_all(rank.grants))
    for key in rank.builds_on:
        total |= compiled.granted(key)
    return 0 if rank.unbounded else total & ~compiled.carried[position]


def show_grid(screen: Screen, decider: Decider, place: int | None) -> None:
    """Show the grid; ranks that do not fit side by side follow in further blocks."""
    compiled = decider.compiled
    title = "granted, by rank" if place is None else f"usable, by rank, in {compiled.places[place].called}"
    screen.line(f"Capabilities {title}", "head")
    table = marks(decider, place)
    side = max((len(key) for key in compiled.catalogue.keys), default=10) + 4
    used: set[str] = set()
    for columns, headings in blocks(compiled.ranks, screen.width - side):
        screen.line()
        show_legend(screen, headings)
        _block(screen, compiled, table, columns, headings)
        used |= {row[n] for row in table for n in columns}
    legend = [f"{mark} {said}" for mark, said in (LEGEND if place is None else AT_A_PLACE).items() if mark in used]
    if any(capability.risk == "high" for capability in compiled.catalogue.capabilities.values()):
        legend.append("! high risk")
    screen.items(legend, style="dim")
    paused = [rank.called for rank in compiled.ranks if rank.paused]
    if paused:
        be, them = ("is", "it") if len(paused) == 1 else ("are", "them")
        screen.paragraph(f"{listed(paused)} {be} paused; nobody has {them} now.", rest="  ")
    changed = sum(row[n] in (GIVEN, TAKEN) for row in table for n in range(len(compiled.ranks)))
    if place is not None:
        screen.line(f"The place changes {how_many(changed, 'answer')}.")


def blocks(ranks: Sequence[Rank], room: int) -> Iterator[tuple[list[int], Headings]]:
    """Yield the numbers of ranks in blocks that fit into ``room``, with their headings."""
    start = 0
    while start < len(ranks):
        size = len(ranks) - start
        while True:
            part = ranks[start : start + size]
            headings = fit([visible(rank.called) for rank in part], [str(rank.position + 1) for rank in part], room)
            if headings.width <= room or size == 1:
                break
            size -= 1
        yield list(range(start, start + size)), headings
        start += size


def show_legend(screen: Screen, headings: Headings) -> None:
    """Say which ranks the numbers stand for."""
    if headings.legend:
        screen.items((f"{number} {title}" for number, title in headings.legend), style="dim")


def _block(
    screen: Screen, compiled: CompiledCharter, table: list[list[str]], columns: list[int], headings: Headings
) -> None:
    rows: list[tuple[Mark, list[Mark]]] = []
    heading = None
    for row, capability in zip(table, compiled.catalogue.capabilities.values(), strict=True):
        if capability.heading != heading:
            heading = capability.heading
            rows.append(((heading, "head"), []))
        risk = " !" if capability.risk == "high" else ""
        rows.append(((f"  {capability.key}{risk}", ""), [(row[n], _STYLE[row[n]]) for n in columns]))
    screen.matrix(headings.heads, rows)


def grid_table(decider: Decider, place: int | None) -> Table:
    """Return the grid: true and false by rank."""
    compiled, masks = decider.compiled, grid_masks(decider, place)
    ranks = [rank.key for rank in compiled.ranks]
    rows = [
        [capability.heading, key, *(bool(mask & compiled.catalogue.bit[key]) for mask in masks)]
        for key, capability in compiled.catalogue.capabilities.items()
    ]
    data = [{"heading": row[0], "capability": row[1], "ranks": dict(zip(ranks, row[2:], strict=True))} for row in rows]
    return Table(("heading", "capability", *ranks), rows, data)
