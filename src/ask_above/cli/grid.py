"""``ask-above grid``."""

from __future__ import annotations

import sys

import click

from ask_above.cli.options import Figure, at_option, community_option, figure_option, format_option, open_here
from ask_above.show.data import write_table
from ask_above.show.grid import grid_data, grid_rows, show_grid
from ask_above.show.screen import stdout


@click.command("grid")
@at_option("Show what can be used there, and what the place changed.", default=None)
@community_option
@format_option
@figure_option
def command(at: str | None, community: str | None, form: str, figure: Figure | None) -> int:
    """Show capabilities by ranks, side by side: what each rank carries.

    With a place: what someone asked as each rank can use there. A capability of high risk is marked with !

    \b
    Examples:
      ask-above grid
      ask-above grid --at notices
      ask-above grid --at lower-gauges --figure grid.png
    """
    opened = open_here(community)
    place = None if at is None else opened.decider.compiled.place_at[opened.place(at).key]
    if figure is not None:
        from ask_above.show import figures

        figure.write(figures.grid, opened, at=at)
    elif form == "text":
        show_grid(stdout(), opened.decider, place)
    else:
        write_table(sys.stdout, form, *grid_rows(opened.decider, place), grid_data(opened.decider, place))
    return 0
