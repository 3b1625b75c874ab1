"""``ask-above where``."""

from __future__ import annotations

from datetime import date

import click

from ask_above.cli.options import (
    author_option,
    capabilities,
    complete,
    in_zone,
    meant,
    open_here,
    people,
    question_options,
)
from ask_above.cli.sentence import Spoken
from ask_above.show.data import Table, put_out
from ask_above.show.screen import Screen


@click.command("where", cls=Spoken, left_out=("may", "can"))
@click.argument("who", shell_complete=complete(people))
@click.argument("capability", shell_complete=complete(capabilities))
@author_option
@question_options
def command(who: str, capability: str, author: str | None, when: date | None, community: str | None, form: str) -> int:
    """List all places where someone may use a capability.

    WHO is a member, rank:KEY or visitor. Exit status 1 where there is none.

    \b
    Examples:
      ask-above where petra reading.certify
      ask-above where visitor place.see
    """
    opened = open_here(community)
    who = meant(opened, who)
    keys = opened.where(who, capability, author=author, when=in_zone(opened, when))
    places = [opened.place(key) for key in keys]

    def show(screen: Screen) -> None:
        total = len(opened.charter.places)
        known = opened.register.members.get(who)
        screen.line(
            f"{known.called if known else who} may use {capability} in {len(places) or 'none'} of {total} places",
            "head",
        )
        if places:
            told = [[p.title, p.key, p.kind, opened.place(p.parent).title if p.parent else ""] for p in places]
            screen.line()
            screen.table(["Place", "Key", "Kind", "In"], told)

    rows = [(place.key, place.title, place.kind) for place in places]
    put_out(form, lambda: Table(("place", "title", "kind"), rows), show)
    return 0 if keys else 1
