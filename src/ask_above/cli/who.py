"""``ask-above who``."""

from __future__ import annotations

import sys
from datetime import date

import click

from ask_above.cli.options import (
    at_option,
    capabilities,
    community_option,
    complete,
    folder,
    format_option,
    in_zone,
    when_option,
)
from ask_above.community import Community
from ask_above.decide.words import in_place
from ask_above.show.data import write_table
from ask_above.show.screen import stdout


@click.command("who")
@click.argument("capability", shell_complete=complete(capabilities))
@at_option("Where; the site itself where it is left out.")
@click.option("--through", is_flag=True, help="Say what gives it to each: all that would have to go.")
@when_option
@community_option
@format_option
def command(capability: str, at: str, *, through: bool, when: date | None, community: str | None, form: str) -> int:
    """List the members who may use a capability at a place.

    \b
    Examples:
      ask-above who photo.upload --at photo-wall --through
      ask-above who photo.upload --at photo-wall
      ask-above who place.see --at landowners --format csv
    """
    opened = Community.open(folder(community), keep=True)
    frame = opened.decider.frame
    found = opened.who(capability, at=at, when=in_zone(opened, when), through=through)
    rows = [list(row) for row in found.itertuples(index=False)]
    if form != "text":
        write_table(sys.stdout, form, list(found.columns), rows)
    else:
        screen = stdout()
        total = len(opened.register.members)
        where = in_place(opened.place(at).title, site=frame.place_at[at] == 0)
        screen.line(f"{len(found) or 'None'} of {total} members may use {capability} {where}", "head")
        if rows:
            titles = {rank.key: rank.title for rank in frame.ranks} | {"owner": "owner"}
            screen.line()
            last = "Through" if through else "Ranks that count there"
            told = []
            for row in rows:
                ranks = ", ".join(titles[key] for key in str(row[3]).split(", ") if key)
                told.append([row[1], row[0], row[4] if through else ranks])
            screen.table(["Name", "Key", last], told)
    return 0
