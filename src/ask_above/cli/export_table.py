"""``ask-above export-table``."""

from __future__ import annotations

from datetime import date

import click

from ask_above.bulk.records import member_rows, usable_rows
from ask_above.cli.options import community_option, in_zone, open_here, progress, when_option
from ask_above.cli.sentence import Spoken
from ask_above.files.export import open_target, write_all
from ask_above.show.screen import stdout

_BLOCK = 64 << 20


@click.command("export-table", cls=Spoken)
@click.argument("out", metavar="OUT")
@click.option("--members", is_flag=True, help="A row for each member instead of one for all who are alike.")
@when_option
@community_option
def command(out: str, *, members: bool, when: date | None, community: str | None) -> int:
    """Write who can use what where, for the site's own database to join on.

    OUT is a .parquet or .csv file, a folder/ for Parquet files of some million rows each, or a database's URL. The
    first table has profile, place, capability; the second has member, profile: all members with one number can do
    the same. In a database they are ask_above_usable and ask_above_members; files stand beside each other, OUT.csv
    and OUT-members.csv; a folder holds usable/ and members/. With --members there is one table: member, place,
    capability.

    \b
    Examples:
      ask-above export-table usable.parquet
      ask-above export-table usable/
      ask-above export-table sqlite:///site.db --when 2026-12-01
    """
    opened = open_here(community)
    first = {"member" if members else "profile": str if members else int, "place": str, "capability": str}
    rows = 0
    done = 0
    with open_target(out) as target, progress("Places") as on_progress:
        usable = target.table("usable", first)
        table = None
        for table in opened.table_blocks(memory=_BLOCK, when=in_zone(opened, when)):
            rows += write_all(usable, (batch.columns for batch in usable_rows(table, members=members)))
            done += len(table.places)
            on_progress(done, len(opened.charter.places))
        if table is not None and not members:
            people = target.table("members", {"member": str, "profile": int})
            write_all(people, (batch.columns for batch in member_rows(table)))
    screen = stdout()
    screen.line(f"Wrote {rows} rows to {'the database' if '://' in out else out}.")
    if not members:
        screen.line(f"{len(opened.register.members)} members map to its profiles in a second table.")
    return 0
