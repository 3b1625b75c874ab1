"""``ask-above history``."""

from __future__ import annotations

import click

from ask_above.cli.options import community_option, complete, format_option, members, open_here
from ask_above.cli.sentence import Spoken
from ask_above.show.data import put_out


@click.command("history", cls=Spoken)
@click.argument("member", shell_complete=complete(members))
@click.option(
    "--as", "viewer", metavar="MEMBER", help="Only what this member may see.", shell_complete=complete(members)
)
@community_option
@format_option
def command(member: str, viewer: str | None, community: str | None, form: str) -> int:
    """Show what happened to a member: ranks, status, names, by whom and when.

    \b
    Example:
      ask-above history dara
    """
    from ask_above.show.history import history_table, show_history

    opened = open_here(community)
    history = opened.history(member, viewer=viewer)
    put_out(form, lambda: history_table(history), lambda screen: show_history(screen, history, opened.charter))
    return 0
