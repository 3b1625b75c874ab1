"""``ask-above import``."""

from __future__ import annotations

from pathlib import Path

import click

from ask_above.cli.changing import How, change_options, home_of, see_through
from ask_above.cli.options import progress


@click.command("import")
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.option(
    "--status", type=click.Choice(["active", "pending", "invited"]), help="What those are whose row does not say."
)
@change_options
def command(file: Path, status: str | None, *, how: How) -> int:
    """Merge a CSV file of members: new ones, changed ones; all of it or nothing.

    Columns: key, name, email, kind, status, joined, groups, note; without a key members are found by their address, and
    new ones get a key from their name. An empty cell leaves what there is.

    \b
    Example:
      ask-above import newcomers.csv --status pending --plan
    """
    from ask_above.change.importing import COLUMNS, Import
    from ask_above.files.csv_rows import read_rows
    from ask_above.workspace.plans import Plan, plan

    home = home_of(how.community)

    def planned() -> Plan:
        rows = read_rows(file.name, file.read_bytes(), COLUMNS, ())
        with progress("Members") as told:
            return plan(home, [Import(rows, status or "", told)], by=how.by, why=how.why)

    return see_through(how, planned)
