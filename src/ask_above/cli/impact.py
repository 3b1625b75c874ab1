"""``ask-above impact``."""

from __future__ import annotations

from pathlib import Path

import click

from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import folder, in_zone, named_register, progress, write_findings
from ask_above.cli.sentence import Spoken
from ask_above.community import Community
from ask_above.show.data import Form
from ask_above.show.impact import impact_table, show_impact


@click.command("impact", cls=Spoken)
@click.argument("old", required=False)
@click.argument("new", required=False)
@asking(when=True, figure=True, findings=True)
def command(old: str | None, new: str | None, asked: CommandQuestion) -> int:
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
    before = state_of(old, asked.community)
    after = state_of(new, asked.community) if new is not None else asked.opened
    with progress("Places") as told:
        impact = before.impact(after, when=in_zone(after, asked.typed), told=told)
    status = 1 if impact.risky or any(not turned.holds for turned in impact.turned) else 0
    if asked.is_drawn("impact", impact):
        return status
    if asked.form in (Form.SARIF, Form.JUNIT):
        from ask_above.show import findings, junit

        where = new or asked.community
        write_findings(asked.form, where, "impact", findings.of_impact(impact), junit.of_change(impact), status)
        return status
    return asked.answer(lambda: impact_table(impact), lambda screen: show_impact(screen, impact), status)


def state_of(said: str, community: str | None) -> Community:
    """Open a community's files, or the community at hand as it was."""
    # a folder called 12 is a folder: what exists is what is meant
    if Path(said).exists() or not (said.isdecimal() or said.startswith("git:")):
        return Community.open(said)
    return Community.open(folder(community), register=named_register()).as_of(said)
