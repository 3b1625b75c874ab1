"""``ask-above export``."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import click

from ask_above.cli.options import community_option, open_here
from ask_above.cli.sentence import Spoken
from ask_above.show.screen import stdout


@click.command("export", cls=Spoken)
@click.argument("directory", metavar="DIR", type=click.Path(path_type=Path, file_okay=False))
@community_option
def command(directory: Path, community: str | None) -> int:
    """Write members.csv and assignments.csv, as import and every opening read them.

    A cell that a spreadsheet would run gets an apostrophe in front, which every reading takes off again.

    \b
    Example:
      ask-above export backup
    """
    from ask_above.change.draft import assignment_row, member_row
    from ask_above.files.cells import guarded
    from ask_above.files.writing import PRIVATE, write_whole
    from ask_above.people.reading import ASSIGNMENT_COLUMNS, MEMBER_COLUMNS

    opened = open_here(community)
    directory.mkdir(parents=True, exist_ok=True)
    members = [member_row(member) for member in opened.register.members.values()]
    given = [assignment_row(each) for each in opened.register.assignments]
    for name, columns, rows in (
        ("members.csv", MEMBER_COLUMNS, members),
        ("assignments.csv", ASSIGNMENT_COLUMNS, given),
    ):
        out = io.StringIO()
        writer = csv.DictWriter(out, columns, lineterminator="\n")
        writer.writeheader()
        writer.writerows({column: guarded(cell) for column, cell in row.items()} for row in rows)
        write_whole(directory / name, out.getvalue(), PRIVATE)
    stdout().line(f"Wrote {len(members)} members and {len(given)} assignments to {directory}.")
    return 0
