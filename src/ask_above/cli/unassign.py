"""``ask-above unassign``."""

from __future__ import annotations

from collections.abc import Sequence

import click

from ask_above.cli.changing import How, carry_out, change_options
from ask_above.cli.member import Wanted, chosen, in_order, rank_and_members
from ask_above.cli.sentence import Spoken


@click.command("unassign", cls=Spoken, left_out=("from", "of"))
@rank_and_members
@change_options
def command(
    rank: str,
    members: Sequence[str],
    wanted: Wanted,
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

    rank, members = in_order(how, rank, members)
    found = chosen(how, members, wanted)
    return carry_out(how, *(Unassign(key, rank, at) for key in found))
