"""The roster on the screen, what ends and starts soon, who waits, which accounts look shared."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ask_above.ask.roster import Edge, Heading, Waiting, day_of, edges_in_words
from ask_above.ask.shared import SharedAccount
from ask_above.decide.compiled import CompiledCharter
from ask_above.show.screen import Screen, cell, colour_cell

if TYPE_CHECKING:
    from rich.text import Text

ROSTER_COLUMNS = ("heading", "member", "name", "status", "prefix", "badge", "color", "ranks")
SOON_COLUMNS = ("day", "what", "member", "rank", "place")
WAITING_COLUMNS = ("member", "name", "status", "days")
SHARED_COLUMNS = ("member", "name", "networks", "since", "until", "capability", "risk")


def show_roster(screen: Screen, headings: Sequence[Heading]) -> None:
    """Show everyone under their headings."""
    rows: list[Sequence[str | Text]] = []
    for heading in headings:
        if rows:
            rows.append(["", "", ""])
        rows.append([cell(f"{heading.title or 'Everyone else'} ({len(heading.members)})", "head"), "", ""])
        for each in heading.members:
            prefix = f"{each.looks.prefix} " if each.looks.prefix else ""
            badge = f" {each.looks.badge}" if each.looks.badge else ""
            waits = " (pending)" if each.member.status == "pending" else ""
            others = [title for title in each.ranks if title != heading.title]
            name = colour_cell(f"  {prefix}{each.member.called}{badge}{waits}", each.looks.color)
            rows.append([name, each.member.key, cell(", ".join(others), "dim")])
    screen.table(["Name", "Key", "Also"], rows)


def roster_rows(headings: Sequence[Heading]) -> list[list[object]]:
    """Return a row for each member."""
    return [
        [
            heading.rank or "",
            each.member.key,
            each.member.called,
            each.member.status,
            each.looks.prefix,
            each.looks.badge,
            each.looks.color,
            "; ".join(each.ranks),
        ]
        for heading in headings
        for each in heading.members
    ]


def show_soon(
    screen: Screen, compiled: CompiledCharter, edges: Sequence[Edge], days: int, names: dict[str, str]
) -> None:
    """Show what ends and what starts."""
    screen.line(f"What ends and what starts within {days} days", "head")
    if not edges:
        screen.line("  nothing")
        return
    screen.line()
    rows = []
    for day, what, member, rank, place in edges_in_words(compiled, list(edges)):
        where = compiled.charter.places[place].title if place != "site" else "the whole site"
        rows.append([day, what, names[member], compiled.charter.ranks[rank].title, where])
    screen.table(["Day", "", "Member", "Rank", "Where"], rows)


def show_waiting(screen: Screen, pending: Sequence[Waiting], invited: Sequence[Waiting], days: int) -> None:
    """Show who has been waiting for how long."""
    for said, found in (
        (f"Pending for longer than {days} days", pending),
        (f"Invited, and no answer for longer than {days} days", invited),
    ):
        screen.line(said, "head")
        for each in found:
            since = "nobody knows since when" if each.days is None else f"{each.days} days"
            screen.line(f"  {each.member.called} ({each.member.key}), {since}")
        if not found:
            screen.line("  nobody")
        screen.line()


def waiting_rows(found: Sequence[Waiting]) -> list[list[object]]:
    """Return a row for each who waits."""
    return [[each.member.key, each.member.called, each.member.status, each.days] for each in found]


def show_shared(
    screen: Screen, compiled: CompiledCharter, found: Sequence[SharedAccount], networks: int, days: int
) -> None:
    """Show the accounts that look shared, and what each could do."""
    screen.line(f"Accounts used from {networks} or more networks within {days} days", "head")
    if not found:
        screen.line("  none")
    for each in found:
        screen.line()
        since, until = day_of(compiled, each.since), day_of(compiled, each.until)
        when = f"on {since}" if since == until else f"from {since} to {until}"
        screen.line(f"{each.member.called} ({each.member.key}): {len(each.networks)} networks {when}", "warn")
        screen.paragraph(", ".join(each.networks), first="  ", rest="  ", style="dim")
        if not each.can:
            screen.line("  can do nothing of medium or high risk")
        for risk in dict.fromkeys(risk for risk, _ in each.can):
            names = ", ".join(key for level, key in each.can if level == risk)
            screen.paragraph(names, first=f"  {risk} risk: ", rest="    ", style="no" if risk == "high" else "")


def shared_rows(compiled: CompiledCharter, found: Sequence[SharedAccount]) -> list[list[object]]:
    """Return a row for each capability of medium or high risk of each account; one without any where there is none."""
    return [
        [
            each.member.key,
            each.member.called,
            len(each.networks),
            day_of(compiled, each.since),
            day_of(compiled, each.until),
            key,
            risk,
        ]
        for each in found
        for risk, key in each.can or (("", ""),)
    ]
