"""``ask-above where``."""

from __future__ import annotations

import click

from ask_above.charter.names import upper
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import author_option, capabilities, complete, meant, people
from ask_above.cli.sentence import Spoken
from ask_above.show.data import Table
from ask_above.show.screen import Screen


@click.command("where", cls=Spoken, left_out=("may", "can"))
@click.argument("who", shell_complete=complete(people))
@click.argument("capability", shell_complete=complete(capabilities))
@author_option
@asking(when=True)
def command(who: str, capability: str, author: str | None, asked: CommandQuestion) -> int:
    """List all places where someone may use a capability.

    WHO is a member, rank:KEY or visitor. Exit status 1 where there is none.

    \b
    Examples:
      ask-above where petra reading.certify
      ask-above where visitor place.see
    """
    opened = asked.opened
    who = meant(opened, who)
    keys = opened.where(who, capability, author=author, when=asked.when)
    places = [opened.place(key) for key in keys]

    def show(screen: Screen) -> None:
        total = len(opened.charter.places)
        label = opened.names.asked(who, opened.names.moment(asked.when)).label
        screen.line(f"{upper(label)} may use {capability} in {len(places) or 'none'} of {total} places", "head")
        if places:
            told = [[p.called, p.key, p.kind, opened.place(p.parent).called if p.parent else ""] for p in places]
            screen.line()
            screen.table(["Place", "Key", "Kind", "In"], told)

    rows = [(place.key, place.title, place.kind) for place in places]
    return asked.answer(lambda: Table(("place", "title", "kind"), rows), show, 0 if keys else 1)
