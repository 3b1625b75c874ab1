"""Classes of members who answer alike.

Members that are equal in all that an answer depends on are of one class: an equivalence class. It knows the moments at
which its assignments start and end, so that a question never reads a date again. What is kept here is only ever added
to, and each piece is whole before it is reachable: any number of threads may ask at once.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Mapping, Sequence
from copy import copy

from ask_above.charter.moments import Instant
from ask_above.collecting import without_collecting
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.profile import Asked, Profile, ask_member
from ask_above.people.register import Assignment, Member, Register, edges_of

_LONG_AGO = -(1 << 62)
_MOST_RENEWED = 500
_MOST_SPARE = 20_000
"""So many classes may be kept that nobody is of any more, beside one for each member."""


class ClassState:
    """What a class is during one stretch of time; without a profile someone who can do nothing, or the owner."""

    __slots__ = ("owner", "profile")

    def __init__(self, profile: Profile | None, *, owner: bool) -> None:
        self.profile, self.owner = profile, owner


class MemberClass:
    """Members that are equal in all that an answer depends on.

    ``edges`` are the instants at which something changes, in order; ``states`` has one more than there are edges.
    ``only`` is the one state where nothing ever changes. ``member`` stands for them all, with the assignments and
    exceptions that they had when the class was made.
    """

    __slots__ = ("edges", "excepted", "given", "member", "only", "states")

    def __init__(self, member: Member, given: Sequence[Assignment] = (), *, excepted: bool = False) -> None:
        self.member, self.given, self.excepted = member, list(given), excepted
        self.edges: tuple[Instant, ...] = tuple(sorted(edges_of(given)))
        self.states: list[ClassState | None] = [None] * (len(self.edges) + 1)
        self.only: ClassState | None = None


class MemberClasses:
    """What is kept ready for one charter and one register.

    ``classes`` is shared by all communities that came from one another; ``renewed`` holds the few members for whom a
    change made it untrue, ``None`` until they are asked about.
    """

    def __init__(self, compiled: CompiledCharter, register: Register) -> None:
        self.compiled, self.register = compiled, register
        self.classes: dict[str, MemberClass] = {}
        self.renewed: dict[str, MemberClass | None] = {}
        self._alike: dict[tuple[object, ...], MemberClass] = {}
        self._states: dict[Profile, ClassState] = {}
        self._folded: dict[MemberClass, list[str]] | None = None
        self._nobody = ClassState(None, owner=False)
        self._owner = ClassState(None, owner=True)

    def after(self, compiled: CompiledCharter, register: Register) -> MemberClasses:
        """Return what is ready after a change of the members that the register names; all others are shared."""
        # in a service that lives for months, members leave a class behind with each change of theirs
        if len(self._alike) > len(register.members) + _MOST_SPARE:
            return MemberClasses(compiled, register)
        other = copy(self)
        other._folded = None
        other.compiled, other.register = compiled, register
        gone = compiled.exceptional ^ self.compiled.exceptional
        if register is not self.register:
            gone |= set(register.differing(self.register))
            # a sync of most members: beginning anew is cheaper than a long list of those who differ
            if len(gone) > _MOST_RENEWED and 2 * len(gone) > len(register.members):
                return MemberClasses(compiled, register)
        if gone:
            other.classes, renewed = self.classes, self.renewed | dict.fromkeys(gone)
            if len(renewed) > _MOST_RENEWED:
                merged = self.classes | renewed
                other.classes = {key: member_class for key, member_class in merged.items() if member_class is not None}
                renewed = {}
            other.renewed = renewed
        return other

    def class_of(self, key: str) -> MemberClass:
        """Return the class of a member."""
        classes: dict[str, MemberClass | None] | dict[str, MemberClass] = (
            self.renewed if key in self.renewed else self.classes
        )
        known = classes.get(key)
        if known is None:
            known = classes[key] = self._find(self.register.members[key])
        return known

    def all(self) -> Iterable[MemberClass]:
        """Return every member's class, in the register's order."""
        return map(self.class_of, self.register.members)

    @without_collecting()
    def alike(self) -> dict[MemberClass, list[str]]:
        """Return the members of each class, in the register's order; made once."""
        if self._folded is None:
            found: dict[MemberClass, list[str]] = {}
            for keys in self.register.alike(self.compiled.exceptional | {self.compiled.charter.owner}):
                found.setdefault(self.class_of(keys[0]), []).extend(keys)
            self._folded = found if self.register.in_order else _in_order(found, self.register.keys())
        return self._folded

    def _find(self, member: Member) -> MemberClass:
        given = self.register.of(member.key)
        excepted = member.key in self.compiled.exceptional
        # an exception and ownership are of one person: whoever has them is like nobody else
        own = member.key if excepted or member.key == self.compiled.charter.owner else None
        held = tuple(
            (assignment.rank, assignment.place, assignment.period.start, assignment.period.end) for assignment in given
        )
        alike = (member.status, member.kind, member.groups, own, excepted, held)
        known = self._alike.get(alike)
        if known is None:
            known = MemberClass(member, given, excepted=excepted)
            if not known.edges:
                known.only = self.at(known, _LONG_AGO)
            # two threads may make the same class at once; all go on with the one that came first
            known = self._alike.setdefault(alike, known)
        return known

    def at(self, member_class: MemberClass, when: Instant) -> ClassState:
        """Return the state of a class at an instant."""
        # a period is meant from its start on and until just before its end (4.6)
        n = bisect_right(member_class.edges, when)
        known = member_class.states[n]
        if known is None:
            since = member_class.edges[n - 1] if n else _LONG_AGO
            asked = ask_member(
                self.compiled, member_class.member, member_class.given, since, excepted=member_class.excepted
            )
            known = member_class.states[n] = self._state(asked)
        return known

    def _state(self, asked: Asked) -> ClassState:
        """Return the state of someone; equal profiles share one."""
        if asked.rules_all:
            return self._owner
        if asked.profile is None:
            return self._nobody
        return self._states.setdefault(asked.profile, ClassState(asked.profile, owner=False))


def _in_order(found: Mapping[MemberClass, list[str]], keys: Iterable[str]) -> dict[MemberClass, list[str]]:
    """Return the members of each class in the register's order: two spellings of one date have brought two lists."""
    number = {key: n for n, key in enumerate(keys)}
    in_order = {member_class: sorted(members, key=number.__getitem__) for member_class, members in found.items()}
    return dict(sorted(in_order.items(), key=lambda item: number[item[1][0]]))
