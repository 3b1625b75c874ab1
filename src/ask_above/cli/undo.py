"""``ask-above undo``."""

from __future__ import annotations

import click

from ask_above.cli.changing import How, change_options, home_of, see_through
from ask_above.cli.sentence import Spoken


@click.command("undo", cls=Spoken)
@click.argument("number", required=False, type=int)
@change_options
def command(number: int | None, *, how: How) -> int:
    """Take one change back: the last, or the one of that number, if nothing later depends on it.

    \b
    Examples:
      ask-above undo
      ask-above undo 12 --plan
    """
    from ask_above.workspace.undoing import undo

    home = home_of(how.community)
    return see_through(how, lambda: undo(home, number, by=how.by, why=how.why))
