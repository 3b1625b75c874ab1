"""``ask-above impact``."""

from __future__ import annotations

from datetime import date
from pathlib import Path

import click

from ask_above.ask.impact.whole import Impact
from ask_above.cli.options import (
    Figure,
    community_option,
    figure_option,
    findings_format_option,
    folder,
    in_zone,
    named_register,
    open_here,
    progress,
    when_option,
    write_findings,
)
from ask_above.cli.sentence import Spoken
from ask_above.community import Community
from ask_above.show.data import put_out
from ask_above.show.impact import impact_table, show_impact


@click.command("impact", cls=Spoken)
@click.argument("old", required=False)
@click.argument("new", required=False)
@when_option
@community_option
@findings_format_option
@figure_option
def command(
    old: str | None, new: str | None, when: date | None, community: str | None, form: str, figure: Figure | None
) -> int:
    """Show who gains and who loses what, where, from one community's files to another's.

    OLD and NEW are folders, charters with the register beside them, or the community at hand as it was: numbers of the
    journal, 0 before the first change, or git:REVISION. Without NEW it is the community at hand as it is. Equal
    changes are folded together, high risk stands on top. Exit status 1 where something of high risk is gained or an
    expectation no longer holds.

    \b
    Examples:
      ask-above impact ../wren-valley-before
      ask-above impact before/charter.yaml after/charter.yaml --format md
      ask-above impact 12
      ask-above impact 12 --figure impact.png
      ask-above impact git:main --format sarif
    """
    if old is None:
        raise click.UsageError(
            "Compared with what? A folder, a number of the journal, or git:REVISION: ask-above impact 12"
        )
    before = state_of(old, community)
    after = state_of(new, community) if new is not None else open_here(community)
    with progress("Places") as told:
        impact = before.impact(after, when=in_zone(after, when), told=told)
    if figure is not None:
        from ask_above.show import figures

        figure.write(figures.impact, impact)
    elif form in ("sarif", "junit"):
        from ask_above.show import findings, junit

        status = _status(impact)
        write_findings(form, new or community, "impact", findings.of_impact(impact), junit.of_change(impact), status)
    else:
        put_out(form, lambda: impact_table(impact), lambda screen: show_impact(screen, impact))
    return _status(impact)


def _status(impact: Impact) -> int:
    return 1 if impact.risky or any(not turned.holds for turned in impact.turned) else 0


def state_of(said: str, community: str | None) -> Community:
    """Open a community's files, or the community at hand as it was."""
    if Path(said).exists() or not (said.isdecimal() or said.startswith("git:")):
        return Community.open(said)
    return Community.open(folder(community), register=named_register()).as_of(said)
