"""An audit on the screen: what was not allowed, the gravest first; what has turned; unknown names; what is used."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from ask_above.ask.audit.judge import Deed
from ask_above.ask.audit.result import Audit, Least, NotAllowed, TurnedSince
from ask_above.charter.moments import Instant
from ask_above.charter.names import how_many, listed
from ask_above.charter.rules import ACT_WORDS
from ask_above.decide.words import day, in_places, minute, with_risk
from ask_above.show.data import Table
from ask_above.show.screen import Screen, at_most

_MOST = 12
COLUMNS = (
    "kind", "member", "action", "place", "target", "times", "first", "last", "risk", "reason", "change",
    "allowed_now",
)  # fmt: skip


def show_audit(screen: Screen, audit: Audit, *, usage: bool = False) -> None:
    """Show what an audit came to; with ``usage`` also what each rank's holders used through it."""
    _head(screen, audit)
    _not_allowed(screen, audit)
    for title, some in (
        ("Allowed then, not now", audit.no_longer),
        ("Not allowed then, allowed now", audit.since_allowed),
    ):
        if some:
            screen.head(f"{title}: {how_many(sum(turned.times for turned in some), 'action')}")
            alike = _folded(some)
            for (deed, reason), (places, times) in screen.some(alike, _MOST, "  "):
                screen.paragraph(f"  {_deed(audit, deed, places)}{_often(times)}", rest="      ")
                screen.paragraph(reason, first="      ", rest="      ", style="dim")
    if audit.unknown:
        screen.head(f"Names that nothing had then: {len(audit.unknown):,}")
        for unknown in screen.some(audit.unknown, _MOST, "  "):
            screen.paragraph(f"  {unknown.what} {unknown.name}{_often(unknown.times)}", rest="      ", style="warn")
    if usage:
        _used(screen, audit)
    _unused(screen, audit)


def _head(screen: Screen, audit: Audit) -> None:
    span = audit.span
    if span is None:
        screen.line("The log has no rows.", "head")
        return
    first, last = (_day(audit, each) for each in span)
    screen.line(f"{how_many(audit.rows, 'action')}, {first}{f' to {last}' if last != first else ''}", "head")
    states = len({deed.state for deed in audit.judged})
    known = audit.states.known_since
    if known is None:
        screen.line("  Judged by the community as it is now (no journal).", "dim")
    else:
        screen.line(f"  Judged by {how_many(states, 'state')} of the journal", "dim")
    if audit.before_journal:
        older = how_many(audit.before_journal, "older action is", "older actions are")
        screen.paragraph(
            f"The journal begins on {_day(audit, known or 0)}; {older} judged by the oldest state known.",
            first="  ",
            rest="  ",
            style="warn",
        )
    if audit.refused:
        screen.line(f"  {audit.refused:,} more had been refused, and were not done", "dim")


def _not_allowed(screen: Screen, audit: Audit) -> None:
    screen.line()
    some = audit.not_allowed
    if not some:
        screen.line("✓ All actions were allowed when they were done.", "yes")
        return
    times = sum(deed.times for deed in some)
    said = "1 of them was" if times == 1 else f"{times:,} of them were"
    screen.line(f"✗ {said} not allowed", "no")
    for deed in screen.some(some, _MOST, "  "):
        screen.line()
        screen.paragraph(f"✗ {with_risk(_deed(audit, deed.deed), deed.risk)}", rest="  ", style="no")
        screen.paragraph(_when(audit, deed), first="  ", rest="  ")
        screen.paragraph(f"Because: {deed.reason}", first="  ", rest="  ")
        screen.paragraph(_turned(audit, deed), first="  ", rest="  ", style="dim")
        if deed.now:
            screen.line("  It is allowed now.", "dim")


def _turned(audit: Audit, each: NotAllowed) -> str:
    """Say what took the right away, and when."""
    if each.until is None:
        return "It was never allowed before in this log."
    given, how = (each.ended, "ended") if each.ended else (each.began, "began")
    until = f"It was allowed until {_moment(audit, each.until)}"
    if given is not None:
        rank = audit.states.now.names.charter.ranks.get(given.rank)
        file = f" ({given.where})" if given.where.line else ""
        whose = "their" if given.member == each.deed.member else f"{given.member}'s"
        return f"{until}, when {whose} assignment of {rank.called if rank else given.rank} {how}{file}."
    if each.since is None:
        return f"{until}."
    state = next(state for state in audit.states.states if state.number == each.since)
    return f"Until change {each.since} it was: {state.what}. See: ask-above journal {each.since}"


def _used(screen: Screen, audit: Audit) -> None:
    screen.head("Capabilities used, and through what")
    rows = [
        [_through(audit, used.rank), used.capability, f"{used.times:,}", f"{used.members:,}", _day(audit, used.last)]
        for used in audit.used
    ]
    screen.table(["Through", "Capability", "Times", "Members", "Last"], rows, right=(2, 3))


def show_least(screen: Screen, audit: Audit, found: Sequence[Least]) -> None:
    """Show the least ladder under which all that was done would still be allowed, as commands."""
    titles = {key: rank.called for key, rank in audit.states.now.names.charter.ranks.items()}
    screen.line()
    if not found:
        screen.line("The log needs everything that the ranks grant.", "yes")
        return
    screen.line("Capabilities that the log did not need, by rank", "head")
    screen.paragraph("The log does not show what a rank needs on other days. Check before you withhold.", style="dim")
    for least in found:
        screen.line()
        screen.paragraph(f"{titles[least.rank]}: {listed(least.capabilities)}", rest="  ")
        screen.paragraph(least.command, first="  → ", rest="      ", style="yes")


