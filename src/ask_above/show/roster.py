"""The roster on the screen, what ends and starts soon, who waits, which accounts look shared."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from ask_above.ask.advice.accounts import SharedAccount
from ask_above.ask.roster import Edge, Heading, Waiting, day_of, edges_in_words
from ask_above.charter.names import how_many, titled
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.words import day
from ask_above.people.register import Status
from ask_above.show.data import Table
from ask_above.show.screen import Screen, cell, colour_cell

if TYPE_CHECKING:
    from rich.text import Text


def show_roster(screen: Screen, headings: Sequence[Heading]) -> None:
    """Show everyone under their headings."""
    rows: list[Sequence[str | Text]] = []
    for heading in headings:
        if rows:
            rows.append(["", "", ""])
        rows.append([cell(f"{heading.title or 'Everyone else'} ({len(heading.members):,})", "head"), "", ""])
        for member in heading.members:
            prefix = f"{member.looks.prefix} " if member.looks.prefix else ""
            badge = f" {member.looks.badge}" if member.looks.badge else ""
            waits = " (pending)" if member.member.status == Status.PENDING else ""
            others = [title for title in member.ranks if title != heading.title]
            name = colour_cell(f"  {prefix}{member.member.called}{badge}{waits}", member.looks.color)
            rows.append([name, member.member.key, cell(", ".join(others), "dim")])
    if not rows:
        screen.line("Nobody is active or pending.")
        return
    screen.table(["Name", "Key", "Also"], rows)


def roster_table(headings: Sequence[Heading]) -> Table:
    """Return a row for each member."""
    rows = [
        [
            heading.rank or "",
            member.member.key,
            member.member.own_name,
            member.member.status,
            member.looks.prefix,
            member.looks.badge,
            member.looks.color,
            "; ".join(member.ranks),
        ]
        for heading in headings
        for member in heading.members
    ]
    return Table(("heading", "member", "name", "status", "prefix", "badge", "color", "ranks"), rows)


def show_soon(
    screen: Screen, compiled: CompiledCharter, edges: Sequence[Edge], days: int, names: dict[str, str]
) -> None:
    """Show what ends and what starts."""
    screen.line(f"Assignments that end or start within {how_many(days, 'day')}", "head")
    if not edges:
        screen.line("  nothing")
        return
    screen.line()
    rows = []
    for at, what, member, rank, place in edges_in_words(compiled, list(edges)):
        where = compiled.named[place].called if place != "site" else "the whole site"
        rows.append([day(at), what, names[member], compiled.charter.ranks[rank].called, where])
    screen.table(["Day", "", "Member", "Rank", "Where"], rows)


def soon_table(compiled: CompiledCharter, edges: Sequence[Edge]) -> Table:
    """Return a row for each that ends or starts."""
    return Table(("day", "what", "member", "rank", "place"), edges_in_words(compiled, list(edges)))


def show_waiting(screen: Screen, waits: Sequence[Waiting], last: Mapping[str, str], days: int) -> None:
    """Show who waits, for how long, and when they last signed in."""
    longer = f" for more than {how_many(days, 'day')}" if days > 0 else ""
    screen.line(f"Pending and invited members{longer}: {f'{len(waits):,}' if waits else 'none'}", "head")
    if waits:
        screen.line()
        signed = {key: day(at) for key, at in last.items()}
        rows = [[w.member.called, w.member.key, w.member.status, _days(w), signed.get(w.member.key, "")] for w in waits]
        heads = ["Name", "Key", "Status", "Waits", "Last sign-in"]
        screen.table(heads[: 5 if last else 4], [row[: 5 if last else 4] for row in rows])


def _days(waits: Waiting) -> str:
    return "unknown" if waits.days is None else how_many(waits.days, "day")


def waiting_table(waits: Sequence[Waiting], last: Mapping[str, str]) -> Table:
    """Return a row for each who waits."""
    rows = [[w.member.key, w.member.own_name, w.member.status, w.days, last.get(w.member.key, "")] for w in waits]
    return Table(("member", "name", "status", "days", "last_sign_in"), rows)


def show_shared(
    screen: Screen, compiled: CompiledCharter, found: Sequence[SharedAccount], networks: int, days: int
) -> None:
    """Show the accounts that look shared, and what each could do."""
    screen.line(f"Accounts used from {networks} or more networks within {how_many(days, 'day')}", "head")
    if not found:
        screen.line("  none")
    for account in found:
        screen.line()
        since, until = (day(day_of(compiled, at)) for at in (account.since, account.until))
        when = f"on {since}" if since == until else f"from {since} to {until}"
        who = titled(account.member.name, account.member.key, account.member.key)
        screen.line(f"{who}: {len(account.networks)} networks {when}", "warn")
        screen.paragraph(", ".join(account.networks), first="  ", rest="  ", style="dim")
        if not account.can:
            screen.line("  no capability of medium or high risk")
        for risk in dict.fromkeys(risk for risk, _ in account.can):
            names = ", ".join(key for level, key in account.can if level == risk)
            screen.paragraph(names, first=f"  {risk} risk: ", rest="    ", style="no" if risk == "high" else "")


def shared_table(compiled: CompiledCharter, found: Sequence[SharedAccount]) -> Table:
    """Return a row for each capability of medium or high risk of each account; one without any where there is none."""
    rows = [
        [
            account.member.key,
            account.member.own_name,
            len(account.networks),
            day_of(compiled, account.since),
            day_of(compiled, account.until),
            key,
            risk,
        ]
        for account in found
        for risk, key in account.can or (("", ""),)
    ]
    return Table(("member", "name", "networks", "since", "until", "capability", "risk"), rows)
