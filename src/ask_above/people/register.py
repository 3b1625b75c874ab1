"""The register: members, their groups, and who holds which rank where and when (rules 4.2 to 4.6)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping
from collections.abc import Set as AbstractSet
from enum import StrEnum
from operator import itemgetter
from typing import NamedTuple, Protocol
from weakref import WeakKeyDictionary, ref

from ask_above.charter.charter import Charter
from ask_above.charter.moments import ALWAYS, Instant, Period
from ask_above.charter.names import SITE, titled
from ask_above.charter.where import NOTHING, NOWHERE, Where

KINDS = ("person", "bot")


class Status(StrEnum):
    """Whether a member counts (rule 4.7); a member's own is text, as it is read and stored."""

    INVITED = "invited"
    PENDING = "pending"
    ACTIVE = "active"
    LOCKED = "locked"
    RETIRED = "retired"


STATUSES = tuple(status.value for status in Status)
OUT = (Status.LOCKED, Status.RETIRED)
"""The statuses of somebody who was let go or locked out, and may be brought back as they were."""

_MOST_CHANGED, _MOST_AT_ONCE = 500, 5_000
"""So many may differ from where a register comes from, by several changes or by one."""


class Member(NamedTuple):
    """A person or a bot. ``groups`` are those that the member was put into, not those that include them.

    ``joined`` tells that somebody has been active once, and since when. ``was`` is the status before somebody was
    locked or retired. ``id``, ``user_name`` and ``external_id`` are what other programs know the member by.
    ``distinct`` is the key where others in the register have the name.
    """

    key: str
    name: str = ""
    email: str = ""
    kind: str = "person"
    status: str = "active"
    joined: str = ""
    groups: tuple[str, ...] = ()
    note: str = ""
    id: str = ""
    user_name: str = ""
    external_id: str = ""
    was: str = ""
    phone: str = ""
    where: Where = NOWHERE
    distinct: str = ""

    @classmethod
    def of(cls, cells: Mapping[str, str], where: Where = NOWHERE) -> Member:
        """Return the member that the cells of a row stand for, by column; what is left out is as it usually is."""
        get, groups = cells.get, cells.get("groups")
        return cls(
            cells["key"],
            get("name", ""),
            get("email", ""),
            get("kind") or "person",
            get("status") or "active",
            get("joined", ""),
            tuple(dict.fromkeys(filter(None, map(str.strip, groups.split(";"))))) if groups else (),
            get("note", ""),
            get("id", ""),
            get("user_name", ""),
            get("external_id", ""),
            get("was", ""),
            get("phone", ""),
            where,
        )

    @property
    def is_active(self) -> bool:
        """Whether they take part."""
        return self.status == Status.ACTIVE

    @property
    def is_retired(self) -> bool:
        """Whether they left: their name stays, and nothing else counts."""
        return self.status == Status.RETIRED

    @property
    def restored(self) -> str:
        """The status that somebody locked or retired is brought back to (rule 4.7).

        Where the register does not say, it is active for who has been active once; else pending.
        """
        return self.was or ("active" if self.joined else "pending")

    @property
    def own_name(self) -> str:
        """The name as it is written, whoever else has it; the key where there is none."""
        return self.name or self.key

    @property
    def called(self) -> str:
        """The name, with the key where others have it too; the key where there is none."""
        return titled(self.name, self.key, self.distinct)

    @property
    def called_by_key(self) -> str:
        """The name with the key behind it, as it is typed; the key alone where there is none."""
        return f"{self.name} ({self.key})" if self.name else self.key


class Assignment(NamedTuple):
    """A member holds a rank at a place, and at all below it, for a period; ``number`` is its own in a database.

    ``source`` names the program outside that holds it there.
    """

    member: str
    rank: str
    place: str = SITE
    period: Period = ALWAYS
    by: str = ""
    why: str = ""
    where: Where = NOWHERE
    number: int = 0
    source: str = ""


