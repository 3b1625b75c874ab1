"""``ask-above history``."""

from __future__ import annotations

import click

from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import complete, members
from ask_above.cli.sentence import Spoken


@click.command("history", cls=Spoken)
@click.argument("member", shell_complete=complete(members))
@click.option(
    "--as", "viewer", metavar="MEMBER", help="Only what this member may see.", shell_complete=complete(members)
)
@asking()
def command(member: str, viewer: str | None, asked: CommandQuestion) -> int:
    """Show what happened to a member: ranks, status, names, by whom and when.

    \b
    Example:
      ask-above history dara
    """
    from ask_above.show.history import history_table, show_history

    history = asked.opened.history(member, viewer=viewer)
    return asked.answer(lambda: history_table(history), lambda screen: show_history(screen, history))
