"""``ask-above climb``."""

from __future__ import annotations

import click

from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import at_option, complete, ranks
from ask_above.cli.sentence import Spoken
from ask_above.escalation.paths import COLUMNS, rows
from ask_above.show.climb import climb_table, show_climb, show_climbs
from ask_above.show.data import Table


@click.command("climb", cls=Spoken)
@click.argument("rank", required=False, shell_complete=complete(ranks))
@at_option("Only in this place.", default=None)
@click.option(
    "--with-accomplice", is_flag=True, help="With a second member of the same rank, each acting for the other."
)
@asking(figure=True)
def command(rank: str | None, at: str | None, asked: CommandQuestion, *, with_accomplice: bool) -> int:
    """Show how far ranks can climb by changes that the charter permits, and what prevents it.

    Joining and leaving ranks, giving themselves ranks, edits within their reach, detours. What is not shown cannot be
    reached. For one rank: each way with its moves, played through, and the single settings that would cut it.

    \b
    Examples:
      ask-above climb
      ask-above climb warden
      ask-above climb host --with-accomplice --at river-talk
      ask-above climb warden --figure climb.png
    """
    opened = asked.opened
    place = None if at is None else opened.place(at).key
    if asked.is_drawn("climb", opened, rank=rank, at=place, accomplice=with_accomplice):
        return 0
    if rank is None:
        where = None if place is None else opened.decider.compiled.place_at[place]
        climbs = rows(opened.decider, place=where, accomplice=with_accomplice)
        return asked.answer(
            lambda: Table(COLUMNS, climbs),
            lambda screen: show_climbs(screen, opened.charter, climbs, accomplice=with_accomplice),
        )
    climbed = opened.climb(rank, at=place, accomplice=with_accomplice)
    return asked.answer(lambda: climb_table(opened.charter, climbed), lambda screen: show_climb(screen, climbed))
