"""``ask-above export``."""

from __future__ import annotations

import csv
import io
import shlex
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ask_above.charter.names import how_many
from ask_above.cli.options import community_option, complete, members, open_here
from ask_above.cli.sentence import Spoken
from ask_above.files.writing import is_read_from
from ask_above.show.screen import stdout

if TYPE_CHECKING:
    from ask_above.community import Community


_OF_FILES = (".csv", ".ldif", ".jsonl", ".json", ".xlsx", ".zip")


@click.command("export", cls=Spoken)
@click.argument("directory", metavar="DIR", type=click.Path(path_type=Path, file_okay=False))
@click.option("--ldif", "form", flag_value="ldif", help="As people.ldif, for a directory.")
@click.option("--scim", "form", flag_value="scim", help="As resources.jsonl: SCIM resources, one a line.")
@click.option("--csv", "form", flag_value="csv", default=True, help="As the two CSV files; so where nothing is said.")
@click.option("--as", "by", metavar="MEMBER", help="Only what this member may see.", shell_complete=complete(members))
@community_option
def command(directory: Path, form: str | None, by: str | None, community: str | None) -> int:
    """Write the register as files: members.csv and assignments.csv, as import and every opening read them.

    A cell that a spreadsheet would run gets an apostrophe in front, which every reading takes off again. With --as
    names, addresses, notes, user names and numbers elsewhere are held to rules.contacts.

    \b
    Examples:
      ask-above export backup
      ask-above export out --ldif --as ada
    """
    from ask_above.ask.choosing import sees
    from ask_above.files.people_lists import as_ldif, as_scim
    from ask_above.files.writing import PRIVATE, write_whole

    if directory.suffix.lower() in _OF_FILES:
        raise click.UsageError(
            f"export writes a folder, not one file: ask-above export {shlex.quote(str(directory.with_suffix('')))}"
        )
    opened = open_here(community)
    everyone, _ = sees(opened.decider, opened.names.moment(), opened.member(by).key if by else None)
    if form == "csv" and directory.resolve() == opened.home.folder.resolve():
        return _keep_again(opened, by)
    directory.mkdir(parents=True, exist_ok=True)
    if form == "csv" and is_read_from(directory / "members.csv"):
        raise click.UsageError(f"A community is read from the files in '{directory}'; name another folder.")
    people, charter = [*opened.register.members.values()], opened.charter
    if form == "ldif":
        text = as_ldif(charter.key, people, _groups(opened), contacts=everyone)
        write_whole(directory / "people.ldif", text, PRIVATE)
        stdout().line(f"Wrote {how_many(len(people), 'member')} to {directory / 'people.ldif'}.")
    elif form == "scim":
        lines = [*as_scim(people, _groups(opened), contacts=everyone)]
        write_whole(directory / "resources.jsonl", "".join(f"{line}\n" for line in lines), PRIVATE)
        stdout().line(f"Wrote {how_many(len(lines), 'resource')} to {directory / 'resources.jsonl'}.")
    else:
        _as_csv(opened, directory, contacts=everyone)
    return 0


def _keep_again(opened: Community, by: str | None) -> int:
    """Write the register's files anew where they were put aside, and keep them from now on."""
    if by is not None:
        raise click.UsageError("The files of the register are the maintainer's; leave out --as.")
    opened.home.keep_files_again()
    stdout().line("members.csv and assignments.csv are written, and kept beside the database from now on.", "yes")
    return 0


def _groups(opened: Community) -> dict[str, list[str]]:
    """Return groups, and ranks on the whole site, by title, with the keys of those in them."""
    register, charter, now = opened.register, opened.charter, opened.names.moment()
    groups = {
        group.called: [m.key for m in register.members.values() if key in m.groups]
        for key, group in charter.groups.items()
    }
    for key, rank in charter.ranks.items():
        if not rank.automatic:
            groups.setdefault(rank.called, []).extend(
                assignment.member
                for assignment in register.assignments
                if assignment.rank == key and assignment.place == "site" and assignment.period.contains(now)
            )
    return groups


def _as_csv(opened: Community, directory: Path, *, contacts: bool) -> None:
    from ask_above.change.draft import assignment_row, member_row
    from ask_above.files.cells import guarded
    from ask_above.files.writing import PRIVATE, write_whole
    from ask_above.people.reading import ASSIGNMENT_COLUMNS, GUARDED, MEMBER_COLUMNS

    hidden = {} if contacts else dict.fromkeys(GUARDED, "")
    rows = [member_row(member) | hidden for member in opened.register.members.values()]
    given = [assignment_row(assignment) for assignment in opened.register.assignments]
    for name, columns, some in (("members.csv", MEMBER_COLUMNS, rows), ("assignments.csv", ASSIGNMENT_COLUMNS, given)):
        out = io.StringIO()
        writer = csv.DictWriter(out, columns, lineterminator="\n")
        writer.writeheader()
        writer.writerows({column: guarded(cell) for column, cell in row.items()} for row in some)
        write_whole(directory / name, out.getvalue(), PRIVATE)
    stdout().line(f"Wrote {how_many(len(rows), 'member')} and {how_many(len(given), 'assignment')} to {directory}.")
