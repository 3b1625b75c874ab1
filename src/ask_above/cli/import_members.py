"""``ask-above import``."""

from __future__ import annotations

from pathlib import Path

import click

from ask_above.cli.changing import How, asked, change_options, home_of, see_through
from ask_above.cli.options import progress
from ask_above.cli.sentence import Spoken
from ask_above.show.screen import stdout


@click.command("import", cls=Spoken)
@click.argument("file", required=False, type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.option(
    "--status", type=click.Choice(["active", "pending", "invited"]), help="What those are whose row does not say."
)
@click.option("--anew", is_flag=True, help="Start anew from the two CSV files; the database is put aside.")
@change_options
def command(file: Path | None, status: str | None, *, anew: bool, how: How) -> int:
    """Merge a CSV file into the register: new ones, changed ones; all of it or nothing.

    A file of members has the columns key, name, email, kind, status, joined, groups, note, id, user_name, external_id,
    was; without a key members are found by their address, and new ones get a key from their name. An empty cell leaves
    what there is. A file with the columns member and rank is one of assignments: those that are not held are given.

    \b
    Examples:
      ask-above import newcomers.csv --status pending --plan
      ask-above import assignments.put-aside.csv
      ask-above import --anew
    """
    if anew == (file is not None):
        raise click.UsageError("Name a file to merge, or say --anew; one of the two.")
    if file is None:
        return _anew(how)
    from ask_above.change.importing import COLUMNS, Import, ImportAssignments
    from ask_above.files.csv_rows import read_rows
    from ask_above.people.reading import ASSIGNMENT_COLUMNS
    from ask_above.workspace.plans import Plan, plan

    home = home_of(how.community)

    def planned() -> Plan:
        content = file.read_bytes()
        given = _is_of_assignments(content)
        rows = read_rows(file.name, content, ASSIGNMENT_COLUMNS if given else COLUMNS, ())
        with progress("Assignments" if given else "Members") as told:
            edit = ImportAssignments(rows, told) if given else Import(rows, status or "", told)
            return plan(home, [edit], by=how.by, why=how.why)

    return see_through(how, planned)


def _is_of_assignments(content: bytes) -> bool:
    first = content.decode("utf-8-sig", errors="replace").partition("\n")[0]
    columns = {cell.strip().strip('"') for cell in first.split(",")}
    return {"member", "rank"} <= columns


def _anew(how: How) -> int:
    """Put the database aside, so that the two CSV files hold the register again."""
    from ask_above.workspace.anew import ready_for_anew, start_anew

    home = home_of(how.community)
    if how.by:
        raise click.UsageError("Only the keeper of the files starts anew; leave out --as.")
    size = ready_for_anew(home)
    stdout().paragraph(
        f"The register is read from members.csv and assignments.csv from now on, with {size} members. The database and "
        "its journal are put aside: nothing of them is lost, and nothing of them counts."
    )
    if how.only_plan:
        stdout().line("Nothing was done; this was the plan.", "dim")
        return 0
    if not how.yes and not asked("Start anew?"):
        return 1
    for line in start_anew(home):
        stdout().line(line, "yes")
    return 0
