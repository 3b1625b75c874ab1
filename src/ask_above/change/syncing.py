"""Take over who a directory says is here, and what its groups give: one edit, which touches what the mapping claims.

People as a directory has them: who is in which of its groups, through groups in groups too.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from ask_above.change.draft import Done, Draft, EditError, RowChange, changed_member, ended, given, member_row
from ask_above.change.people import good_address, on_joining_to, rows_on_joining
from ask_above.charter.moments import ALWAYS
from ask_above.charter.names import SITE, how_many, nearest
from ask_above.errors import UnknownNameError
from ask_above.people.recognising import Known, Recogniser, key_from, new_key
from ask_above.people.register import OUT, Assignment, Member, Status


class Outsider(NamedTuple):
    """A person of a directory: the number that never changes, what a key is made of, name, address, groups by name.

    ``phone`` is the telephone number, empty where the directory has none.
    """

    number: str
    key: str
    name: str
    email: str
    groups: frozenset[str]
    phone: str = ""


class LeftOut(NamedTuple):
    """A person of a directory whom a sync leaves out: whom they are likely, and who has their address, by key."""

    person: Outsider
    likely: list[str]
    has_address: list[str]


class OutsideGroup(NamedTuple):
    """A group of a directory: its name, its own id, and the ids of people and groups that are in it."""

    id: str
    name: str
    members: frozenset[str]


def groups_of(groups: Iterable[OutsideGroup]) -> dict[str, frozenset[str]]:
    """Return, for each id that is in a group, the names of all groups it is in, through groups in groups and rings too.

    >>> inner = OutsideGroup("g1", "Otters", frozenset({"ida"}))
    >>> outer = OutsideGroup("g2", "Beasts", frozenset({"g1", "jo"}))
    >>> sorted(groups_of([inner, outer])["ida"])
    ['Beasts', 'Otters']
    """
    known = {group.id: group for group in groups}
    above: dict[str, set[str]] = {}
    for group in known.values():
        for member in group.members:
            above.setdefault(member, set()).add(group.id)

    def reached(start: str) -> frozenset[str]:
        names: set[str] = set()
        waiting = list(above.get(start, ()))
        while waiting:
            group = waiting.pop()
            if group not in names:
                names.add(group)
                waiting += above.get(group, ())
        return frozenset(known[group].name for group in names)

    return {member: reached(member) for member in above}


def twice(people: Sequence[Outsider]) -> Mapping[str, int]:
    """Return the numbers that more than one person has, and how many have each."""
    seen = Counter(person.number.casefold() for person in people)
    return {person.number: seen[person.number.casefold()] for person in people if seen[person.number.casefold()] > 1}


class GroupGives(NamedTuple):
    """What a group of the directory gives: a rank at a place, or membership of a group here."""

    group: str
    rank: str = ""
    place: str = SITE
    into: str = ""


class Sync(NamedTuple):
    """Make the register what a directory says; ``source`` is the directory's name here.

    Members are known by ``source`` and their number, kept as ``external_id``; with ``link`` those are taken over who
    are likely somebody that is here, by address or key, and left out else. Ranks given here name the source, and only
    those are taken again: what was given by hand stays. ``retires`` those who are gone.

    Run by a member who is not the owner it is an import: no ids and no source are written (rule 9.3).
    """

    source: str
    people: Sequence[Outsider]
    gives: Sequence[GroupGives]
    retires: bool = False
    link: bool = False

    def on(self, draft: Draft) -> Done:
        """Return the change; raises :class:`EditError` and :class:`UnknownNameError`."""
        self._check(draft)
        working = _Syncing(self, draft)
        rows = working.rows()
        gone = absent(self, draft)
        for member in gone if self.retires else ():
            rows += working.gone(member)
        count = len({row.key if row.table == "members" else (row.after or row.before or {})["member"] for row in rows})
        many = how_many(count, "member")
        return Done(f"take over {self.source}: {many} changed of {len(self.people):,}", (), tuple(rows))

    def number(self, person: Outsider) -> str:
        """Return what a person of the directory is known by here; numbers are compared without case."""
        return f"{self.source}:{person.number}"

    def _check(self, draft: Draft) -> None:
        for number, count in twice(self.people).items():
            raise EditError(f"{count} people of {self.source} have the number '{number}'; it must tell people apart.")
        for gives in self.gives:
            if gives.rank:
                rank = draft.rank(gives.rank)
                draft.place(gives.place)
                if rank.automatic:
                    raise EditError(f"{rank.called} is automatic; no directory assigns it.")
            elif gives.into not in draft.charter.groups:
                raise UnknownNameError("group", gives.into, nearest(gives.into, draft.charter.groups))


class LetGo(NamedTuple):
    """Let all that a directory holds be kept by hand from now on; nobody gains or loses anything."""

    source: str

    def on(self, draft: Draft) -> Done:
        """Return the change; raises :class:`EditError` where the directory holds nothing."""
        theirs = (m for m in draft.register.members.values() if m.external_id.startswith(f"{self.source}:"))
        rows = [changed_member(member, {"external_id": ""}) for member in theirs]
        rows += [ended(each, {"source": ""}) for each in draft.register.naming("source", {self.source})]
        if not rows:
            raise EditError(f"Nothing here comes from {self.source}.")
        return Done(f"keep by hand what came from {self.source}", (), tuple(rows))


def absent(sync: Sync, draft: Draft) -> list[Member]:
    """Return the members that came from a directory and are in it no more; never the owner, and nobody retired."""
    there = {sync.number(person).casefold() for person in sync.people}
    known = draft.register.members.values()
    return [
        member
        for member in known
        if member.external_id.startswith(f"{sync.source}:")
        and member.external_id.casefold() not in there
        and not member.is_retired
        and member.key != draft.charter.owner
    ]


def taken_over(sync: Sync, draft: Draft) -> int:
    """Return how many members came from a directory and are not retired."""
    known = draft.register.members.values()
    return sum(m.external_id.startswith(f"{sync.source}:") and not m.is_retired for m in known)


class _Syncing:
    """The people of a directory as they are met here, first those who are known by number.

    Who the others are likely is looked for when those who are known have what the directory says of them, so that the
    same directory a second time changes nothing.
    """

    def __init__(self, sync: Sync, draft: Draft) -> None:
        self.sync, self.draft = sync, draft
        self.trusted = draft.by in ("", draft.charter.owner)
        self.source = sync.source if self.trusted else ""
        self.people = Recogniser()
        self.register, self.waiting = draft.register, list(sync.people)
        self.met: set[str] = set()
        self.taken = {*draft.register.members, *draft.charter.ranks}
        self.joining = rows_on_joining(draft)
        self.claimed = {each.into for each in sync.gives if each.into}

    def rows(self) -> list[RowChange]:
        """Return what changes about all of them; whoever is left out is in ``waiting`` then."""
        by_number = [
            (person, self.people.who(self.register, Known(self.sync.number(person)))) for person in self.waiting
        ]
        rows = self._take([(person, key) for person, key in by_number if key is not None])
        while linked := self._linked() if self.sync.link else []:
            rows += self._take(linked)
        return rows + self._take([(person, None) for person in self.waiting if self.left_out(person) is None])

    def left_out(self, person: Outsider) -> LeftOut | None:
        """Return why somebody who is known by no number is left out; ``None`` for who is new."""
        likely = self._likely(person)
        has_address = self.people.find(self.register, "email", person.email.casefold()) if person.email else []
        return LeftOut(person, likely, has_address) if likely or has_address else None

    def _likely(self, person: Outsider) -> list[str]:
        known = Known(key=key_from(person.key), email=person.email)
        # who is known by another number of this directory, or of another one, is somebody else
        members = self.register.members
        keys = self.people.likely(self.register, known)
        return [key for key in keys if not members[key].external_id and key not in self.met]

    def _linked(self) -> list[tuple[Outsider, str | None]]:
        """Return who is likely one member, and nobody else of the directory is."""
        likely = [(person, self._likely(person)) for person in self.waiting]
        wanted = Counter(key for _, keys in likely for key in keys)
        return [(person, keys[0]) for person, keys in likely if len(keys) == 1 == wanted[keys[0]]]

    def _take(self, met: Sequence[tuple[Outsider, str | None]]) -> list[RowChange]:
        """Return what changes about people, each with the key of the member they are; ``None`` is somebody new."""
        rows = [row for person, key in met for row in self._person(person, key)]
        self.met |= {key for _, key in met if key is not None}
        numbers = {person.number for person, _ in met}
        self.waiting = [person for person in self.waiting if person.number not in numbers]
        members = {row.key: Member.of(row.after) for row in rows if row.table == "members" and row.after is not None}
        self.register = self.register.changed(members, {})
        return rows

    def _person(self, person: Outsider, known: str | None) -> Iterator[RowChange]:
        if known is None:
            key = new_key(person.key or person.name, self.taken)
            self.taken.add(key)
            member = Member(key, status="active", joined=self.draft.day)
            before = None
        else:
            key, member = known, self.register.members[known]
            before = member_row(member)
        wanted = {each.into for each in self.sync.gives if each.into and each.group in person.groups}
        groups = [group for group in member.groups if group not in self.claimed or group in wanted]
        groups += sorted(wanted - set(groups))
        address = person.email if not person.email or good_address(person.email) else ""
        after = member_row(member) | {
            "name": person.name or member.name,
            "email": address or member.email,
            "phone": person.phone or member.phone,
            "external_id": self.sync.number(person) if self.trusted else member.external_id,
            "groups": ";".join(groups),
        }
        if member.is_retired:
            after |= {"status": member.restored, "was": ""}
        if before != after:
            yield RowChange("members", key, before, after)
        if before is None:
            yield from on_joining_to(self.draft, key, self.joining)
        yield from self._ranks(key, person, locked=member.status == Status.LOCKED)

    def _ranks(self, key: str, person: Outsider, *, locked: bool) -> Iterator[RowChange]:
        wanted = {(each.rank, each.place) for each in self.sync.gives if each.rank and each.group in person.groups}
        held = list(self.draft.register.of(key))
        for assignment in held:
            spot = assignment.rank, assignment.place
            if assignment.source and assignment.source == self.source and spot not in wanted:
                yield ended(assignment)
        if locked:  # is given nothing, and has nothing to come back to that the directory has taken
            return
        # what somebody was given by hand as well stays theirs, and is not given twice
        for rank, place in sorted(wanted - {(e.rank, e.place) for e in held if e.period == ALWAYS}):
            why = f"from {self.sync.source}"
            yield given(Assignment(key, rank, place, ALWAYS, self.draft.by, why, source=self.source))

    def gone(self, member: Member) -> Iterator[RowChange]:
        """Yield what retires somebody, with what the directory gave them."""
        was = member.was if member.status in OUT else member.status
        yield changed_member(member, {"status": "retired", "was": was})
        yield from (ended(each) for each in self.draft.register.of(member.key) if each.source == self.sync.source)


def left_out(sync: Sync, draft: Draft) -> list[LeftOut]:
    """Return the people of a directory who are likely somebody here and were not linked."""
    working = _Syncing(sync, draft)
    working.rows()
    return [why for person in working.waiting if (why := working.left_out(person))]