def edges_of(given: Iterable[Assignment], after: Instant | None = None) -> set[Instant]:
    """Return the instants at which assignments start or end; those after a moment, where one is said."""
    edges = {edge for each in given for edge in (each.period.start, each.period.end) if edge is not None}
    return edges if after is None else {edge for edge in edges if edge > after}


class RegisterRows(Protocol):
    """What tells of a register that is kept in rows, and reads no more of it than is asked for."""

    def keys(self) -> Collection[str]:
        """Return the members' keys, in the register's order."""

    def names(self) -> Iterable[tuple[str, str, str]]:
        """Return the members' keys, names and user names, in the register's order."""

    def alike(self, apart: Iterable[str]) -> Iterable[list[str]]:
        """Return members of one status, kind and groups who hold the same together, in the register's order.

        Those ``apart`` are read as well, together.
        """

    def read(self, keys: Iterable[str]) -> None:
        """Read some members together, who are asked about one by one after it."""

    def naming(self, field: str, keys: Collection[str]) -> Iterable[str]:
        """Return members with an assignment whose rank, place or source is one of some, as assignments came."""


class Register:
    """All members and assignments; ``source`` names the file that members come from, for messages.

    A register that was made from another by changes shares with it all that they left alone.
    """

    _names: _Names | None

    def __init__(
        self, members: Mapping[str, Member] = NOTHING, assignments: Iterable[Assignment] = (), source: str = ""
    ) -> None:
        self.members, self._names = members, None
        if isinstance(members, dict):  # those that are read one by one are told apart by what reads them
            times = Counter(map(_NAME, members.values()))
            shared = {name for name, n in times.items() if n > 1} if len(times) < len(members) else set[str]()
            self._names = _Names(times)
            self.members = _told_apart(members, shared, self._names)
        self.source = source
        self._line = _Line()
        self._changed: dict[str, list[Assignment]] = {}
        given: dict[str, list[Assignment]] = {}
        for assignment in assignments:
            given.setdefault(assignment.member, []).append(assignment)
        self._of: Mapping[str, list[Assignment]] = given
        self._rows: RegisterRows | None = None

    def given_by(self, given: Mapping[str, list[Assignment]], rows: RegisterRows | None = None) -> None:
        """Take assignments by member from somewhere that knows them; only for a register that nobody has seen yet."""
        self._of, self._rows = given, rows

    def keys(self) -> Collection[str]:
        """Return the members' keys, in the register's order; who they are is not read for it."""
        return self.members.keys() if self._rows is None else self._rows.keys()

    def names(self) -> Iterable[tuple[str, str, str]]:
        """Return the members' keys, names and user names, in the register's order; nothing else is read for it."""
        if self._rows is None:
            return ((key, member.name, member.user_name) for key, member in self.members.items())
        return self._rows.names()

    @property
    def in_order(self) -> bool:
        """Whether those who are alike are told in the register's order, each by themselves."""
        return self._rows is None

    def alike(self, apart: AbstractSet[str | None]) -> Iterator[list[str]]:
        """Yield members who are alike by their rows together; each who is ``apart``, or not known by rows, alone."""
        if self._rows is None:
            yield from ([key] for key in self.members)
            return
        for keys in self._rows.alike(filter(None, apart)):
            alone = {key: None for key in keys if key in apart or key in self._changed}
            together = [key for key in keys if key not in alone] if alone else keys
            yield from [*([together] if together else []), *([key] for key in alone)]

    def assigned(self, assignment: Assignment) -> Register:
        """Return the register with one more assignment; it shares everything else with this one."""
        return self._with(assignment.member, [*self.of(assignment.member), assignment])

    def unassigned(self, assignment: Assignment) -> Register:
        """Return the register without an assignment; it shares everything else with this one."""
        return self._with(assignment.member, [each for each in self.of(assignment.member) if each != assignment])

    def with_member(self, member: Member) -> Register:
        """Return the register with another record of a member, known or new; it shares everything else with this one.

        A list of all members is made anew, so this costs as much as there are members.
        """
        return self.changed({member.key: member})

    def changed(
        self, members: Mapping[str, Member | None] = NOTHING, given: Mapping[str, list[Assignment]] = NOTHING
    ) -> Register:
        """Return the register with other records of some members, ``None`` for those who go, and other assignments.

        Where nothing is another it is the very same: who is alike, and in which order, need not be asked again.
        """
        if not members and not given:
            return self
        other = Register.__new__(Register)
        other.members, other.source, other._rows = self.members, self.source, None if members else self._rows
        other._names = self._names
        gone: dict[str, list[Assignment]] = {key: [] for key, member in members.items() if member is None}
        if members:
            other.members, other._names = self._with_records(members)
        new = {**given, **gone}
        other._line = self._line.after((*members, *new))
        # a long line of small changes would make every look-up go through all of them
        if len(self._changed) + len(new) > (_MOST_CHANGED if self._changed else _MOST_AT_ONCE):
            other._of, other._changed, other._rows = self._given() | new, {}, None
        else:
            other._of, other._changed = self._of, self._changed | new
        return other

    def _with_records(self, records: Mapping[str, Member | None]) -> tuple[dict[str, Member], _Names]:
        """Return the members with some changed, ``None`` for those who go, and their names, namesakes told apart."""
        after, gone, come = dict(self.members), list[str](), list[str]()
        names = self._names or _Names(Counter(map(_NAME, after.values())))
        for key, record in records.items():
            before = after.pop(key, None) if record is None else after.get(key)
            same = before is not None and record is not None and before.name == record.name
            gone += [before.name] if before and not same else []
            come += [record.name] if record and not same else []
            if record is not None:
                after[key] = record._replace(distinct=before.distinct if before and same else "")
        names, doubtful = names.after(gone, come)
        return _told_apart(after, doubtful, names), names

    def _with(self, member: str, given: list[Assignment]) -> Register:
        other = Register.__new__(Register)
        other.members, other.source, other._rows, other._names = self.members, self.source, self._rows, self._names
        other._line = self._line.after((member,))
        if len(self._changed) >= _MOST_CHANGED:
            other._of, other._changed, other._rows = self._given(), {}, None
        else:
            other._of, other._changed = self._of, self._changed.copy()
        other._changed[member] = given
        return other

    def differing(self, other: Register) -> list[str]:
        """Return the members whose record or assignments are not the very same in both, in the order of this one.

        Those who are in the other alone come last.
        """
        known = _LAST.get(self)
        if known is None or known[0]() is not other:
            known = _LAST[self] = ref(other), self._that_differ(other)
        return [*known[1]]

    def _that_differ(self, other: Register) -> list[str]:
        touched = self._line.touched(other._line)
        if touched is not None:
            return self._in_order(other, {key for key in touched if self._differs(other, key)})
        differing: set[str] = set()
        if self.members is not other.members:
            mine, theirs = self.members, other.members
            differing.update(key for key, member in mine.items() if theirs.get(key) is not member)
            differing.update(key for key in theirs if key not in mine)
        shared = self._of is other._of
        keys = {**self._changed, **other._changed} if shared else {**self._given(), **other._given()}
        differing.update(key for key in keys if not _same(self.of(key), other.of(key)))
        return self._in_order(other, differing)

    def _in_order(self, other: Register, keys: set[str]) -> list[str]:
        if len(keys) <= 1:
            return list(keys)
        return list(dict.fromkeys(key for side in (self.keys(), other.keys()) for key in side if key in keys))

    def _differs(self, other: Register, key: str) -> bool:
        return self.members.get(key) is not other.members.get(key) or not _same(self.of(key), other.of(key))

    def _given(self) -> dict[str, list[Assignment]]:
        """Return all assignments by member, in a new dict."""
        return {**self._of, **self._changed} if self._changed or not isinstance(self._of, dict) else self._of

    @property
    def assignments(self) -> tuple[Assignment, ...]:
        """All assignments, member by member."""
        return tuple(assignment for given in self._given().values() for assignment in given)

    def read(self, keys: Iterable[str]) -> None:
        """Read some members together, who are asked about one by one after it, where not all are known."""
        if self._rows is not None:
            self._rows.read(keys)

    def naming(self, field: str, keys: Collection[str]) -> list[Assignment]:
        """Return the assignments whose ``field``, their rank, place or source, is one of some, member by member."""
        if self._rows is None:
            return [each for each in self.assignments if getattr(each, field) in keys] if keys else []
        members = dict.fromkeys((*self._rows.naming(field, keys), *self._changed)) if keys else ()
        return [each for member in members for each in self.of(member) if getattr(each, field) in keys]

    def of(self, member: str) -> list[Assignment]:
        """Return a member's assignments, in the order of the file."""
        changed = self._changed.get(member)
        return self._of.get(member, []) if changed is None else changed


