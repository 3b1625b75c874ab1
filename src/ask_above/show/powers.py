"""The tables of powers on the screen, each no with its reasons in short (rule 6.13)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

from ask_above.ask.tables import GridCell
from ask_above.charter.names import listed
from ask_above.charter.rules import Act
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.words import VERBS
from ask_above.show.data import Table
from ask_above.show.grid import blocks, show_legend
from ask_above.show.headings import Headings
from ask_above.show.screen import Screen, cell, headed

_LETTERS = {
    "no-capability": ("c", "lacks the capability there"),
    "paused": ("w", "is paused"),
    "call-closed": ("k", "the rank is closed to calling"),
    "behind-gate": ("g", "is kept out by the gate there"),
    "no-using": ("o", "the owner's alone, as no capability is set"),
    "not-below": ("b", "does not stand below"),
    "not-level": ("b", "stands above"),
    "not-on-list": ("l", "the list of ranks it may act on leaves it out"),
    "not-held-gain": ("h", "may not hand on what it does not hold"),
    "unbounded-gain": ("u", "only someone unbounded makes unbounded"),
    "kept": ("k", "kept by something outside"),
    "automatic-rank": ("a", "held without being given"),
    "cannot-act": ("p", "does not act while pending"),
    "visitor-acts": ("v", "is not signed in"),
}


class PowerTable(NamedTuple):
    """The cells of one act, actor by actor."""

    act: Act
    cells: Sequence[GridCell]

    def of(self, actor: str) -> list[GridCell]:
        """Return an actor's row."""
        return [each for each in self.cells if each.actor == actor]


def show_powers(screen: Screen, compiled: CompiledCharter, tables: Sequence[PowerTable], place: str) -> None:
    """Show a table for each act, then a line for each rank."""
    for table in tables:
        screen.line(f"Who may {VERBS[table.act]} whom, {place}", "head")
        _show_table(screen, compiled, table)
        screen.line()
    screen.line("In a line each", "head")
    for rank in compiled.ranks:
        said = [
            f"may {VERBS[t.act]} {_names(compiled, [c.target for c in t.of(rank.key) if c.allowed])}" for t in tables
        ]
        screen.paragraph(f"{rank.title} {'; '.join(said)}.", rest="    ")


def _names(compiled: CompiledCharter, keys: Sequence[str]) -> str:
    return listed(compiled.charter.ranks[key].title for key in keys) if keys else "none"


def _show_table(screen: Screen, compiled: CompiledCharter, table: PowerTable) -> None:
    rows = {rank.key: table.of(rank.key) for rank in compiled.ranks}
    side = max(len(rank.title) for rank in compiled.ranks) + 2 if compiled.ranks else 8
    letters: dict[str, str] = {}
    for columns, headings in blocks(compiled, screen.width - side):
        _block(screen, compiled, rows, columns, headings)
        show_legend(screen, headings)
    for each in table.cells:
        letters.update(_LETTERS[step.code] for step in each.against)
    said = ["● may", *(f"{letter} {meaning}" for letter, meaning in sorted(letters.items()))]
    screen.items(said, style="dim")


def _block(
    screen: Screen, compiled: CompiledCharter, rows: dict[str, list[GridCell]], columns: list[int], headings: Headings
) -> None:
    from rich.table import Table

    drawn = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    drawn.add_column("", no_wrap=True)
    for head in headings.heads:
        drawn.add_column(headed(head), justify="center", vertical="bottom", overflow="fold")
    for rank in compiled.ranks:
        cells = [rows[rank.key][n] for n in columns]
        drawn.add_row(cell(rank.title, "head"), *(_cell(each) for each in cells))
    screen.draw(drawn)


def _cell(each: GridCell) -> Any:
    return cell("●", "yes") if each.allowed else cell(reasons(each), "dim")


def reasons(each: GridCell) -> str:
    """Return the letters of every reason why not, in a fixed order."""
    return "".join(sorted({_LETTERS[step.code][0] for step in each.against}))


def power_table(tables: Sequence[PowerTable]) -> Table:
    """Return the tables as one, each no with its reasons, in JSON in full."""
    cells = [(table.act, each) for table in tables for each in table.cells]
    columns = ("act", "actor", "target", "allowed", "reasons")
    rows = [(act, c.actor, c.target, c.allowed, "; ".join(step.short for step in c.against)) for act, c in cells]
    full = [(act, c.actor, c.target, c.allowed, [step.text for step in c.against]) for act, c in cells]
    return Table(columns, rows, [dict(zip(columns, row, strict=True)) for row in full])
