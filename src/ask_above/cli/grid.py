"""``ask-above grid``."""

from __future__ import annotations

import sys

import click

from ask_above.cli.options import at_option, community_option, format_option, open_here
from ask_above.show.data import write_table
from ask_above.show.grid import grid_data, grid_rows, show_grid
from ask_above.show.screen import stdout


@click.command("grid")
@at_option("Show what can be used there, and what the place changed.", default=None)
@community_option
@format_option
def command(at: str | None, community: str | None, form: str) -> int:
    """Show capabilities by ranks, side by side: what each rank carries.

    With a place: what someone asked as each rank can use there. A capability of high risk is marked with !

    \b
    Examples:
      ask-above grid
      ask-above grid --at notices
    """
    opened = open_here(community)
    place = None if at is None else opened.decider.frame.place_at[opened.place(at).key]
    if form == "text":
        show_grid(stdout(), opened.decider, place)
    else:
        write_table(sys.stdout, form, *grid_rows(opened.decider, place), grid_data(opened.decider, place))
    return 0
