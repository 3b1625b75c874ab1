"""``ask-above report``."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from ask_above.cli.changing import home_of
from ask_above.cli.options import OutFile, community_option, open_here, progress
from ask_above.cli.sentence import Spoken
from ask_above.decide.words import day
from ask_above.show.screen import stdout


@click.command("report", cls=Spoken, left_out=("to", "into"))
@click.argument("out", required=False, type=OutFile())
@click.option("--out", "named", type=OutFile(), metavar="OUT", help="The file to write.")
@click.option("--without-members", is_flag=True, help="Leave members out.")
@community_option
def command(out: Path | None, named: Path | None, community: str | None, *, without_members: bool) -> int:
    """Write everything on one page: OUT.html to read and print, OUT.md for a wiki.

    Ranks, capabilities, power, places, members, cover, advice, climbing, expectations, latest changes. The page loads
    nothing from the network.

    \b
    Examples:
      ask-above report wren-valley.html
      ask-above report charter.md --without-members
    """
    if out is not None and named is not None:
        raise click.UsageError("Name the file once: ask-above report report.html")
    out = out or named
    if out is None:
        raise click.UsageError("Which file? ask-above report report.html")
    from ask_above.show.data import Form

    form = {".html": "html", ".htm": "html", ".md": Form.MD}.get(out.suffix.lower())
    if form is None:
        raise click.UsageError(f"'{out.name}' ends neither in .html nor in .md.")
    from ask_above.files.writing import PRIVATE, write_whole
    from ask_above.show.report import report

    opened = open_here(community)
    home = home_of(community)
    from ask_above.workspace.journal import entries_of

    entries = entries_of(home)
    now = datetime.now(opened.charter.zone)
    made = f"{day(now.date().isoformat())}, {now:%H:%M} ({opened.charter.rules.timezone})"
    with progress("Writing") as told:
        text = report(opened, form, members=not without_members, entries=entries, made=made, told=told)
    write_whole(out, text, PRIVATE)
    stdout().line(f"Wrote {out} ({len(text.encode()) // 1024} KiB).", "yes")
    return 0
