"""``ask-above climb``."""

from __future__ import annotations

import click

from ask_above.cli.options import (
    Figure,
    at_option,
    community_option,
    complete,
    figure_option,
    format_option,
    open_here,
    ranks,
)
from ask_above.cli.sentence import Spoken
from ask_above.escalation.overview import COLUMNS, rows
from ask_above.show.climb import climb_table, show_climb, show_climbs
from ask_above.show.data import Table, put_out


@click.command("climb", cls=Spoken)
@click.argument("rank", required=False, shell_complete=complete(ranks))
@at_option("Only in this place.", default=None)
@click.option(
    "--with-accomplice", is_flag=True, help="With a second member of the same rank, each acting for the other."
)
@community_option
@format_option
@figure_option
def command(
    rank: str | None, at: str | None, community: str | None, form: str, figure: Figure | None, *, with_accomplice: bool
) -> int:
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
    opened = open_here(community)
    place = None if at is None else opened.place(at).key
    if figure is not None:
        from ask_above.show import figures

        figure.write(figures.climb, opened, rank=rank, at=place, accomplice=with_accomplice)
        return 0
    if rank is None:
        where = None if place is None else opened.decider.compiled.place_at[place]
        climbs = rows(opened.decider, place=where, accomplice=with_accomplice)
        put_out(
            form,
            lambda: Table(COLUMNS, climbs),
            lambda screen: show_climbs(screen, opened.charter, climbs, accomplice=with_accomplice),
        )
        return 0
    climbed = opened.climb(rank, at=place, accomplice=with_accomplice)
    put_out(form, lambda: climb_table(opened.charter, climbed), lambda screen: show_climb(screen, climbed))
    return 0
