"""``ask-above assign``."""

from __future__ import annotations

from collections.abc import Sequence

import click

from ask_above import change
from ask_above.cli.changing import How, carry_out, change_options
from ask_above.cli.member import Wanted, chosen, in_order, rank_and_members
from ask_above.cli.moments import SPAN, Span
from ask_above.cli.options import gathered, open_here
from ask_above.cli.sentence import Spoken


@click.command("assign", cls=Spoken, left_out=("to",))
@rank_and_members
@gathered("span", Span, SPAN)
@click.option("--only", is_flag=True, help="Unassign their other ranks there.")
@change_options
def command(rank: str, members: Sequence[str], wanted: Wanted, at: str, *, span: Span, only: bool, how: How) -> int:
    """Assign a rank to members: those named, or all who match; all of them or none.

    With --as it is a member who assigns; members may join an open rank themselves.

    \b
    Examples:
      ask-above assign surveyor tove --as petra --for 90d
      ask-above assign host dara --at commons --only
      ask-above assign volunteer --status active --joined-before 2026-01-01 --plan
    """
    rank, members = in_order(how, rank, members)
    found = chosen(how, members, wanted)
    start, end = span.written(open_here(how.community).charter)
    return carry_out(how, *(change.Assign(key, rank, at, start, end, how.why, only) for key in found))
