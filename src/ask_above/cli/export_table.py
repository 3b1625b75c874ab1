"""``ask-above export-table``."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ask_above.bulk.many import member_rows, usable_rows
from ask_above.charter.names import how_many
from ask_above.cli.options import community_option, in_zone, open_here, progress, when_option
from ask_above.cli.sentence import Spoken
from ask_above.files.export import open_target, write_all
from ask_above.files.writing import is_read_from
from ask_above.show.screen import stdout

if TYPE_CHECKING:
    from ask_above.community import Community

_BLOCK = 64 << 20


@click.command("export-table", cls=Spoken)
@click.argument("out", metavar="OUT")
@click.option("--members", is_flag=True, help="A row for each member instead of one for all who are alike.")
@click.option(
    "--capability", "wanted", multiple=True, metavar="CAPABILITY", help="This one, and others named; else all."
)
@click.option(
    "--people",
    metavar="DIR|URL",
    help="A register that is read part by part: Parquet files in DIR/members and DIR/assignments, or a database.",
)
@click.option("--cluster", metavar="local|ADDRESS", help="Let the workers of a Dask cluster read and write the parts.")
@when_option
@community_option
def command(
    out: str,
    *,
    members: bool,
    wanted: Sequence[str],
    people: str | None,
    cluster: str | None,
    when: date | None,
    community: str | None,
) -> int:
    """Write who can use what where, for the site's own database to join on.

    OUT is a .parquet or .csv file, a folder/ for Parquet files of some million rows each, or a database's URL. The
    first table has profile, place, capability; the second has member, profile: all members with one number can do
    the same. In a database they are ask_above_usable and ask_above_members; files stand beside each other, OUT.csv
    and OUT-members.csv; a folder holds usable/ and members/. With --members there is one table: member, place,
    capability.

    A register that no machine holds is read part by part, with --people: its members are brought down to what they are,
    which is worked out once. What comes out is a folder, here or by workers, whose profiles have long numbers.

    \b
    Examples:
      ask-above export-table usable.parquet
      ask-above export-table usable/
      ask-above export-table sqlite:///site.db --when 2026-12-01
      ask-above export-table usable/ --people platform/ --capability post.write
    """
    if "://" not in out and is_read_from(Path(out)):
        raise click.UsageError(f"A community is read from '{out}'; name another file.")
    opened = open_here(community)
    wanted = tuple(dict.fromkeys(opened.names.capability(each) for each in wanted))
    if people is not None:
        return _spread(opened, out, people, wanted, members=members, cluster=cluster, when=when)
    if cluster is not None:
        raise click.UsageError("A cluster reads a register part by part: name it with --people DIR or URL.")
    first = {"member" if members else "profile": str if members else int, "place": str, "capability": str}
    rows = 0
    done = 0
    table = None
    with open_target(out) as target, progress("Places") as on_progress:
        usable = target.table("usable", first)
        for table in opened.table_blocks(memory=_BLOCK, when=in_zone(opened, when)):
            rows += write_all(usable, (batch.columns for batch in usable_rows(table, members=members, wanted=wanted)))
            done += len(table.places)
            on_progress(done, len(opened.charter.places))
        if table is not None and not members:
            in_it = target.table("members", {"member": str, "profile": int})
            write_all(in_it, (batch.columns for batch in member_rows(table)))
    screen = stdout()
    screen.line(f"Wrote {how_many(rows, 'row')} to {'the database' if '://' in out else out}.")
    if not members:
        many = how_many(len(opened.register.members), "member")
        screen.line(f"A second table maps {many} to its profiles.")
    return 0


def _spread(
    opened: Community,
    out: str,
    people: str,
    wanted: Sequence[str],
    *,
    members: bool,
    cluster: str | None,
    when: date | None,
) -> int:
    if not out.endswith("/"):
        raise click.UsageError(f"A register that is read part by part is written as a folder: {out}/")
    with progress("Parts") as told:
        rows, count = opened.export_people(
            people, out, capabilities=wanted, members=members, cluster=cluster, when=in_zone(opened, when), told=told
        )
    stdout().line(f"Wrote {how_many(rows, 'row')} to {out}, of {how_many(count, 'member')}.")
    return 0
