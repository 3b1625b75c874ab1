"""Whom a change may touch: everyone before and after it, at every moment from now on, each kind of person once (9.6).

Members who are alike on both sides stand together; a stretch of time in which nothing of theirs starts or ends is one
more subject, so that time costs no more than more people do.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from ask_above.bulk.differences import Form, alike
from ask_above.change.difference import Difference
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.gains import as_active
from ask_above.decide.profile import (
    Asked,
    How,
    Profile,
    Sort,
    ask_anybody,
    ask_bot,
    ask_member,
    ask_pending,
    ask_rank,
    ask_visitor,
)
from ask_above.people.register import OUT, Assignment, Member, Status, edges_of, reached_groups

_NO_END: Instant = 1 << 62


class Affected(NamedTuple):
    """Some who are alike, for a stretch of time: what they come down to before and after is the pair of that number.

    ``form`` is member, rank, group or visitor. ``keys`` are the members' own. ``asked`` is the first of them as they
    stood before, for their standing. ``loses`` tells whether a loss of theirs is asked for; ``joined`` marks those who
    are reckoned with every open rank that they may join besides. ``empty``: a rank or group that nobody is in.
    """

    label: str
    form: str
    keys: tuple[str, ...]
    asked: Asked
    pair: int
    since: Instant
    until: Instant
    loses: bool = True
    joined: bool = False
    new: bool = False
    acts: bool = True
    empty: bool = False


class Subjects:
    """All subjects of a change, and the pairs of profiles that they come down to."""

    def __init__(self, old: Decider, new: Decider, difference: Difference, now: Instant) -> None:
        self.old, self.new, self.difference, self.now = old, new, difference, now
        self.pairs: list[tuple[Profile, Profile]] = []
        self._number: dict[tuple[Profile, Profile], int] = {}
        self.same = old.compiled is new.compiled
        self._open = [_Open(decider, now) for decider in (old, new)]
        self.all: list[Affected] = [affected for affected in self._find() if affected.pair >= 0]

    @cached_property
    def of_pair(self) -> list[list[Affected]]:
        """The subjects of each pair."""
        found: list[list[Affected]] = [[] for _ in self.pairs]
        for affected in self.all:
            found[affected.pair].append(affected)
        return found

    def _pair(self, before: Profile, after: Profile) -> int:
        """Return the number of a pair; -1 where nothing can differ."""
        if self.same and before == after:
            return -1
        known = self._number.get((before, after))
        if known is None:
            known = self._number[before, after] = len(self.pairs)
            self.pairs.append((before, after))
        return known

    def _find(self) -> Iterator[Affected]:
        yield from self._members()
        if not self.same:
            for key in dict.fromkeys((*self.new.compiled.rank_at, *self.old.compiled.rank_at)):
                yield from self._rank(key)
            yield from self._plain(
                "a visitor", "visitor", (ask_visitor(self.old.compiled), ask_visitor(self.new.compiled))
            )
            for key, group in self.new.compiled.charter.groups.items():
                if key in self.old.compiled.charter.groups:
                    alone = Member("", groups=(key,))
                    both = tuple(
                        ask_member(compiled, alone, [], self.now, excepted=False)
                        for compiled in (self.old.compiled, self.new.compiled)
                    )
                    empty = key not in self._groups_with_members
                    yield from self._plain(f"somebody in {group.called}", "group", both, empty=empty)

    @cached_property
    def _groups_with_members(self) -> set[str]:
        kinds = {member_class.member.groups for member_class in self.old.ready.alike()}
        charter = self.old.compiled.charter
        return {group for groups in kinds for group in reached_groups(charter, Member("", groups=groups))}

    @cached_property
    def _ranks_with_members(self) -> set[str]:
        """The ranks that are recorded for anybody, now or later."""
        charter, classes = self.old.compiled.charter, self.old.ready.alike()
        recorded = {
            assignment.rank
            for member_class in classes
            for assignment in member_class.given
            if assignment.period.end is None or assignment.period.end > self.now
        }
        recorded |= {
            conferred.rank for group in self._groups_with_members for conferred in charter.groups[group].confers
        }
        kinds = {(member_class.member.status, member_class.member.kind) for member_class in classes}
        there = {"anyone": True, "visitors": True, "members": bool(kinds), "bots": any(k == "bot" for _, k in kinds)}
        waits = any(status == Status.PENDING for status, _ in kinds)
        ranks = charter.ranks.values()
        return recorded | {rank.key for rank in ranks if there.get(rank.held_by or "") or (rank.entry and waits)}

    def _plain(
        self, label: str, form: str, both: Sequence[Asked], *, new: bool = False, empty: bool = False
    ) -> Iterator[Affected]:
        before, after = both
        if before.profile is None or after.profile is None:
            return
        yield Affected(
            label,
            form,
            (),
            before,
            self._pair(before.profile, after.profile),
            self.now,
            _NO_END,
            new=new,
            acts=after.acts,
            empty=empty,
        )
        # as whoever holds the rank may join open ones besides, and have the gain that way
        if form == "rank" and before.sort is Sort.RANK and before.is_active:
            joined = [each.with_open(asked, self.now) for each, asked in zip(self._open, both, strict=True)]
            if joined != [before.profile, after.profile]:
                yield Affected(
                    label, form, (), before, self._pair(joined[0], joined[1]), self.now, _NO_END, joined=True, new=new
                )

    # -- ranks

    def _rank(self, key: str) -> Iterator[Affected]:
        """Yield who is asked as a rank; where ``entry`` or ``held-by`` changes, each kind of person on both sides."""
        before, after = (d.compiled.charter.ranks.get(key) for d in (self.old, self.new))
        if after is None:
            return  # nobody can be asked as it any more, and whoever held it is a subject themselves
        title = after.called
        # a rank that becomes automatic speaks of other people: both kinds are looked at on both sides
        kinds = dict.fromkeys(_kind(rank) for rank in (before, after) if rank is not None)
        if before is None and _kind(after) == "given":
            both = (ask_anybody(self.old.compiled), ask_rank(self.new.compiled, after))
            yield from self._plain(title, "rank", both, new=True)
            return
        empty = key not in self._ranks_with_members
        for kind in kinds:
            both = (_as_kind(self.old.compiled, kind, before), _as_kind(self.new.compiled, kind, after))
            yield from self._plain(title, "rank", both, new=before is None, empty=empty)

    # -- members

    def _members(self) -> Iterator[Affected]:
        known = self.new.people.register.members
        for form, members in alike(self.old, self.new, concerned=True):
            if members[0] in known:
                yield from self._alike(form, tuple(members))

    def _alike(self, form: Form, keys: tuple[str, ...]) -> Iterator[Affected]:
        first, old = keys[0], self.old.people.register
        member = self.new.people.register.members[first]
        was, given = old.members.get(first), old.of(first)
        asked = ask_anybody(self.old.compiled) if was is None else self.old.people.ask(first, self.now)
        label, loses = member.called, was is None or was.status not in (*OUT, "invited")
        joins = self.difference.joins(first)
        opens = self._open[0].ranks or self._open[1].ranks
        is_plain = not opens and was is not None and was.is_active and member.is_active
        # the most common by far, and the quickest: somebody active on both sides, nothing to join, nothing that ends
        if is_plain and (always := _always(form)) is not None:
            yield Affected(label, "member", keys, asked, self._pair(*always), self.now, _NO_END)
            return
        for since, until in _stretches((*given, *self.new.people.register.of(first)), self.now):
            if is_plain:
                one, two = (_active_profile(decider, first, since) for decider in (self.old, self.new))
                yield Affected(label, "member", keys, asked, self._pair(one, two), since, until)
                continue
            after = _asked_at(self.new, member, since)
            before = ask_anybody(self.old.compiled) if was is None else _asked_at(self.old, was, since)
            one, two = as_active(before), as_active(after)
            # what they could have joined by themselves nobody gives them
            if joins:  # compared with somebody who has the open ranks that they may join
                one = self._open[0].with_open(before, since)
            yield Affected(label, "member", keys, asked, self._pair(one, two), since, until, loses, new=was is None)
            if member.is_active and opens:
                one, two = (each.with_open(a, since) for each, a in zip(self._open, (before, after), strict=True))
                yield Affected(
                    label,
                    "member",
                    keys,
                    asked,
                    self._pair(one, two),
                    since,
                    until,
                    loses,
                    joined=True,
                    new=was is None,
                )


def _always(form: Form) -> tuple[Profile, Profile] | None:
    """Return what some who are alike come down to on both sides, where nothing of theirs ever starts or ends."""
    before, after = form
    if before is None or after is None or before.only is None or after.only is None:
        return None
    one, two = before.only.profile, after.only.profile
    return None if one is None or two is None else (one, two)


def _active_profile(decider: Decider, key: str, at: Instant) -> Profile:
    """Return what an active member comes down to at a moment, as it is kept ready."""
    state = decider.ready.at(decider.ready.class_of(key), at)
    if state.profile is not None:
        return state.profile
    return as_active(_asked_at(decider, decider.people.register.members[key], at))  # the owner


def _asked_at(decider: Decider, member: Member, at: Instant) -> Asked:
    given = decider.people.register.of(member.key)
    return ask_member(decider.compiled, member, given, at, excepted=member.key in decider.compiled.exceptional)


def _stretches(given: Sequence[Assignment], now: Instant) -> Iterator[tuple[Instant, Instant]]:
    """Yield the stretches of time from now on in which none of these starts or ends."""
    starts = [now, *sorted(edges_of(given, now))]
    yield from zip(starts, [*starts[1:], _NO_END], strict=True)


def _kind(rank: Rank) -> str:
    """Return what kind of person is asked for as a rank (rule 4.9)."""
    if rank.held_by is not None:
        return {"anyone": "visitor", "visitors": "visitor", "members": "member", "bots": "bot"}[rank.held_by]
    return "pending" if rank.entry else "given"


def _as_kind(compiled: CompiledCharter, kind: str, rank: Rank | None) -> Asked:
    if kind == "visitor":
        return ask_visitor(compiled)
    if kind == "bot":
        return ask_bot(compiled)
    if kind == "pending":
        return ask_pending(compiled)
    if kind == "given" and rank is not None:
        return ask_rank(compiled, rank, given=not rank.paused)
    return ask_anybody(compiled)


class _Open:
    """The ranks that are open on one side, and who may join them (rule 4.7)."""

    def __init__(self, decider: Decider, now: Instant) -> None:
        self.decider, self.now, compiled = decider, now, decider.compiled
        self.ranks = [rank for rank in compiled.ranks if rank.may_be_joined]
        self._ends: dict[str, list[Instant]] = {}

    def with_open(self, asked: Asked, at: Instant) -> Profile:
        """Return what somebody comes down to at a moment, as if active, with every open rank that they may join."""
        profile, compiled = as_active(asked), self.decider.compiled
        anywhere = {compiled.ranks[holding.rank].key for holding in (*asked.recorded, *asked.active)}
        anywhere |= {assignment.rank for assignment in asked.later}
        root = {compiled.ranks[r].key for r, place in profile.placed if place == 0}
        root |= {compiled.ranks[r].key for r in profile.automatic}
        joined: set[int] = set()
        grew = True
        while grew:
            grew = False
            for rank in self.ranks:
                if rank.position in joined or not set(rank.after) <= root:
                    continue
                if self._apart(rank, anywhere) or (rank.key not in anywhere and self._full(rank, at)):
                    continue
                joined.add(rank.position)
                root.add(rank.key)
                grew = True
        if not joined:
            return profile
        return profile._replace(placed=profile.placed | {(position, 0) for position in joined})

    def _apart(self, rank: Rank, anywhere: set[str]) -> bool:
        ranks = self.decider.compiled.charter.ranks
        return any(key in rank.apart_from or rank.key in ranks[key].apart_from for key in anywhere)

    def _full(self, rank: Rank, at: Instant) -> bool:
        """Whether as many members have a rank at a moment, or come to have it later, as may."""
        return rank.limit is not None and sum(end > at for end in self._until(rank)) >= rank.limit

    def _until(self, rank: Rank) -> list[Instant]:
        """Return until when each member, the retired not counted, has a rank, who has it now or later."""
        if rank.key not in self._ends:
            register, ends = self.decider.people.register, self._ends.setdefault(rank.key, [])
            for other in self.decider.people.all(self.now):
                if other.is_retired:
                    continue
                if any(holding.rank == rank.position and holding.how != How.ASSIGNED for holding in other.recorded):
                    ends.append(_NO_END)
                    continue
                periods = [each.period for each in register.of(other.key or "") if each.rank == rank.key]
                given = [e.end for e in periods if e.contains(self.now) or e.comes_after(self.now)]
                ends += [max(_NO_END if end is None else end for end in given)] if given else []
        return self._ends[rank.key]
