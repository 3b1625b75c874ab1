"""``ask-above ladder``."""

from __future__ import annotations

from datetime import UTC, datetime

import click

from ask_above.ask.tables import holders
from ask_above.charter.moments import instant
from ask_above.cli.options import Figure, community_option, figure_option, format_option, open_here
from ask_above.cli.sentence import Spoken
from ask_above.show.data import put_out
from ask_above.show.ladder import ladder_table, show_ladder


@click.command("ladder", cls=Spoken)
@community_option
@format_option
@figure_option
def command(community: str | None, form: str, figure: Figure | None) -> int:
    """Show the ranks in order, highest first, and who holds each now.

    \b
    Examples:
      ask-above ladder --community wren-valley
      ask-above ladder --figure ladder.svg
    """
    opened = open_here(community)
    if figure is not None:
        from ask_above.show import figures

        figure.write(figures.ladder, opened)
        return 0
    compiled = opened.decider.compiled
    held = holders(opened.decider, instant(datetime.now(UTC)))
    put_out(form, lambda: ladder_table(compiled, held), lambda screen: show_ladder(screen, compiled, held))
    return 0
