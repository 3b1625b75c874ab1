"""``ask-above unassign``."""

from __future__ import annotations

from collections.abc import Sequence

import click

from ask_above import change
from ask_above.change.draft import Edit
from ask_above.charter.names import SITE
from ask_above.cli.changing import How, carry_out, change_options
from ask_above.cli.member import Wanted, chosen, in_order, rank_and_members
from ask_above.cli.options import open_here
from ask_above.cli.sentence import Spoken

EVERY = "*"


@click.command("unassign", cls=Spoken, left_out=("from", "of"))
@rank_and_members
@change_options
def command(rank: str, members: Sequence[str], wanted: Wanted, at: str, *, how: How) -> int:
    """Unassign a rank from members: those named, or all who match. '*' stands for all their ranks.

    \b
    Examples:
      ask-above unassign host dara --at commons --as ada
      ask-above unassign editor --holding editor --at journal --plan
      ask-above unassign '*' bram --plan
    """
    if rank == EVERY:
        return carry_out(how, *_all_of(how, chosen(how, members, wanted), None if at == SITE else at))
    rank, members = in_order(how, rank, members)
    found = chosen(how, members, wanted)
    return carry_out(how, *(change.Unassign(key, rank, at) for key in found))


def _all_of(how: How, members: Sequence[str], at: str | None) -> list[Edit]:
    """Return what takes every rank that members were given and that is not over, everywhere or at one place."""
    opened = open_here(how.community)
    now, place = opened.names.moment(), None if at is None else opened.place(at).key
    edits: dict[tuple[str, str, str], Edit] = {}
    for key in (opened.member(member).key for member in members):
        for given in opened.register.of(key):
            lasts = given.period.end is None or given.period.end > now
            if lasts and place in (None, given.place):
                edits[key, given.rank, given.place] = change.Unassign(key, given.rank, given.place)
    if not edits:
        raise click.UsageError("They have no assigned rank" + (" there." if place else "."))
    return list(edits.values())
