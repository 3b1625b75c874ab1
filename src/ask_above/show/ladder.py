"""The ladder on the screen: the ranks in order, who holds each."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ask_above.ask.tables import Holders
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import few, listed
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.words import HELD_BY
from ask_above.show.data import Table
from ask_above.show.screen import Screen, at_most, cell

if TYPE_CHECKING:
    from rich.text import Text

_FEW = 4


def traits(compiled: CompiledCharter, rank: Rank) -> list[str]:
    """Return what is special about a rank, in a few words each."""
    title = {each.key: each.called for each in compiled.ranks}
    words = []
    if rank.held_by:
        words.append(f"automatic for {HELD_BY[rank.held_by]}")
    if rank.paused:
        words.append("paused")
    if rank.unbounded:
        words.append("unbounded")
    if rank.limit is not None:
        words.append(f"at most {rank.limit}")
    if rank.builds_on:
        words.append(f"builds on {listed(title[key] for key in rank.builds_on)}")
    if rank.after:
        words.append(f"after {listed(title[key] for key in rank.after)}")
    if rank.apart_from:
        words.append(f"apart from {listed(title[key] for key in rank.apart_from)}")
    if rank.kept_by:
        words.append(f"kept by {rank.kept_by}")
    if rank.open:
        words.append("open to join")
    if rank.on_joining:
        words.append("assigned on joining")
    if rank.entry:
        words.append("entry rank")
    if not compiled.granted(rank) and not rank.unbounded:
        words.append("grants nothing")
    return words


def show_ladder(screen: Screen, decider: Decider, at: Instant) -> None:
    """Show the ranks, highest first, with the number of holders and the first few of them."""
    compiled, holders = decider.compiled, Holders(decider, at)
    screen.line(f"The ladder of {compiled.charter.title}", "head")
    screen.line()
    rows: list[list[str | Text]] = []
    for rank in compiled.ranks:
        count = "" if rank.automatic else f"{len(holders.keys(rank.key)):,}"
        number = cell(str(rank.position + 1), "dim")
        names = "" if rank.automatic else _names(compiled, holders, rank.key)
        rows.append(
            [number, cell(rank.called, "head"), cell(rank.key, "dim"), count, names, ", ".join(traits(compiled, rank))]
        )
    screen.table(["", "Rank", "Key", "Members", "Who", "Settings"], rows, right=[0, 3])
    owner = compiled.charter.owner
    if owner:
        known = decider.people.register.members.get(owner)
        screen.line()
        screen.line(f"{known.called if known else owner} is the owner and stands above all.")


def _names(compiled: CompiledCharter, holders: Holders, rank: str) -> str:
    first = holders.first(rank, at_most(_FEW + 1))
    names = (f"{who.asked.label} {who.where(compiled)}".strip() for who in first)
    return few(names, at_most(_FEW), count=len(holders.keys(rank)))


def ladder_table(decider: Decider, at: Instant) -> Table:
    """Return the ladder as a table."""
    compiled, holders = decider.compiled, Holders(decider, at)
    rows, data = [], []
    for rank in compiled.ranks:
        keys = holders.keys(rank.key)
        rows.append([rank.position + 1, rank.key, rank.title, len(keys), ";".join(keys)])
        data.append(
            {
                "position": rank.position + 1,
                "rank": rank.key,
                "title": rank.title,
                "about": rank.about,
                "holders": keys,
                "here_only": holders.here_only(rank.key),
                "special": traits(compiled, rank),
            }
        )
    return Table(("position", "rank", "title", "count", "holders"), rows, data)
