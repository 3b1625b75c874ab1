"""The ladder on the screen: the ranks in order, who holds each."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ask_above.charter.ladder import Rank
from ask_above.charter.names import few, listed
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.profile import Asked
from ask_above.decide.words import HELD_BY
from ask_above.show.data import Table
from ask_above.show.screen import Screen, cell

if TYPE_CHECKING:
    from rich.text import Text

Holders = dict[str, list[tuple[Asked, bool]]]


def traits(compiled: CompiledCharter, rank: Rank) -> list[str]:
    """Return what is special about a rank, in a few words each."""
    title = {each.key: each.title for each in compiled.ranks}
    said = []
    if rank.held_by:
        said.append(f"{HELD_BY[rank.held_by]} holds it")
    if rank.unbounded:
        said.append("unbounded")
    if rank.limit is not None:
        said.append(f"at most {rank.limit}")
    if rank.builds_on:
        said.append(f"builds on {listed(title[key] for key in rank.builds_on)}")
    if rank.after:
        said.append(f"after {listed(title[key] for key in rank.after)}")
    if rank.apart_from:
        said.append(f"apart from {listed(title[key] for key in rank.apart_from)}")
    if rank.kept_by:
        said.append(f"kept by {rank.kept_by}")
    if rank.open:
        said.append("open to join")
    if rank.on_joining:
        said.append("given on joining")
    if rank.entry:
        said.append("while pending")
    if not compiled.carried[rank.position] and not rank.unbounded:
        said.append("carries nothing")
    return said


def show_ladder(screen: Screen, compiled: CompiledCharter, holders: Holders) -> None:
    """Show the ranks, highest first, with the number of holders and the first few of them."""
    screen.line(f"The ladder of {compiled.charter.title}, highest first", "head")
    screen.line()
    rows: list[list[str | Text]] = []
    for rank in compiled.ranks:
        people = holders[rank.key]
        count = "" if rank.automatic else str(len(people))
        number = cell(str(rank.position + 1), "dim")
        names = "" if rank.automatic else _names(people)
        rows.append(
            [
                number,
                cell(rank.title, "head"),
                cell(rank.key, "dim"),
                count,
                names,
                ", ".join(traits(compiled, rank)),
            ]
        )
    screen.table(["", "Rank", "Key", "Holders", "Who", "What is special"], rows, right=[0, 3])
    owner = compiled.charter.owner
    if owner:
        known = next((asked for people in holders.values() for asked, _ in people if asked.key == owner), None)
        screen.line()
        screen.line(f"{known.label if known else owner} owns the site and stands above all.")
    if any(not at_root for people in holders.values() for _, at_root in people):
        screen.line("* holds it in a part of the site only", "dim")


def _names(people: list[tuple[Asked, bool]]) -> str:
    return few((asked.label + ("" if at_root else "*") for asked, at_root in people), 4)


def ladder_table(compiled: CompiledCharter, holders: Holders) -> Table:
    """Return the ladder as a table."""
    rows, data = [], []
    for rank in compiled.ranks:
        keys = [asked.key or "" for asked, _ in holders[rank.key]]
        rows.append([rank.position + 1, rank.key, rank.title, len(keys), ";".join(keys)])
        data.append(
            {
                "position": rank.position + 1,
                "rank": rank.key,
                "title": rank.title,
                "about": rank.about,
                "holders": keys,
                "here_only": [asked.key for asked, at_root in holders[rank.key] if not at_root],
                "special": traits(compiled, rank),
            }
        )
    return Table(("position", "rank", "title", "count", "holders"), rows, data)
