"""The ladder on the screen: the ranks in order, who holds each."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ask_above.ask.tables import Holder
from ask_above.charter.ladder import Rank
from ask_above.charter.names import few, listed
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.words import HELD_BY
from ask_above.show.data import Table
from ask_above.show.screen import Screen, cell

if TYPE_CHECKING:
    from rich.text import Text

_FEW = 4
Holders = dict[str, list[Holder]]


def traits(compiled: CompiledCharter, rank: Rank) -> list[str]:
    """Return what is special about a rank, in a few words each."""
    title = {each.key: each.title for each in compiled.ranks}
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


def show_ladder(screen: Screen, compiled: CompiledCharter, holders: Holders) -> None:
    """Show the ranks, highest first, with the number of holders and the first few of them."""
    screen.line(f"The ladder of {compiled.charter.title}", "head")
    screen.line()
    rows: list[list[str | Text]] = []
    for rank in compiled.ranks:
        people = holders[rank.key]
        count = "" if rank.automatic else str(len(people))
        number = cell(str(rank.position + 1), "dim")
        names = "" if rank.automatic else _names(compiled, people)
        rows.append(
            [number, cell(rank.title, "head"), cell(rank.key, "dim"), count, names, ", ".join(traits(compiled, rank))]
        )
    screen.table(["", "Rank", "Key", "Members", "Who", "Settings"], rows, right=[0, 3])
    owner = compiled.charter.owner
    if owner:
        known = next((who.asked for people in holders.values() for who in people if who.asked.key == owner), None)
        screen.line()
        screen.line(f"{known.label if known else owner} is the owner and stands above all.")


def _names(compiled: CompiledCharter, people: list[Holder]) -> str:
    return few((f"{who.asked.label} {who.where(compiled)}".strip() for who in people), _FEW)


def ladder_table(compiled: CompiledCharter, holders: Holders) -> Table:
    """Return the ladder as a table."""
    rows, data = [], []
    for rank in compiled.ranks:
        keys = [who.asked.key or "" for who in holders[rank.key]]
        rows.append([rank.position + 1, rank.key, rank.title, len(keys), ";".join(keys)])
        data.append(
            {
                "position": rank.position + 1,
                "rank": rank.key,
                "title": rank.title,
                "about": rank.about,
                "holders": keys,
                "here_only": [who.asked.key for who in holders[rank.key] if not who.at_root],
                "special": traits(compiled, rank),
            }
        )
    return Table(("position", "rank", "title", "count", "holders"), rows, data)
