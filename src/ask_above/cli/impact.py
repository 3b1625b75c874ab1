"""``ask-above impact``."""

from __future__ import annotations

import sys
from datetime import date
from pathlib import Path

import click

from ask_above.ask.impact.whole import COLUMNS
from ask_above.cli.options import Figure, figure_option, in_zone, open_here, progress, question_options
from ask_above.cli.sentence import Spoken
from ask_above.community import Community
from ask_above.show.data import write_table
from ask_above.show.impact import impact_data, show_impact
from ask_above.show.screen import stdout


@click.command("impact", cls=Spoken)
@click.argument("old")
@click.argument("new", required=False)
@question_options
@figure_option
def command(
    old: str, new: str | None, when: date | None, community: str | None, form: str, figure: Figure | None
) -> int:
    """Show who gains and who loses what, where, from one community's files to another's.

    OLD and NEW are folders, charters with the register beside them, or numbers of the journal: the community at hand
    as that change left it, 0 as it was before the first. Without NEW it is the community at hand as it is. Equal
    changes are folded together, high risk stands on top. Exit status 1 where something of high risk is gained or an
    expectation no longer holds.

    \b
    Examples:
      ask-above impact ../wren-valley-before
      ask-above impact before/charter.yaml after/charter.yaml --format md
      ask-above impact 12
      ask-above impact 12 --figure impact.png
    """
    before = _opened(old, community)
    after = _opened(new, community) if new is not None else open_here(community)
    with progress("Places") as told:
        found = before.impact(after, when=in_zone(after, when), told=told)
    if figure is not None:
        from ask_above.show import figures

        figure.write(figures.impact, found)
    elif form == "text":
        show_impact(stdout(), found)
    elif form == "json":
        write_table(sys.stdout, form, COLUMNS, (), impact_data(found))
    else:
        write_table(sys.stdout, form, COLUMNS, found.rows())
    return 1 if found.risky or any(not each.holds for each in found.turned) else 0


def _opened(said: str, community: str | None) -> Community:
    """Open a community's files, or the community at hand as a change left it."""
    if not said.isdecimal() or Path(said).exists():
        return Community.open(said)
    from ask_above.cli.changing import home_of
    from ask_above.workspace.undoing import as_of

    return Community(*as_of(home_of(community), int(said)))
