"""``ask-above report``."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from ask_above.cli.impact import state_of
from ask_above.cli.options import OutFile, community_option, complete, home_of, members, open_here, progress
from ask_above.cli.sentence import Spoken
from ask_above.decide.words import minute
from ask_above.show.screen import stdout


@click.command("report", cls=Spoken, left_out=("to", "into"))
@click.argument("out", required=False, type=OutFile())
@click.option("--out", "named", type=OutFile(), metavar="OUT", help="The file to write.")
@click.option("--without-members", is_flag=True, help="Leave members out.")
@click.option(
    "--for",
    "viewer",
    metavar="MEMBER",
    help="Only the names that this member may see.",
    shell_complete=complete(members),
)
@click.option("--since", metavar="STATE", help="Also who gained and lost what since: a change, git:REVISION, a folder.")
@community_option
def command(
    out: Path | None,
    named: Path | None,
    viewer: str | None,
    since: str | None,
    community: str | None,
    *,
    without_members: bool,
) -> int:
    """Write everything on one page: OUT.html to read, ask and print, OUT.md for a wiki.

    Ranks, capabilities, power, places, members, cover, advice, climbing, expectations, latest changes. The page
    shows the site as somebody finds it and answers who may do what. It loads nothing from the network.

    \b
    Examples:
      ask-above report wren-valley.html
      ask-above report charter.md --without-members
      ask-above report council.html --for ada --since 12
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

    entries = home.entries()
    now = datetime.now(opened.charter.zone)
    made = f"{minute(now, opened.charter.zone)} ({opened.charter.rules.timezone})"
    with progress("Writing") as hear:
        text = report(
            opened,
            form,
            members=not without_members,
            viewer=opened.member(viewer).key if viewer else None,
            since=state_of(since, community) if since else None,
            since_said=f"change {since}" if (since or "").isdecimal() else since or "",
            entries=entries,
            made=made,
            told=hear,
        )
    write_whole(out, text, PRIVATE)
    stdout().line(f"Wrote {out} ({len(text.encode()) // 1024} KiB).", "yes")
    return 0
