"""``ask-above ladder``."""

from __future__ import annotations

from datetime import UTC, datetime

import click

from ask_above.charter.moments import instant
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.sentence import Spoken
from ask_above.show.ladder import ladder_table, show_ladder


@click.command("ladder", cls=Spoken)
@asking(figure=True)
def command(asked: CommandQuestion) -> int:
    """Show the ranks in order, highest first, and who holds each now.

    \b
    Examples:
      ask-above ladder --community wren-valley
      ask-above ladder --figure ladder.svg
    """
    opened = asked.opened
    if asked.is_drawn("ladder", opened):
        return 0
    decider, at = opened.decider, instant(datetime.now(UTC))
    return asked.answer(lambda: ladder_table(decider, at), lambda screen: show_ladder(screen, decider, at))
