"""``ask-above who``."""

from __future__ import annotations

import sys
from datetime import date

import click

from ask_above.charter.expectations import ACT_WORDS
from ask_above.cli.may import Question
from ask_above.cli.may import check_use as check_act
from ask_above.cli.options import (
    at_option,
    capabilities,
    community_option,
    complete,
    format_option,
    in_zone,
    open_here,
    people,
    when_option,
)
from ask_above.community import Community
from ask_above.decide.words import in_place
from ask_above.show.data import write_table
from ask_above.show.screen import stdout


@click.command("who")
@click.argument("what", shell_complete=complete(lambda c: [*ACT_WORDS, *capabilities(c)]))
@click.argument("target", required=False, shell_complete=complete(lambda c: [*c.charter.ranks, *people(c)]))
@at_option("Where; the site itself where it is left out.")
@click.option("--to", metavar="MEMBER", help="For assign: to whom.")
@click.option("--of", metavar="MEMBER", help="For unassign: from whom.")
@click.option("--using", metavar="CAPABILITY", help="For moderate: with which capability.")
@click.option("--through", is_flag=True, help="Say what gives it to each: all that would have to go.")
@when_option
@community_option
@format_option
def command(
    what: str,
    target: str | None,
    at: str,
    to: str | None,
    of: str | None,
    using: str | None,
    *,
    through: bool,
    when: date | None,
    community: str | None,
    form: str,
) -> int:
    """List the members who may use a capability at a place, or do an act to a target.

    WHAT is a capability, or an act on a TARGET: moderate (a member or rank:KEY), assign, unassign, manage, call (a
    rank).

    \b
    Examples:
      ask-above who photo.upload --at photo-wall --through
      ask-above who place.see --at landowners --format csv
      ask-above who moderate tomas --at field
      ask-above who assign surveyor --to dara
    """
    check_act(Question("SOMEONE", what, target, to, of, using, None), command="who")
    opened = open_here(community)
    compiled = opened.decider.compiled
    found = opened.who(what, target, at=at, to=to, of=of, using=using, when=in_zone(opened, when), through=through)
    rows = [list(row) for row in found.itertuples(index=False)]
    if form != "text":
        write_table(sys.stdout, form, list(found.columns), rows)
    else:
        screen = stdout()
        total = len(opened.register.members)
        where = in_place(opened.place(at).title, site=compiled.place_at[at] == 0)
        said = said_act(opened, what, target, to, of, using) if what in ACT_WORDS else f"use {what}"
        screen.line(f"{len(found) or 'None'} of {total} members may {said} {where}", "head")
        if rows:
            titles = {rank.key: rank.title for rank in compiled.ranks} | {"owner": "owner"}
            screen.line()
            last = "Through" if through else "Ranks that count there"
            told = []
            for row in rows:
                ranks = ", ".join(titles[key] for key in str(row[3]).split(", ") if key)
                told.append([row[1], row[0], row[4] if through else ranks])
            screen.table(["Name", "Key", last], told)
    return 0


def said_act(
    community: Community, what: str, target: str | None, to: str | None, of: str | None, using: str | None
) -> str:
    """Say an act in words, with the titles that people know."""
    name = (target or "").removeprefix("rank:")
    titles = {key: rank.title for key, rank in community.charter.ranks.items()}
    titles |= {key: member.called for key, member in community.register.members.items()}
    said = f"{'call on' if what == 'call' else what} {titles.get(name, name)}"
    for word, other in (("to", to), ("of", of)):
        said += f" {word} {titles.get(other, other)}" if other else ""
    return said + (f" using {using}" if using else "")
