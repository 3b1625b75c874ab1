"""The list of members under their headings, and what is about to change or has been waiting (rules 7.1 and 7.2)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from ask_above.change.parts import coverage
from ask_above.charter.moments import Instant, as_instant, parse
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.looks import Looks, held_at_root, looks
from ask_above.decide.profile import Asked
from ask_above.people.register import Assignment, Member, Status, edges_of
from ask_above.printing import Printed

_DAY = 86_400_000_000
"""Microseconds in a day."""


class RosterEntry(NamedTuple):
    """One member as the roster shows them; ``ranks`` are the titles of the ranks given to them on the whole site."""

    member: Member
    looks: Looks
    ranks: tuple[str, ...]


class Heading(NamedTuple):
    """A heading of the roster, highest first, and who stands under it; the last has no rank."""

    rank: str | None
    title: str
    members: tuple[RosterEntry, ...]


class Roster(Printed, list[Heading]):
    """The headings of the roster, highest first."""

    def __repr__(self) -> str:
        return f"<Roster: {sum(len(heading.members) for heading in self)} members under {len(self)} headings>"


class Edge(NamedTuple):
    """An assignment that starts or ends at a moment."""

    at: Instant
    starts: bool
    assignment: Assignment


class Waiting(NamedTuple):
    """Someone pending, or invited and without an answer, and for how many whole days; ``None`` where nobody knows."""

    member: Member
    days: int | None


def roster(decider: Decider, at: Instant) -> Roster:
    """Return everyone whose status counts under their headings, in the register's order; no empty headings."""
    compiled = decider.compiled
    headed: dict[str | None, list[RosterEntry]] = {rank.key: [] for rank in compiled.ranks if rank.heading}
    headed[None] = []
    known: dict[str, tuple[Looks, tuple[str, ...]]] = {}
    for asked, keys in decider.alike(at):
        if asked.status in (Status.ACTIVE, Status.PENDING):
            # how somebody looks follows from their ranks alone
            known |= dict.fromkeys(keys, (looks(compiled, asked), _given(compiled, asked)))
    for key, member in decider.people.register.members.items() if known else ():
        if key in known:
            seen, given = known[key]
            headed[seen.heading].append(RosterEntry(member, seen, given))
    titles = {rank.key: rank.called for rank in compiled.ranks}
    return Roster(Heading(key, titles[key] if key else "", tuple(people)) for key, people in headed.items() if people)


def _given(compiled: CompiledCharter, asked: Asked) -> tuple[str, ...]:
    return tuple(rank.called for rank in held_at_root(compiled, asked) if not rank.automatic)


def soon(decider: Decider, at: Instant, days: int) -> list[Edge]:
    """Return what of members' assignments starts or ends within so many days, the next first.

    Several of one rank in one place count together: what another goes on with does not end.
    """
    last, assignments = at + days * _DAY, decider.people.register.assignments
    near = {each[:3] for each in assignments if any(edge <= last for edge in edges_of([each], at))}
    together: dict[tuple[str, str, str], list[Assignment]] = {}
    for assignment in assignments:
        if assignment[:3] in near:
            together.setdefault(assignment[:3], []).append(assignment)
    edges = []
    for given in together.values():
        starts, ends = ({each.period[n]: each for each in given} for n in (0, 1))
        for start, end in coverage(given).stretches:
            edges += [Edge(start, True, starts[start])] if at < start <= last else []
            edges += [Edge(end, False, ends[end])] if at < end <= last else []
    return sorted(edges, key=lambda edge: edge.at)


def waiting(
    decider: Decider, at: Instant, status: str, days: int = -1, since: Mapping[str, Instant] | None = None
) -> list[Waiting]:
    """Return those with a status, pending or invited, for longer than so many days; longest first.

    ``since`` is when those came to wait who did so by a change; of others the date of joining counts.
    """
    begun = since or {}
    waitings = [
        Waiting(member, _since(decider.compiled, member, begun.get(member.key), at))
        for member in decider.people.register.members.values()
        if member.status == status
    ]
    kept = [each for each in waitings if each.days is None or each.days > days]
    return sorted(kept, key=lambda each: -(each.days if each.days is not None else 1 << 30))


def _since(compiled: CompiledCharter, member: Member, begun: Instant | None, at: Instant) -> int | None:
    if begun is None and not member.joined:
        return None
    began = as_instant(parse(member.joined), compiled.charter.zone) if begun is None else begun
    return max(0, at - began) // _DAY


def day_of(compiled: CompiledCharter, at: Instant, *, last: bool = False) -> str:
    """Say the day of an instant in the charter's time zone; ``last``: the last day before it, for what ends then."""
    moment = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=at - (1 if last else 0))
    return moment.astimezone(compiled.charter.zone).date().isoformat()


def edges_in_words(compiled: CompiledCharter, edges: list[Edge]) -> Iterator[tuple[str, str, str, str, str]]:
    """Yield day, starts or ends, member, rank and place of each, as keys."""
    for edge in edges:
        each = edge.assignment
        yield day_of(compiled, edge.at, last=not edge.starts), "starts" if edge.starts else "ends", *each[:3]
