"""``ask-above undo``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from ask_above.cli.changing import How, asked, change_options, see_through
from ask_above.cli.options import home_of
from ask_above.cli.sentence import Spoken
from ask_above.show.screen import stdout

if TYPE_CHECKING:
    from ask_above.workspace.home import Home


@click.command("undo", cls=Spoken, left_out=("last",))
@click.argument("number", required=False, type=int)
@click.option("--edits", is_flag=True, help="Drop what was edited by hand in the charter since the last change.")
@change_options
def command(number: int | None, *, edits: bool, how: How) -> int:
    """Undo a change: the latest, or the one of that number, unless a later one depends on it.

    With --edits the charter's files are put back to what the last change left, also where they cannot be read any
    more; what was edited is kept beside them.

    \b
    Examples:
      ask-above undo
      ask-above undo 12 --plan
      ask-above undo --edits
    """
    from ask_above.workspace.undoing import undo

    home = home_of(how.community)
    if edits:
        return _drop(how, home, number)
    return see_through(how, lambda: undo(home, number, by=how.by, why=how.why))


def _drop(how: How, home: Home, number: int | None) -> int:
    """Put the charter's files back, once that is wanted."""
    if number is not None or how.by:
        raise click.UsageError(
            "--edits is for the maintainer of the files and drops all edits; give nothing else with it."
        )
    if how.only_plan:
        stdout().line("Plan only: the charter's files would be as the last change left them.", "dim")
        return 0
    if not how.yes and not asked("Put the files back to what the last change left?"):
        return 1
    put = home.drop_edits()
    for name, aside in put:
        stdout().line(
            f"{name} is as the last change left it" + (f"; what it held is in {aside}." if aside else "."), "yes"
        )
    if not put:
        stdout().line("Nothing was edited since the last change.")
    return 0
