"""``ask-above cover``."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from datetime import date

import click

from ask_above.charter.names import listed
from ask_above.cli.options import (
    Figure,
    at_option,
    capabilities,
    community_option,
    complete,
    figure_option,
    format_option,
    in_zone,
    open_here,
    progress,
    when_option,
)
from ask_above.cli.sentence import Spoken
from ask_above.show.cover import cover_rows, show_by_rank, show_cover
from ask_above.show.data import write_table
from ask_above.show.screen import stdout


@click.command("cover", cls=Spoken)
@click.argument("duties", nargs=-1, metavar="[CAPABILITY]...", shell_complete=complete(capabilities))
@at_option("At one place, by the rank of those who can.", default=None)
@click.option("--without", multiple=True, metavar="MEMBER", help="What breaks when they leave; again and again.")
@when_option
@community_option
@format_option
@figure_option
def command(
    duties: Sequence[str],
    at: str | None,
    without: Sequence[str],
    when: date | None,
    community: str | None,
    form: str,
    figure: Figure | None,
) -> int:
    """Show how many active members can do each duty at each place; what nobody or one alone can do stands on top.

    Without capabilities, all of medium and high risk are taken.

    \b
    Examples:
      ask-above cover
      ask-above cover post.publish --without kofi
      ask-above cover member.mute --at river-talk
      ask-above cover --figure cover.png --dark
    """
    opened = open_here(community)
    moment = in_zone(opened, when)
    with progress("Places") as told:
        found = opened.cover(duties or None, without=without, when=moment, told=told)
    place = None if at is None else opened.place(at).key
    names = listed(opened.member(key).called for key in without)
    if figure is not None:
        from ask_above.show import figures

        figure.write(figures.cover, found, at=place, left=names)
    elif form != "text":
        write_table(sys.stdout, form, *cover_rows(found, place))
    elif place is not None:
        show_by_rank(stdout(), found, place)
    else:
        show_cover(stdout(), found)
    return 0
