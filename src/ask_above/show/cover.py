"""Coverage on the screen: places by duties, with what nobody or one alone may do on top."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ask_above.ask.cover import Cover, Gap
from ask_above.charter.names import among_keys, how_many, listed
from ask_above.decide.words import in_places
from ask_above.show.data import Table
from ask_above.show.grid import LEGEND, MEANINGLESS
from ask_above.show.screen import Mark, Screen, at_most, cell

if TYPE_CHECKING:
    from rich.text import Text

_FEW = 6
_NO_DUTIES = "No capability is of medium or high risk. To look at others: ask-above cover CAPABILITY..."


def show_cover(screen: Screen, cover: Cover) -> None:
    """Show the counts, first what hangs on one member, and what too many can do."""
    compiled = cover.decider.compiled
    screen.line(f"Cover: active members by place and capability{_without(cover)}", "head")
    if not cover.duties:
        screen.line(_NO_DUTIES)
        return
    for crowded in cover.crowded:
        have = "has" if crowded.members == 1 else "have"
        what = f"{have} an unbounded rank" if crowded.what == "unbounded" else f"may use {crowded.what} (high risk)"
        who = how_many(crowded.members, "member")
        screen.paragraph(f"▲ {who} {what}; rules.advice says {crowded.most} at most", rest="  ", style="warn")
    gaps = cover.gaps
    for only in (None, *dict.fromkeys(gap.only for gap in gaps if gap.only)):
        _gaps(screen, cover, [gap for gap in gaps if gap.only == only], only)
    if not gaps:
        screen.line("✓ At least two members cover every duty.", "yes")
    side = max(len(place.called) + 2 * (len(compiled.chains[n]) - 1) for n, place in enumerate(compiled.places)) + 4
    duties = list(range(len(cover.duties)))
    while duties:
        room, size = screen.width - side, len(duties)
        while size > 1 and sum(_width(cover.duties[n]) for n in duties[:size]) > room:
            size -= 1
        screen.line()
        _block(screen, cover, duties[:size])
        duties = duties[size:]
    screen.items(["0 nobody", "1 only one member", f"{MEANINGLESS} {LEGEND[MEANINGLESS]}"], style="dim")


def _without(cover: Cover) -> str:
    members = cover.decider.people.register.members
    return f", without {listed(members[key].called for key in cover.without)}" if cover.without else ""


def _width(duty: str) -> int:
    """Return how much room the column of a duty takes: its longest part, with the dot and what stands between."""
    return max(len(part) + 1 for part in duty.split(".")) + 2


def _gaps(screen: Screen, cover: Cover, gaps: Sequence[Gap], only: str | None) -> None:
    compiled, by_duty = cover.decider.compiled, dict[str, list[str]]()
    for gap in gaps:
        by_duty.setdefault(gap.capability, []).append(gap.place)
    if not by_duty:
        return
    who = "Nobody" if only is None else cover.decider.people.register.members[only].called
    screen.line(
        f"{'✗' if only is None else '!'} {who} {'may' if only is None else 'alone may'}:",
        "no" if only is None else "warn",
    )
    for duty, places in by_duty.items():
        where = in_places(compiled.named, places, at_most(_FEW))
        screen.paragraph(f"{duty} {where}", first="    ", rest="      ")


def _block(screen: Screen, cover: Cover, duties: Sequence[int]) -> None:
    compiled = cover.decider.compiled
    rows: list[tuple[Mark, list[Mark]]] = []
    for number, place in enumerate(compiled.places):
        counts = [int(cover.counts[number, n]) for n in duties]
        if any(count >= 0 for count in counts):
            pad = "  " * (len(compiled.chains[number]) - 1)
            rows.append(((f"{pad}{place.called if number else 'The whole site'}", ""), [*map(_count, counts)]))
    screen.matrix([cover.duties[n].replace(".", ".\n") for n in duties], rows, right=True)


def _count(count: int) -> Mark:
    if count < 0:
        return MEANINGLESS, "dim"
    return f"{count:,}", "no" if count == 0 else "warn" if count == 1 else ""


def show_by_rank(screen: Screen, cover: Cover, place: str) -> None:
    """Show for one place how many can do each duty, by the rank that grants it."""
    compiled = cover.decider.compiled
    number = compiled.place_at[place]
    titles = {rank.key: rank.called for rank in compiled.ranks}
    titles[among_keys("place", compiled.rank_at)] = "the place itself"
    rows: list[list[str | Text]] = []
    for n, duty in enumerate(cover.duties):
        count = int(cover.counts[number, n])
        if count >= 0:
            said = ", ".join(f"{titles.get(key, key)} {many:,}" for key, many in cover.by_rank(place, duty).items())
            rows.append([duty, cell(*_count(count)), said])
    where = "on the whole site" if place == "site" else f"in {compiled.places[number].called}"
    screen.line(f"Cover: active members, {where}{_without(cover)}", "head")
    screen.line()
    if not cover.duties:
        screen.line(_NO_DUTIES)
    elif not rows:
        screen.line("None of these capabilities applies here.")
    else:
        screen.table(["Duty", "Members", "By the rank that grants it"], rows, right=(1,))


def cover_table(cover: Cover, place: str | None) -> Table:
    """Return a row for each duty at each place where it has a meaning; with one place also by rank."""
    compiled, rows = cover.decider.compiled, []
    only = {(gap.place, gap.capability): gap.only for gap in cover.gaps}
    for number, here in enumerate(compiled.places):
        if place is not None and here.key != place:
            continue
        for n, duty in enumerate(cover.duties):
            count = int(cover.counts[number, n])
            if count >= 0:
                by = "" if place is None else ";".join(f"{k}={v}" for k, v in cover.by_rank(here.key, duty).items())
                rows.append([here.key, duty, count, only.get((here.key, duty)) or "", *([by] if place else [])])
    return Table(("place", "capability", "members", "only", *(["by_rank"] if place else [])), rows)
