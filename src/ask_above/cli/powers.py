"""``ask-above powers``."""

from __future__ import annotations

from datetime import UTC, datetime

import click

from ask_above.ask.tables import power_cells
from ask_above.charter.moments import instant
from ask_above.charter.rules import ACTS, BETWEEN_RANKS
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import at_option
from ask_above.cli.sentence import Spoken
from ask_above.decide.acts import act_named
from ask_above.decide.words import in_place
from ask_above.show.powers import PowerTable, power_table, show_powers


@click.command("powers", cls=Spoken)
@click.argument("act", required=False, type=click.Choice([act.value for act in BETWEEN_RANKS]))
@at_option("Where; the whole site if left out.")
@asking(figure=True)
def command(act: str | None, at: str, asked: CommandQuestion) -> int:
    """Show which ranks may moderate, assign and manage which, and for every no the reasons; with call, call which.

    \b
    Examples:
      ask-above powers
      ask-above powers moderate --at river-talk
      ask-above powers call
      ask-above powers --figure powers.pdf
    """
    opened = asked.opened
    if asked.is_drawn("powers", opened, act=act, at=at):
        return 0
    decider, now = opened.decider, instant(datetime.now(UTC))
    place = decider.compiled.place_at[opened.place(at).key]
    tables = [
        PowerTable(each, list(power_cells(decider, each, place, now))) for each in ([act_named(act)] if act else ACTS)
    ]
    where = in_place(decider.compiled.places[place].called, site=False)[3:] if place else "whole site"
    return asked.answer(
        lambda: power_table(tables), lambda screen: show_powers(screen, decider.compiled, tables, where)
    )
