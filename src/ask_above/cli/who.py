"""``ask-above who``."""

from __future__ import annotations

from datetime import date

import click

from ask_above.charter.names import RANK_MARK, SITE
from ask_above.charter.rules import ACT_WORDS
from ask_above.cli.options import in_zone, open_here, question_options
from ask_above.cli.question import What, what_is_asked
from ask_above.cli.sentence import Spoken
from ask_above.community import Community
from ask_above.decide.words import in_place
from ask_above.show.data import Table, put_out
from ask_above.show.screen import Screen


@click.command("who", cls=Spoken, left_out=("may", "can", "is"))
@what_is_asked
@click.option("--through", is_flag=True, help="Say what gives it to each: all that would have to go.")
@question_options
def command(
    what: What,
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
    opened = open_here(community)
    what.check(opened, "who")
    what = what.meant(opened)
    name, target, at, to, of, using = what
    compiled = opened.decider.compiled
    frame = opened.who(name, target, at=at, to=to, of=of, using=using, when=in_zone(opened, when), through=through)
    rows = [list(row) for row in frame.itertuples(index=False)]

    def show(screen: Screen) -> None:
        total = len(opened.register.members)
        where = in_place(opened.place(at).title, site=opened.place(at).key == SITE)
        said = said_act(opened, what) if name in ACT_WORDS else f"use {name}"
        screen.line(f"{len(frame) or 'None'} of {total} members may {said} {where}", "head")
        if rows:
            titles = {rank.key: rank.title for rank in compiled.ranks} | {"owner": "owner"}
            screen.line()
            last = "Through" if through else "Ranks that count there"
            told = []
            for row in rows:
                ranks = ", ".join(titles[key] for key in str(row[3]).split(", ") if key)
                told.append([row[1], row[0], row[4] if through else ranks])
            screen.table(["Name", "Key", last], told)

    put_out(form, lambda: Table(list(frame.columns), rows), show)
    return 0


def said_act(community: Community, what: What) -> str:
    """Say an act in words, with the titles that people know."""
    name = (what.target or "").removeprefix(RANK_MARK)
    titles = {key: rank.title for key, rank in community.charter.ranks.items()}
    titles |= {key: member.called for key, member in community.register.members.items()}
    said = f"{'call on' if what.name == 'call' else what.name} {titles.get(name, name)}"
    for word, other in (("to", what.to), ("of", what.of)):
        said += f" {word} {titles.get(other, other)}" if other else ""
    return said + (f" using {what.using}" if what.using else "")