def _through(audit: Audit, by: str) -> str:
    """Say in words what something was done through."""
    compiled = audit.states.now.names.decider.compiled
    charter = compiled.charter
    # exception in PLACE, group KEY in PLACE, override RANK in PLACE, or a rank alone
    kind, _, rest = by.partition(" ")
    if not rest:
        return charter.ranks[by].called if by in charter.ranks else by
    rank, _, place = rest.rpartition("in ")
    where = compiled.named[place].called if place in compiled.named else place
    key = rank.strip()
    if kind == "exception":
        return f"an exception in {where}"
    if kind == "group":
        return f"the group {charter.groups[key].called}, in {where}" if key in charter.groups else by
    return f"{charter.ranks[key].called if key in charter.ranks else key}, by an override in {where}"


def _unused(screen: Screen, audit: Audit) -> None:
    titles = {key: rank.called for key, rank in audit.states.now.names.charter.ranks.items()}
    if not audit.unused:
        return
    screen.head(f"Never used in {how_many(audit.days, 'day')}")
    for unused in screen.some(audit.unused, _MOST, "  "):
        who = "its one member" if unused.holders == 1 else f"any of the {unused.holders} members who have it"
        screen.paragraph(
            f"▲ {titles[unused.rank]} grants {unused.capability}; not used by {who}", rest="  ", style="warn"
        )
        screen.line(f"  → {unused.command} [unused]")


def _often(times: int) -> str:
    return f", {times:,} times" if times > 1 else ""


def _when(audit: Audit, each: NotAllowed) -> str:
    if each.times == 1:
        return f"Once, on {_moment(audit, each.first)}."
    return f"{each.times:,} times, from {_moment(audit, each.first)} to {_moment(audit, each.last)}."


def _folded(some: Sequence[TurnedSince]) -> list[tuple[tuple[Deed, str], tuple[list[str], int]]]:
    """Return what was done, the same in several places for the same reason together, with the places and how often."""
    alike: dict[tuple[Deed, str], tuple[list[str], int]] = {}
    for turned in some:
        key = turned.deed._replace(place=""), turned.reason
        places, times = alike.get(key, ([], 0))
        alike[key] = [*places, turned.deed.place], times + turned.times
    return list(alike.items())


def _deed(audit: Audit, deed: Deed, places: Sequence[str] = ()) -> str:
    names = audit.states.now.names
    known = names.register.members
    who = known[deed.member].called if deed.member in known else deed.member or "A visitor"
    writer = known[deed.author].called if deed.author in known else deed.author
    order = names.decider.compiled.place_at
    there = sorted(places or [deed.place], key=lambda key: order.get(key, len(order)))
    where = f" {in_places(names.decider.compiled.named, there, at_most(3))}"
    if deed.action not in ACT_WORDS:
        return f"{who} used {deed.action}{where}{f' on what {writer} wrote' if writer else ''}"
    more = "".join(
        f" {word} {value}" for word, value in (("to", deed.to), ("of", deed.of), ("using", deed.using)) if value
    )
    return f"{who} did {deed.action} {deed.target}{more}{where}"


def _local(audit: Audit, at: Instant) -> datetime:
    return (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=at)).astimezone(
        audit.states.now.names.charter.zone
    )


def _day(audit: Audit, at: Instant) -> str:
    return day(_local(audit, at).date().isoformat())


def _moment(audit: Audit, at: Instant) -> str:
    return minute(_local(audit, at), audit.states.now.names.charter.zone)


def audit_table(audit: Audit, *, least: bool = False) -> Table:
    """Return what an audit found as a table; ``least``: in JSON with what each rank could do without."""
    rows: list[list[object]] = [_row(audit, "not-allowed", e, e.reason, e.since, e.now) for e in audit.not_allowed]
    rows += [_row(audit, "no-longer", e, e.reason, None, False) for e in audit.no_longer]
    rows += [_row(audit, "since-allowed", e, e.reason, None, True) for e in audit.since_allowed]
    rows += [
        ["unknown", "", e.name, "", "", e.times, "", "", "", f"no {e.what} had this name", None, None]
        for e in audit.unknown
    ]
    data = {
        "rows": audit.rows,
        "refused": audit.refused,
        "before_journal": audit.before_journal,
        "found": Table(COLUMNS, rows).plain,
        "used": [used._asdict() | {"last": _local(audit, used.last).isoformat()} for used in audit.used],
        "unused": [unused._asdict() for unused in audit.unused],
        "days": audit.days,
    }
    more = {"least": [each._asdict() for each in audit.least()]} if least else {}
    return Table(COLUMNS, rows, data | more)


def _row(audit: Audit, kind: str, each: Any, reason: str, change: int | None, now: bool) -> list[object]:
    deed = each.deed
    first, last = (_local(audit, at).isoformat(timespec="seconds") for at in (each.first, each.last))
    return [
        kind,
        deed.member,
        deed.action,
        deed.place,
        deed.target,
        each.times,
        first,
        last,
        each.risk,
        reason,
        change,
        now,
    ]
