"""What a member comes down to when asked about: which ranks where, which groups, which exceptions (rule 4).

Two members with the same profile get the same answers everywhere; the owner and those whose status does not count
stand outside of it.
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from typing import NamedTuple

from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.decide.compiled import CompiledCharter
from ask_above.people.register import Assignment, Member, Register, Status, edges_of, reached_groups


class Sort(StrEnum):
    """The sort of person that a question is about: a member, someone with a rank, a visitor."""

    MEMBER = "member"
    RANK = "rank"
    VISITOR = "visitor"


class How(StrEnum):
    """How a rank came to be held (rules 4.1 to 4.4, 4.9)."""

    AUTOMATIC = "automatic"
    ASSIGNED = "assigned"
    CONFERRED = "conferred"
    ENTRY = "entry"
    ASKED = "asked"


class Profile(NamedTuple):
    """Ranks held everywhere and at places, groups, the member that exceptions are looked up for.

    ``placed`` holds pairs of rank and place. ``pending`` marks someone whose groups' and own allows are not given.
    """

    automatic: tuple[int, ...] = ()
    placed: frozenset[tuple[int, int]] = frozenset()
    groups: frozenset[str] = frozenset()
    exceptions: str | None = None
    pending: bool = False


class Holding(NamedTuple):
    """A rank that is held at a place and below, and where it comes from."""

    rank: int
    place: int
    how: How
    assignment: Assignment | None = None
    group: str | None = None


class Asked(NamedTuple):
    """Someone a question is about, at a moment: a member, someone with a rank, or a visitor.

    ``holdings`` are the ranks that count for what they may do; empty where the status does not count, and less those
    that are paused. ``recorded`` are the ranks that count when they are acted on, ``later`` the assignments that have
    yet to start (rule 6.5). ``since`` and ``until`` bound the time in which all of this stays the same.
    """

    label: str
    sort: Sort
    status: str = Status.ACTIVE.value
    key: str | None = None
    member: Member | None = None
    owner: bool = False
    groups: frozenset[str] = frozenset()
    exceptions: str | None = None
    holdings: tuple[Holding, ...] = ()
    recorded: tuple[Holding, ...] = ()
    active: tuple[Holding, ...] = ()
    later: tuple[Assignment, ...] = ()
    since: Instant | None = None
    until: Instant | None = None
    profile: Profile | None = None

    @property
    def is_active(self) -> bool:
        """Whether they take part."""
        return self.status == Status.ACTIVE

    @property
    def is_retired(self) -> bool:
        """Whether they left."""
        return self.status == Status.RETIRED

    @property
    def acts(self) -> bool:
        """Whether they may act on others at all: an active member, or a rank asked as one (rule 6.1)."""
        return self.sort is not Sort.VISITOR and self.is_active

    @property
    def rules_all(self) -> bool:
        """Whether they are the owner, and active (rule 4.5)."""
        return self.owner and self.is_active


def profile_of(
    holdings: Iterable[Holding], groups: frozenset[str], exceptions: str | None, *, pending: bool
) -> Profile:
    """Fold holdings into a profile."""
    automatic = {holding.rank for holding in holdings if holding.how == How.AUTOMATIC}
    placed = frozenset((holding.rank, holding.place) for holding in holdings if holding.how != How.AUTOMATIC)
    return Profile(tuple(sorted(automatic)), placed, groups, exceptions, pending)


def ask_rank(compiled: CompiledCharter, rank: Rank, *, given: bool = False) -> Asked:
    """Return someone asked about as a rank (rule 4.9); with ``given`` someone who was given it, whatever it is."""
    placed = (Holding(rank.position, 0, How.ASKED),)
    label = rank.called
    if given:
        return _asked(label, Sort.RANK, Status.ACTIVE, (*_automatic(compiled, "members"), *placed), rank.key)
    # rule 4.9 asks as its holders are, and these hold the other ranks alone meanwhile
    if rank.paused:  # nobody holds it: what is left are the ranks of every member
        return _asked(label, Sort.RANK, Status.ACTIVE, _automatic(compiled, "members"), rank.key)
    if rank.held_by is not None:
        visitor = rank.held_by in ("anyone", "visitors")
        automatic = _automatic(compiled, "visitors" if visitor else "bots" if rank.held_by == "bots" else "members")
        return _asked(label, Sort.VISITOR if visitor else Sort.RANK, Status.ACTIVE, automatic, rank.key)
    if rank.entry:
        holdings = (*_automatic(compiled, "anyone"), Holding(rank.position, 0, How.ENTRY))
        return _asked(label, Sort.RANK, Status.PENDING, holdings, rank.key, _automatic(compiled, "members"))
    return _asked(label, Sort.RANK, Status.ACTIVE, (*_automatic(compiled, "members"), *placed), rank.key)


def ask_visitor(compiled: CompiledCharter) -> Asked:
    """Return a visitor, who is not signed in (rule 4.10)."""
    return _asked("a visitor", Sort.VISITOR, Status.ACTIVE, _automatic(compiled, "visitors"), None)


def ask_anybody(compiled: CompiledCharter) -> Asked:
    """Return someone who holds the automatic ranks of members alone (rule 6.8)."""
    return _asked("a member without other ranks", Sort.RANK, Status.ACTIVE, _automatic(compiled, "members"), None)


def ask_bot(compiled: CompiledCharter) -> Asked:
    """Return a bot without other ranks."""
    return _asked("a bot without other ranks", Sort.RANK, Status.ACTIVE, _automatic(compiled, "bots"), None)


def ask_pending(compiled: CompiledCharter) -> Asked:
    """Return somebody who waits to be vouched for (rule 4.4)."""
    entry = () if compiled.entry is None else (Holding(compiled.entry, 0, How.ENTRY),)
    holdings = (*_automatic(compiled, "anyone"), *entry)
    return _asked("somebody who waits", Sort.RANK, Status.PENDING, holdings, None, _automatic(compiled, "members"))


def _asked(
    label: str,
    sort: Sort,
    status: str,
    holdings: tuple[Holding, ...],
    key: str | None,
    active: tuple[Holding, ...] | None = None,
) -> Asked:
    profile = profile_of(holdings, frozenset(), None, pending=status == Status.PENDING)
    active = holdings if active is None else active
    return Asked(label, sort, status, key, holdings=holdings, recorded=holdings, active=active, profile=profile)


def _automatic(compiled: CompiledCharter, who: str) -> tuple[Holding, ...]:
    """Return the automatic ranks of visitors, members or bots, or of ``anyone`` alone (rule 4.1)."""
    also = {"anyone": (), "visitors": ("visitors",), "members": ("members",), "bots": ("members", "bots")}[who]
    ranks = sorted(rank for by in ("anyone", *also) for rank in compiled.automatic[by])
    return tuple(Holding(rank, 0, How.AUTOMATIC) for rank in ranks)


class People:
    """The register made ready for questions: who someone is at a moment, kept for as long as it stays the same."""

    def __init__(self, compiled: CompiledCharter, register: Register) -> None:
        self.compiled, self.register = compiled, register
        self._known: dict[str, Asked] = {}

    def ask(self, key: str, at: Instant) -> Asked:
        """Return a member as they stand at an instant."""
        known = self._known.get(key)
        if known is not None:
            since, until = known.since, known.until
            if (since is None or since <= at) and (until is None or at < until):
                return known
        member, given = self.register.members[key], self.register.of(key)
        known = self._known[key] = ask_member(
            self.compiled, member, given, at, excepted=key in self.compiled.exceptional
        )
        return known

    def all(self, at: Instant) -> Iterable[Asked]:
        """Return every member as they stand at an instant, in the register's order."""
        return (self.ask(key, at) for key in self.register.members)


