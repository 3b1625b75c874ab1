"""The tables of powers on the screen, each no with its reasons in short (rule 6.13)."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

from ask_above.ask.tables import GridCell
from ask_above.charter.names import listed
from ask_above.charter.rules import ACTS, Act
from ask_above.decide.compiled import CompiledCharter
from ask_above.show.data import Table
from ask_above.show.grid import blocks
from ask_above.show.screen import Mark, Screen

_LETTERS = {
    "no-capability": ("c", "lacks the capability"),
    "paused": ("w", "paused"),
    "call-closed": ("k", "closed to calls"),
    "behind-gate": ("g", "not admitted by the gate"),
    "no-using": ("o", "owner only"),
    "not-below": ("b", "not below"),
    "not-level": ("b", "not below"),
    "not-on-list": ("l", "not listed"),
    "not-held-gain": ("h", "may not hand on what it grants"),
    "unbounded-gain": ("u", "unbounded"),
    "kept": ("k", "kept by something outside"),
    "automatic-rank": ("a", "automatic"),
    "cannot-act": ("p", "pending"),
    "visitor-acts": ("v", "not signed in"),
}
_INITIAL = {Act.MODERATE: "M", Act.ASSIGN: "A", Act.MANAGE: "G"}
_LACKS = frozenset({"no-capability", "behind-gate", "no-using", "cannot-act", "visitor-acts"})
"""The reasons for which a rank can do an act to no other."""


@dataclass(frozen=True)
class PowerTable:
    """The cells of one act, actor by actor."""

    act: Act
    cells: Sequence[GridCell]

    def of(self, actor: str) -> list[GridCell]:
        """Return an actor's row."""
        return self.rows[actor]

    @cached_property
    def rows(self) -> dict[str, list[GridCell]]:
        """The rows by their actors."""
        found: dict[str, list[GridCell]] = {}
        for cell in self.cells:
            found.setdefault(cell.actor, []).append(cell)
        return found


def show_powers(screen: Screen, compiled: CompiledCharter, tables: Sequence[PowerTable], place: str) -> None:
    """Show who may do an act: ranks that have its capability as columns, all ranks as rows; the full form has all."""
    if len(tables) == 1 or screen.full:
        for n, table in enumerate(tables):
            if n:
                screen.line()
            screen.line(f"Power to {table.act}, {place}", "head")
            _show(screen, compiled, tables[n : n + 1], _reason)
        return
    screen.line(f"Power over ranks, {place}", "head")
    if _show(screen, compiled, tables, _acts):
        acts = [f"{_INITIAL[table.act]} {table.act}" for table in tables]
        screen.items([*acts, "(why not: ask-above powers ACT)"], style="dim")


def _reason(cells: Sequence[GridCell]) -> Mark:
    """Return the cell of one act: that it is possible, else the letters of the reasons."""
    return ("●", "yes") if cells[0].allowed else (reasons(cells[0]), "dim")


def _acts(cells: Sequence[GridCell]) -> Mark:
    """Return the cell of several acts: the first letter of each that is possible."""
    letters = "".join(_INITIAL[act] if each.allowed else " " for each, act in zip(cells, ACTS, strict=True))
    return (letters, "yes") if letters.strip() else ("·", "dim")


def _show(
    screen: Screen, compiled: CompiledCharter, tables: Sequence[PowerTable], shown: Callable[[Sequence[GridCell]], Mark]
) -> bool:
    """Show the table; return whether there is one, as there is where any rank may do an act or nearly."""
    able = [rank for rank in compiled.ranks if screen.full or any(_able(table.of(rank.key)) for table in tables)]
    if not able:
        opened = _show_open(screen, compiled, tables[0], 0)
        acts = listed((table.act for table in tables), "or")
        screen.line(f"No rank may {acts}{' any other' if opened else ''} (the reasons: --full).")
        return False
    heads = [f"{rank.position + 1:>2} {rank.called}" for rank in compiled.ranks]
    rows = {rank.key: list(zip(*(table.of(rank.key) for table in tables), strict=True)) for rank in able}
    side = max(len(head) for head in heads) + 2
    for columns, headings in blocks(able, screen.width - side):
        marks = [[shown(rows[able[column].key][n]) for column in columns] for n in range(len(heads))]
        screen.matrix(headings.heads, [((head, "head"), row) for head, row in zip(heads, marks, strict=True)])
    if len(tables) == 1:
        used = {step.code for rank in able for each in tables[0].of(rank.key) for step in each.against}
        letters = sorted({_LETTERS[code] for code in used})
        hint = f"({'' if tables[0].act is Act.CALL else 'the other ranks may not; '}all reasons: --full)"
        others = [hint] if len(able) < len(compiled.ranks) else []
        screen.items(["● may", *(f"{letter} {meaning}" for letter, meaning in letters), *others], style="dim")
        _show_open(screen, compiled, tables[0], len(able))
    return True


def _able(cells: Sequence[GridCell]) -> bool:
    """Whether a rank has what the act takes, which it lacks for every rank or for none that is closed to it."""
    refused = next((each for each in cells if not each.allowed), None)
    return refused is None or not refused.lacks(_LACKS)


def _show_open(screen: Screen, compiled: CompiledCharter, table: PowerTable, able: int) -> bool:
    """Say which ranks everyone may call, where there are some and it is asked; return whether there are."""
    titles = [rank.called for rank in compiled.ranks if rank.call_open and table.act is Act.CALL]
    if titles and able < len(compiled.ranks):
        screen.paragraph(f"Every active member may call {listed(titles)}.", rest="  ")
    return bool(titles)


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
