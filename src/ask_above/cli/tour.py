"""``ask-above tour``."""

from __future__ import annotations

import click

from ask_above.ask.tour import beside as lay_beside
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import at_option, complete, meant, people
from ask_above.cli.sentence import Spoken
from ask_above.show import tour as drawn


@click.command("tour", cls=Spoken)
@click.argument("who", shell_complete=complete(people))
@at_option("In this place and all in it.")
@click.option("--beside", metavar="OTHER", help="Compare with someone else.")
@asking(when=True)
def command(who: str, at: str, beside: str | None, asked: CommandQuestion) -> int:
    """Show the site as someone finds it: which places are open, and what they may do there.

    WHO is a member, rank:KEY or visitor. Each place shows what differs from the place above it.

    \b
    Examples:
      ask-above tour visitor
      ask-above tour bram --at river-talk
      ask-above tour bram --beside petra
    """
    opened, moment = asked.opened, asked.when
    compiled = opened.decider.compiled
    tour = opened.tour(meant(opened, who), at=at, when=moment)
    if beside is None:
        return asked.answer(lambda: drawn.tour_table(compiled, tour), lambda screen: drawn.show_tour(screen, tour))
    other = opened.tour(meant(opened, beside), at=at, when=moment)
    met, names = lay_beside(tour, other), (tour.who, other.who)
    return asked.answer(
        lambda: drawn.beside_table(compiled, met), lambda screen: drawn.show_beside(screen, compiled, names, met)
    )
