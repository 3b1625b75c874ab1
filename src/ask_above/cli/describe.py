"""``ask-above describe``."""

from __future__ import annotations

import click

from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import complete, tell
from ask_above.cli.sentence import Spoken
from ask_above.community import Community
from ask_above.show.data import Table
from ask_above.show.notebook import show_described
from ask_above.show.screen import Screen


def _names(c: Community) -> list[str]:
    return [*c.charter.ranks, *c.register.members, *c.charter.places]


@click.command("describe", cls=Spoken)
@click.argument("names", nargs=-1, required=True, metavar="NAME...", shell_complete=complete(_names))
@asking(when=True)
def command(names: tuple[str, ...], asked: CommandQuestion) -> int:
    """Describe ranks, members and places, for someone who is new.

    A name that several have is written rank:NAME, member:NAME or place:NAME.

    \b
    Examples:
      ask-above describe host
      ask-above describe dara landowners --format md
    """
    opened = asked.opened
    keys = []
    for name in names:
        meant = opened.names.meant(name)
        if meant.note:
            tell([f"{meant.note}."])
        keys.append(f"{meant.kind}:{meant.key}")

    def show(screen: Screen) -> None:
        for n, key in enumerate(keys):
            if n:
                screen.line()
            show_described(screen, opened.describe(key, when=asked.when, full=screen.full))

    def table() -> Table:
        described = (opened.describe(key, when=asked.when, full=False) for key in keys)
        return Table(
            ("kind", "key", "title", "text"), [(each.kind, each.key, each.title, each.text) for each in described]
        )

    return asked.answer(table, show)
