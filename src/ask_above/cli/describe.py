"""``ask-above describe``."""

from __future__ import annotations

import click

from ask_above.ask.describe.describer import Described
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
    descriptions: list[Described] = []
    for name in names:
        meant = opened.names.meant(name)
        if meant.note:
            tell([f"{meant.note}."])
        descriptions.append(opened.describe(f"{meant.kind}:{meant.key}", when=asked.when))

    def show(screen: Screen) -> None:
        for n, description in enumerate(descriptions):
            if n:
                screen.line()
            show_described(screen, description)

    rows = [(description.kind, description.key, description.title, str(description)) for description in descriptions]
    return asked.answer(lambda: Table(("kind", "key", "title", "text"), rows), show)
