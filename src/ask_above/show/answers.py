"""An answer on the screen, and the ways to another."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from ask_above.charter.names import how_many
from ask_above.decide.answer import Answer
from ask_above.show.data import Table
from ask_above.show.screen import Screen

if TYPE_CHECKING:
    from ask_above.ask.ways.search import Way, Ways

_MOST_SHOWN = 8


def show_answer(screen: Screen, answer: Answer, *, indent: str = "") -> None:
    """Show an answer and its explanation."""
    account = answer.account
    screen.paragraph(account.sentence, first=indent, rest=f"{indent}  ", style="yes" if answer.allowed else "no")
    screen.paragraph(f"Because: {account.reason}", first=indent, rest=f"{indent}  ", style="head")
    screen.line()
    screen.line(f"{indent}Explanation:", "dim")
    for step in account.steps:
        screen.paragraph(f"{step.text} [{step.rule}]", first=f"{indent}  {step.mark} ", rest=f"{indent}    ")
    for note in account.notes:
        screen.paragraph(f"Note: {note}", first=indent, rest=f"{indent}  ", style="warn")


def show_ways(screen: Screen, ways: Ways) -> None:
    """Show the first few ways, the smallest first."""
    screen.line()
    wanted = "no" if ways.allowed else "yes"
    if not ways:
        screen.paragraph(f"No change that was tested, and no two together, gives the answer {wanted}.")
        return
    verb = "prevent" if ways.allowed else "allow"
    screen.line(f"Changes that would {verb} it (each tested, fewest side effects first)", "head")
    for n, way in enumerate(screen.some(list(ways), _MOST_SHOWN, "  "), 1):
        screen.paragraph(f"{way.what}.", first=f"  {n}. ", rest="     ")
        spot = f"{way.where}" if way.where.line else f"a new line in {way.where.file}" if way.where.file else ""
        size = how_many(way.lines, "line")
        screen.paragraph(
            f"{way.said_besides}; {size}{f', {spot}' if spot else ''}", first="     ", rest="     ", style="dim"
        )
        for command in way.command.split(" && "):
            screen.line(f"     → {command}")


def way_table(ways: Sequence[Way], answer: dict[str, Any]) -> Table:
    """Return the ways as a table; in JSON they stand with the answer that they change."""
    columns = ("way", "kinds", "file", "line", "lines", "answers", "members", "acts", "command")
    rows = [
        (w.what, ";".join(w.kinds), w.where.file, w.where.line or None, *(getattr(w, name) for name in columns[4:]))
        for w in ways
    ]
    return Table(columns, rows, {**answer, "ways": Table(columns, rows).plain})
