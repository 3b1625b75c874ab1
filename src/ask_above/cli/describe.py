"""``ask-above describe``."""

from __future__ import annotations

from datetime import date

import click

from ask_above.ask.describe.describer import Described
from ask_above.cli.options import complete, in_zone, open_here, question_options, tell
from ask_above.cli.sentence import Spoken
from ask_above.community import Community
from ask_above.show.data import Table, put_out
from ask_above.show.notebook import show_described
from ask_above.show.screen import Screen


def _names(c: Community) -> list[str]:
    return [*c.charter.ranks, *c.register.members, *c.charter.places]


@click.command("describe", cls=Spoken)
@click.argument("names", nargs=-1, required=True, metavar="NAME...", shell_complete=complete(_names))
@question_options
def command(names: tuple[str, ...], when: date | None, community: str | None, form: str) -> int:
    """Describe ranks, members and places, for someone who is new.

    A name that several have is written rank:NAME, member:NAME or place:NAME.

    \b
    Examples:
      ask-above describe host
      ask-above describe dara landowners --format md
    """
    opened = open_here(community)
    descriptions: list[Described] = []
    for name in names:
        meant = opened.names.meant(name)
        if meant.note:
            tell([f"{meant.note}."])
        descriptions.append(opened.describe(f"{meant.kind}:{meant.key}", when=in_zone(opened, when)))

    def show(screen: Screen) -> None:
        for n, description in enumerate(descriptions):
            if n:
                screen.line()
            show_described(screen, description)

    rows = [(description.kind, description.key, description.title, str(description)) for description in descriptions]
    put_out(form, lambda: Table(("kind", "key", "title", "text"), rows), show)
    return 0
