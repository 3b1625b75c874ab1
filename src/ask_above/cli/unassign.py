"""``ask-above unassign``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click

from ask_above.cli.changing import How, carry_out, change_options
from ask_above.cli.member import choosing, chosen
from ask_above.cli.options import at_option, complete


@click.command("unassign")
@click.argument("rank", shell_complete=complete(lambda c: list(c.charter.ranks)))
@click.argument("members", nargs=-1, metavar="[MEMBER]...", shell_complete=complete(lambda c: list(c.register.members)))
@choosing
@at_option("Where; the site itself where it is left out.")
@change_options
def command(
    rank: str,
    members: Sequence[str],
    holding: str | None,
    group: str | None,
    having: str | None,
    joined_before: str | None,
    listing: Path | None,
    at: str,
    *,
    how: How,
) -> int:
    """Take a rank from members: those named, or all who fit; all of them or none.

    \b
    Examples:
      ask-above unassign host dara --at commons --as ada
      ask-above unassign editor --holding editor --at journal --plan
    """
    from ask_above.change import Unassign

    found = chosen(how, members, listing, holding=holding, group=group, status=having, joined_before=joined_before)
    return carry_out(how, *(Unassign(key, rank, at) for key in found))
