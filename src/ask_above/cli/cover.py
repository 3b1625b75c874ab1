"""``ask-above cover``."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

import click

from ask_above.charter.names import few, listed
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import alone, at_option, capabilities, complete, progress
from ask_above.cli.sentence import Spoken
from ask_above.show.cover import cover_table, show_by_rank, show_cover
from ask_above.show.data import Table
from ask_above.show.screen import Screen, at_most

_FEW = 6


@click.command("cover", cls=Spoken)
@click.argument("duties", nargs=-1, metavar="[CAPABILITY]...", shell_complete=complete(capabilities))
@at_option("In one place, by rank.", default=None)
@click.option(
    "--without", multiple=True, metavar="MEMBER", help="What is missing without this member; repeat for more."
)
@click.option("--enter", is_flag=True, help="Show who may enter each closed place instead.")
@asking(when=True, figure=True)
def command(
    duties: Sequence[str], at: str | None, without: Sequence[str], asked: CommandQuestion, *, enter: bool
) -> int:
    """Show how many active members may use each capability in each place; gaps first.

    Without capabilities, all of medium and high risk are taken.

    \b
    Examples:
      ask-above cover
      ask-above cover post.publish --without kofi
      ask-above cover member.mute --at river-talk
      ask-above cover --enter
      ask-above cover --figure cover.png --dark
    """
    if enter:
        alone("--enter", "when form")
        return _entering(asked)
    opened = asked.opened
    with progress("Places") as told:
        cover = opened.cover(duties or None, without=without, when=asked.when, told=told)
    place = None if at is None else opened.place(at).key
    names = listed(opened.member(key).called for key in without)
    if asked.is_drawn("cover", cover, at=place, left=names):
        return 0
    show = show_cover if place is None else partial(show_by_rank, place=place)
    return asked.answer(lambda: cover_table(cover, place), lambda screen: show(screen, cover))


def _entering(asked: CommandQuestion) -> int:
    """Show who can enter each closed place."""
    from ask_above.ask.cover import COLUMNS, closed_places

    opened = asked.opened
    shut = closed_places(opened.decider, opened.names.moment(asked.when))
    places, members = opened.decider.compiled.named, opened.register.members

    def table() -> Table:
        rows = ([c.place, places[c.place].title, c.asks, len(c.members), ";".join(c.members)] for c in shut)
        return Table(COLUMNS, rows)

    def show(screen: Screen) -> None:
        if not shut:
            screen.line("No place has a gate: everyone who sees the site may enter all of it.")
            return
        rows = []
        for c in shut:
            who = few(c.members, at_most(_FEW), called=lambda key: members[key].called)
            rows.append([places[c.place].called, c.asks.removeprefix("it requires "), f"{len(c.members):,}", who])
        screen.table(["Place", "Requires", "Members", "Admits"], rows, right=[2])

    return asked.answer(table, show)