_LAST: WeakKeyDictionary[Register, tuple[ref[Register], list[str]]] = WeakKeyDictionary()
"""The register that each was compared with last, and who differs: every room that a change comes through asks that."""


_NAME = itemgetter(Member._fields.index("name"))


class _Names:
    """How many members have each name: counted once, and with what has changed since beside it."""

    def __init__(self, times: Mapping[str, int], changed: Mapping[str, int] = NOTHING) -> None:
        self._times, self._changed = times, changed

    def times(self, name: str) -> int:
        """Return how many have a name; nobody shares none."""
        return self._changed.get(name, self._times.get(name, 0)) if name else 0

    def after(self, gone: Iterable[str], come: Iterable[str]) -> tuple[_Names, set[str]]:
        """Return the names after some have gone and others come, and those that are or were shared among them."""
        more = Counter(come)
        more.subtract(gone)
        after = {**self._changed, **{name: self.times(name) + count for name, count in more.items()}}
        other = _Names(self._times, after) if len(after) < _MOST_AT_ONCE else _Names({**self._times, **after})
        # also where as many have come as have gone: they are others
        return other, {name for name in more if max(self.times(name), other.times(name)) > 1}


def _told_apart(members: dict[str, Member], names: AbstractSet[str], known: _Names) -> dict[str, Member]:
    """Mark with their keys those who share one of these names; whoever is marked rightly stays the same object."""
    among = [member for member in members.values() if member.name in names] if names else ()
    marked = ((member, member.key if known.times(member.name) > 1 else "") for member in among)
    changed = {member.key: member._replace(distinct=mark) for member, mark in marked if member.distinct != mark}
    return members | changed if changed else members