def ask_member(
    compiled: CompiledCharter, member: Member, assignments: list[Assignment], at: Instant, *, excepted: bool
) -> Asked:
    """Return a member with these assignments as they stand at an instant (rules 4.1 to 4.6).

    ``excepted`` tells whether any place has an exception for them.
    """
    charter = compiled.charter
    groups = reached_groups(charter, member)
    given = [
        Holding(compiled.rank_at[assignment.rank], compiled.place_at[assignment.place], How.ASSIGNED, assignment)
        for assignment in assignments
        if assignment.period.contains(at)
    ]
    given += _conferred(compiled, charter, groups)
    counting = [holding for holding in given if not compiled.ranks[holding.rank].paused]
    automatic = _automatic(compiled, "bots" if member.kind == "bot" else "members")
    waiting = _automatic(compiled, "anyone")
    if compiled.entry is not None:
        waiting = (*waiting, Holding(compiled.entry, 0, How.ENTRY))
    pending = member.status == Status.PENDING
    holdings = waiting if pending else (*automatic, *counting) if member.is_active else ()
    exceptions = member.key if excepted else None
    counts = pending or member.is_active
    since, until = _unchanged(assignments, at)
    return Asked(
        label=member.called,
        sort=Sort.MEMBER,
        status=member.status,
        key=member.key,
        member=member,
        owner=member.key == charter.owner,
        groups=groups,
        exceptions=exceptions,
        holdings=holdings,
        recorded=(*(waiting if pending else automatic), *given),
        active=(*automatic, *counting),
        later=tuple(assignment for assignment in assignments if assignment.period.comes_after(at)),
        since=since,
        until=until,
        profile=profile_of(holdings, groups, exceptions, pending=pending) if counts else None,
    )


def _conferred(compiled: CompiledCharter, charter: Charter, groups: frozenset[str]) -> list[Holding]:
    """Return the ranks that groups confer, in the charter's order (rule 4.3)."""
    return [
        Holding(compiled.rank_at[confer.rank], compiled.place_at[confer.place], How.CONFERRED, group=group.key)
        for group in charter.groups.values()
        if group.key in groups
        for confer in group.confers
    ]


def _unchanged(assignments: list[Assignment], at: Instant) -> tuple[Instant | None, Instant | None]:
    """Return the bounds of the time around ``at`` in which no assignment starts or ends."""
    edges = edges_of(assignments)
    before = [edge for edge in edges if edge <= at]
    after = [edge for edge in edges if edge > at]
    return max(before, default=None), min(after, default=None)