def _same(one: list[Assignment], two: list[Assignment]) -> bool:
    return one is two or (len(one) == len(two) and all(a is b for a, b in zip(one, two, strict=True)))


class _Line:
    """Where a register comes from: those made of one another share a beginning, and know what was changed since.

    So what differs between two of them is looked for among these members alone.
    """

    def __init__(self, beginning: object = None, changed: frozenset[str] = frozenset()) -> None:
        self.beginning, self.changed = beginning or self, changed

    def after(self, members: Iterable[str]) -> _Line:
        """Return where a register comes from that was made by changing these; after many a new line begins."""
        changed = self.changed.union(members)
        most = _MOST_CHANGED if self.changed else _MOST_AT_ONCE
        return _Line() if len(changed) > most else _Line(self.beginning, changed)

    def touched(self, other: _Line) -> frozenset[str] | None:
        """Return the members that may differ; ``None`` where two registers have nothing in common."""
        return self.changed | other.changed if self.beginning is other.beginning else None


def reached_groups(charter: Charter, member: Member) -> frozenset[str]:
    """Return every group that the member belongs to, the groups that include those too (rule 1.5)."""
    if not member.groups:
        return frozenset()
    included_in = including(charter)
    groups, todo = set(member.groups), list(member.groups)
    while todo:
        for outer in included_in.get(todo.pop(), ()):
            if outer not in groups:
                groups.add(outer)
                todo.append(outer)
    return frozenset(groups)


def including(charter: Charter) -> dict[str, list[str]]:
    """Return, for each group, the groups that include it."""
    result: dict[str, list[str]] = {}
    for group in charter.groups.values():
        for inner in group.includes:
            result.setdefault(inner, []).append(group.key)
    return result
