"""All answers of two communities side by side: whose differ, in what, and where (rule 5).

Both are swept at once, place by place, over rows of people who are alike in both; only what differs is kept.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias

import numpy as np

from ask_above.bulk.sides import Sides, merged
from ask_above.bulk.table import unpack
from ask_above.charter.moments import Instant
from ask_above.decide.classes import ClassState, MemberClass
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import VISITOR, Decider, Order
from ask_above.decide.profile import Asked, ask_rank, ask_visitor
from ask_above.people.register import Member, reached_groups

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from ask_above.bulk.table import Bits


Form: TypeAlias = tuple[MemberClass | None, MemberClass | None]
"""What members come down to before and after; ``None`` where they are not there."""
_LINES = 4096  # answers of everyone that are counted at a time
_AT_A_TIME = 1 << 24  # bytes of one side's block of places
_NOBODY = ClassState(None, owner=False)
FOREVER: Instant = 1 << 62
_NONE = np.zeros(0, dtype=np.int64)
Stretch: TypeAlias = tuple[Instant, Instant]
"""From one instant until another; the second is ``FOREVER`` where it has no end."""


class MemberNumbers:
    """The members in the register's order, and where in it those of each class stand; made once, kept beside a decider.

    ``everyone`` has their keys, ``of`` the numbers of each class.
    """

    def __init__(self, decider: Decider) -> None:
        self._register, self._exceptional = decider.people.register, decider.compiled.exceptional
        self.everyone: NDArray[np.object_] = np.array(list(self._register.keys()), dtype=np.object_)
        number = decider.keep(Order).number
        self.of: dict[MemberClass, NDArray[np.int64]] = {
            member_class: np.fromiter(map(number.__getitem__, keys), dtype=np.int64, count=len(keys))
            for member_class, keys in decider.ready.alike().items()
        }

    def after(self, decider: Decider) -> MemberNumbers | None:
        """Return them after a change, where nobody comes to be of another class."""
        same = decider.people.register is self._register and decider.compiled.exceptional == self._exceptional
        return self if same else None


def alike(old: Decider, new: Decider, *, concerned: bool = False) -> Iterable[tuple[Form, list[str]]]:
    """Return the members who are alike in both communities, with what they come down to in each.

    Where both read the same charter, these are the members alone whose record or assignments differ: all others have
    the same answers. With ``concerned`` those are left out too whose answers another charter leaves as they are.
    """
    before, after = old.people.register, new.people.register
    apart = dict.fromkeys(after.differing(before))
    forms: dict[Form, list[str]] = {}
    # another charter may change anybody's answers; the same one only those whose record differs
    if old.compiled is not new.compiled:
        owners = {decider.compiled.charter.owner for decider in (old, new)}
        own = {owner for owner in owners if owner} if len(owners) > 1 else set[str]()
        apart |= dict.fromkeys(sorted(own | (old.compiled.exceptional ^ new.compiled.exceptional)))
        is_concerned = _concern(old.compiled, new.compiled) if concerned else None
        for member_class, members in old.ready.alike().items():
            if is_concerned is not None and not is_concerned(member_class):
                continue
            # who is of one class, and the same in both registers, is alike on the other side too
            keys = [key for key in members if key not in apart] if apart else members
            if keys:
                forms[member_class, new.ready.class_of(keys[0])] = keys
    for key in apart:
        form = (
            old.ready.class_of(key) if key in before.members else None,
            new.ready.class_of(key) if key in after.members else None,
        )
        if form != (None, None):
            forms.setdefault(form, []).append(key)
    return forms.items()


def _concern(old: CompiledCharter, new: CompiledCharter) -> Callable[[MemberClass], bool] | None:
    """Return what tells whether another charter may change the answers of a class; ``None`` where it may anybody's."""
    spoken_of = old.differing(new)
    if spoken_of is None:
        return None
    groups = old.charter.groups
    reached = {key: reached_groups(old.charter, Member("", groups=(key,))) for key in groups}
    concerned = {
        key
        for key, inside in reached.items()
        if not spoken_of.isdisjoint((*inside, *(given.rank for each in inside for given in groups[each].confers)))
    }

    def concerns(member_class: MemberClass) -> bool:
        member = member_class.member
        given = (assignment.rank for assignment in member_class.given)
        return not (spoken_of.isdisjoint((f"@{member.key}", *given)) and concerned.isdisjoint(member.groups))

    return concerns


class Alike(NamedTuple):
    """Members who are alike in both communities, and their row in each stretch of time from now on.

    ``rows`` has the instant at which a stretch begins, the one at which it ends, and the row; -1 where nothing differs.
    ``numbers`` are the members' places in the order of all who are compared.
    """

    members: tuple[str, ...]
    rows: tuple[tuple[Instant, Instant, int], ...]
    numbers: NDArray[np.int64]


class InRows(NamedTuple):
    """Things, and the rows that they stand in, one beside the other."""

    rows: NDArray[np.int64]
    things: NDArray[Any]

    def within(self, rows: NDArray[np.bool_]) -> list[Any]:
        """Return those in any of these rows."""
        things: list[Any] = self.things[rows[self.rows]].tolist()
        return things


class Crowds(NamedTuple):
    """Who is compared: those who are alike in both communities share a row, and so do stretches of time that are alike.

    ``members`` are those who stay the same from ``now`` on, in the registers' order, ``row`` the row of each. ``alike``
    are the others, ``spots`` the number of each in each of its rows. ``everyone`` are both in that order, ``numbers``
    where in it ``members`` stand. ``counts[n]`` is how many of ``members`` are in row n, ``ranks`` the ranks that are
    asked in rows of their own, and ``visitor``. ``old[n]`` and ``new[n]`` are what the row comes down to.
    """

    now: Instant
    members: tuple[str, ...]
    row: NDArray[np.int64]
    alike: list[Alike]
    everyone: NDArray[np.object_]
    numbers: NDArray[np.int64]
    counts: NDArray[np.int64]
    ranks: InRows
    spots: InRows
    old: list[ClassState]
    new: list[ClassState]

    def sizes(self) -> NDArray[np.int64]:
        """Return how many members stand in each row, of those who stand in one row alone."""
        counts = self.counts.copy()
        for each in self.alike:
            rows = {row for _, _, row in each.rows if row >= 0}
            if len(rows) == 1:
                counts[rows.pop()] += len(each.members)
        return counts

    def changing(self) -> list[tuple[list[int], int]]:
        """Return the rows of those who stand in several as time goes on, and how many they are."""
        found = ((sorted({row for _, _, row in each.rows if row >= 0}), len(each.members)) for each in self.alike)
        return [(rows, count) for rows, count in found if len(rows) > 1]

    def people(self, rows: NDArray[np.bool_]) -> dict[Stretch, MembersOf]:
        """Return the members in any of these rows, by the stretches of time in which they are."""
        groups: dict[Stretch, list[Alike]] = {}
        for n in dict.fromkeys(self.spots.within(rows)):
            group, stretches = self.alike[n], list[Stretch]()
            for since, until, row in group.rows:
                if row < 0 or not rows[row]:
                    continue
                if stretches and stretches[-1][1] == since:
                    stretches[-1] = (stretches[-1][0], until)
                else:
                    stretches.append((since, until))
            for stretch in stretches:
                groups.setdefault(stretch, []).append(group)
        always = (self.now, FOREVER)
        by_time = {stretch: MembersOf(self, some, rows & (stretch == always)) for stretch, some in groups.items()}
        return {always: MembersOf(self, (), rows), **by_time} if self.counts[rows].any() else by_time

    def count(self, rows: NDArray[np.bool_]) -> int:
        """Count the members who are in any of these rows at any time."""
        others = {*self.spots.within(rows)}
        return int(self.counts[rows].sum()) + sum(len(self.alike[n].members) for n in others)

    def rows_of(self, member: str) -> list[int]:
        """Return the rows of a member."""
        if member in self.members:
            return [int(self.row[self.members.index(member)])]
        return [row for each in self.alike if member in each.members for _, _, row in each.rows if row >= 0]


class MembersOf(Sequence[str]):
    """Keys of members, in the registers' order: counted at once, and named when they are first looked at.

    A change of the site may be of millions of members in hundreds of groups, of whom a few are ever read.
    """

    def __init__(self, crowds: Crowds, groups: Sequence[Alike], rows: NDArray[np.bool_]) -> None:
        self._crowds, self._groups, self._rows = crowds, groups, rows
        self._count = int(crowds.counts[rows].sum()) + sum(len(group.members) for group in groups)

    @cached_property
    def _keys(self) -> tuple[str, ...]:
        crowds = self._crowds
        numbers = [crowds.numbers[self._rows[crowds.row]], *(group.numbers for group in self._groups)]
        return tuple(crowds.everyone[np.sort(np.concatenate(numbers))].tolist())

    def __len__(self) -> int:
        return self._count

    def __getitem__(self, n: Any) -> Any:
        return self._keys[n]

    def __iter__(self) -> Iterator[str]:
        return iter(self._keys)

    def __eq__(self, other: object) -> bool:
        return self._keys == (other._keys if isinstance(other, MembersOf) else other)

    def __hash__(self) -> int:
        return hash(self._keys)

    def __repr__(self) -> str:
        return repr(self._keys)


class TableDifference(NamedTuple):
    """At some places the answers of some rows about one capability differ: those of ``bits`` gained or lost it."""

    places: list[str]
    capability: str
    gains: bool
    bits: bytes


def crowds(old: Decider, new: Decider, at: Instant, *, apart: str | None = None) -> Crowds:
    """Return everyone who can be asked about in either community, those who are alike together.

    The member ``apart`` has rows of their own. Only those have a row whom the change may concern: all others have the
    same answers.
    """
    gathering = _Gathering(old, new, at)
    # where the register is the same, who stands where in it is known, and nobody is looked at one by one
    known = old.keep(MemberNumbers) if apart is None and old.people.register is new.people.register else None
    for form, keys in alike(old, new, concerned=True):
        if apart is not None and apart in keys:
            gathering.add(form, (apart,), apart=True)
            keys = [key for key in keys if key != apart]  # noqa: PLW2901 (the others of them)
        if keys:
            gathering.add(form, tuple(keys))
    if old.compiled is not new.compiled:
        for who, before, after in _others(old, new):
            gathering.other(who, _state(before), _state(after))
    return gathering.crowds(known)


class _Gathering:
    """Puts people into rows."""

    def __init__(self, old: Decider, new: Decider, at: Instant) -> None:
        self.old, self.new, self.at, self.same = old, new, at, old.compiled is new.compiled
        self._always: list[tuple[Form, tuple[str, ...], int]] = []
        self._alike: list[tuple[Form, Alike]] = []
        self._ranks: dict[int, str] = {}
        self._before: list[ClassState] = []
        self._after: list[ClassState] = []
        self._rows: dict[tuple[ClassState, ClassState], int] = {}

    def add(self, form: Form, members: tuple[str, ...], *, apart: bool = False) -> None:
        """Add members who are alike: a row for each stretch of time in which they are something else."""
        one, other = (_NOBODY if member_class is None else member_class.only for member_class in form)
        if one is not None and other is not None and not apart:  # most never change
            row = self._row((one, other), self._rows)
            if row >= 0:
                self._always.append((form, members, row))
            return
        edges = {
            edge for member_class in form if member_class is not None for edge in member_class.edges if edge > self.at
        }
        starts = [self.at, *sorted(edges)]
        rows, own = [], dict[tuple[ClassState, ClassState], int]()
        for since, until in zip(starts, [*starts[1:], FOREVER], strict=True):
            both = tuple(
                _NOBODY if member_class is None else decider.ready.at(member_class, since)
                for decider, member_class in zip((self.old, self.new), form, strict=True)
            )
            rows.append((since, until, self._row((both[0], both[1]), own if apart else self._rows)))
        if len(rows) == 1 and rows[0][2] >= 0:
            self._always.append((form, members, rows[0][2]))
        elif any(row >= 0 for _, _, row in rows):
            self._alike.append((form, Alike(members, tuple(rows), _NONE)))

    def crowds(self, known: MemberNumbers | None) -> Crowds:
        """Return all that was gathered; ``known`` says where everybody stands in a register that both sides have."""
        everyone = self._in_order() if known is None else known.everyone
        number: dict[str, int] = {}

        def numbers_of(form: Form, members: tuple[str, ...]) -> NDArray[np.int64]:
            of_class = known.of[form[0]] if known is not None and form[0] is not None else _NONE
            if len(of_class) == len(members):  # all of the class, and not one or some of whom something else is so
                return of_class
            if not number:
                number.update((key, n) for n, key in enumerate(everyone.tolist()))
            return np.fromiter(map(number.__getitem__, members), dtype=np.int64, count=len(members))

        row = np.full(len(everyone), -1, dtype=np.int64)
        for form, members, at in self._always:
            row[numbers_of(form, members)] = at
        others = [each._replace(numbers=numbers_of(form, each.members)) for form, each in self._alike]
        numbers = np.flatnonzero(row >= 0)
        spots = [(at, n) for n, each in enumerate(others) for _, _, at in each.rows if at >= 0]
        return Crowds(
            self.at,
            tuple(everyone[numbers].tolist()),
            row[numbers],
            others,
            everyone,
            numbers,
            np.bincount(row[numbers], minlength=len(self._before)).astype(np.int64),
            InRows(np.array([*self._ranks], dtype=np.int64), np.array([*self._ranks.values()], dtype=np.object_)),
            InRows(*np.array(spots, dtype=np.int64).reshape(-1, 2).T),
            self._before,
            self._after,
        )

    def _in_order(self) -> NDArray[np.object_]:
        """Return those who were gathered in the registers' order."""
        wanted = {key for _, members, _ in self._always for key in members}
        wanted |= {key for _, each in self._alike for key in each.members}
        if len(wanted) < 2:  # noqa: PLR2004 (one has no order)
            return np.array(list(wanted), dtype=np.object_)
        both = (self.new.people.register.keys(), self.old.people.register.keys())
        return np.array(list(dict.fromkeys(key for side in both for key in side if key in wanted)), dtype=np.object_)

    def other(self, who: str, before: ClassState, after: ClassState) -> None:
        """Add a rank or a visitor, in a row of their own."""
        self._ranks[len(self._before)] = who
        self._before.append(before)
        self._after.append(after)

    def _row(self, both: tuple[ClassState, ClassState], rows: dict[tuple[ClassState, ClassState], int]) -> int:
        one, two = both
        # one charter and one profile: no answer can differ, and most members are such
        if self.same and (one.profile, one.owner) == (two.profile, two.owner):
            return -1
        known = rows.get(both)
        if known is None:
            known = rows[both] = len(self._before)
            self._before.append(one)
            self._after.append(two)
        return known


def _others(old: Decider, new: Decider) -> Iterator[tuple[str, Asked | None, Asked | None]]:
    for key in dict.fromkeys((*new.compiled.rank_at, *old.compiled.rank_at)):
        yield (
            f"rank:{key}",
            ask_rank(old.compiled, old.compiled.charter.ranks[key]) if key in old.compiled.charter.ranks else None,
            ask_rank(new.compiled, new.compiled.charter.ranks[key]) if key in new.compiled.charter.ranks else None,
        )
    yield VISITOR, ask_visitor(old.compiled), ask_visitor(new.compiled)


def _state(asked: Asked | None) -> ClassState:
    return _NOBODY if asked is None else ClassState(asked.profile, owner=asked.rules_all)


class _Block(NamedTuple):
    """Some places and capabilities: what every row can use there on either side, and what of it turns."""

    places: Sequence[str]
    capabilities: list[str]
    old: Bits
    new: Bits
    turned: Bits


def differences(
    old: Decider, new: Decider, found: Crowds, places: Sequence[str], told: Callable[[int, int], None] | None = None
) -> Iterator[TableDifference]:
    """Yield what differs, the places where it is the same together, in the order of ``places``.

    What is not there on one side is a no there. Of many places that are looked at in several goes, a go each.
    """
    for block in _blocks(old, new, found, places, told):
        here = np.array(block.places, dtype=np.object_)
        for gains, side in ((True, block.new), (False, block.old)):
            bits = np.bitwise_and(block.turned, side)
            anybody = np.asarray(bits.any(axis=2))
            for n in np.flatnonzero(anybody.any(axis=0)).tolist():
                at = np.flatnonzero(anybody[:, n])
                for people, some in _alike_rows(bits[at, n]):
                    yield TableDifference(here[at[some]].tolist(), block.capabilities[n], gains, people)


def _alike_rows(bits: Bits) -> Iterator[tuple[bytes, NDArray[np.int64]]]:
    """Yield each set of bits that is there, with the numbers of the lines that hold it."""
    # a line as one value, so that NumPy compares whole sets of people at once
    lines = np.ascontiguousarray(bits).view(np.dtype((np.void, bits.shape[1] * 8))).ravel()
    if bool((bits == np.broadcast_to(bits[:1], bits.shape)).all()):
        yield lines[0].tobytes(), np.arange(len(lines))
        return
    found, which = np.unique(lines, return_inverse=True)
    order = np.argsort(which, kind="stable")
    ends = np.cumsum(np.bincount(which, minlength=len(found)))
    for people, some in zip(found, np.split(order, ends[:-1]), strict=True):
        yield people.tobytes(), some


def rows_in(bits: bytes, count: int) -> NDArray[np.bool_]:
    """Return which of so many rows are in a set of bits."""
    return unpack(np.frombuffer(bits, dtype=np.uint64))[:count]


class TurnedRows(NamedTuple):
    """How many answers differ, the rows that they are of, and which capabilities somebody gains."""

    answers: int
    rows: NDArray[np.bool_]
    gained: frozenset[str]


def turned(old: Decider, new: Decider, found: Crowds, own: tuple[str, str, Sequence[int]] | None = None) -> TurnedRows:
    """Count the answers that differ.

    One answer may be left aside: ``own`` is its place, its capability and its rows.
    """
    sizes, changing, rows = found.sizes(), found.changing(), len(found.old)
    gained: set[str] = set()
    answers, anyone = 0, np.zeros(-(-rows // 64), dtype=np.uint64)
    for block in _blocks(old, new, found, list(old.compiled.place_at), None):
        if own is not None and own[0] in block.places and own[1] in block.capabilities:
            line = block.turned[block.places.index(own[0]), block.capabilities.index(own[1])]
            for row in own[2]:
                line[row // 64] &= ~np.uint64(1 << row % 64)
        more = np.bitwise_or.reduce(np.bitwise_or.reduce(block.turned & block.new, axis=2), axis=0)
        gained.update(block.capabilities[n] for n in np.flatnonzero(more).tolist())
        lines = block.turned[block.turned.any(axis=2)]
        anyone |= np.bitwise_or.reduce(lines, axis=0)
        for start in range(0, len(lines), _LINES):
            some = np.ascontiguousarray(lines[start : start + _LINES])
            bits = np.unpackbits(some.view(np.uint8), axis=1, bitorder="little")[:, :rows]
            answers += int(bits.sum(axis=0, dtype=np.int64) @ sizes)
            # an answer of somebody counts once, however often it turns
            answers += sum(int(bits[:, some_rows].any(axis=1).sum()) * count for some_rows, count in changing)
    return TurnedRows(answers, unpack(anyone)[:rows], frozenset(gained))


def _blocks(
    old: Decider, new: Decider, found: Crowds, places: Sequence[str], told: Callable[[int, int], None] | None
) -> Iterator[_Block]:
    """Yield the places, and the capabilities, that may differ; the arrays are used again."""
    if not found.old:
        return
    capabilities = merged(old.compiled.catalogue.keys, new.compiled.catalogue.keys)
    touched = _touched(old, new, found)
    if touched is not None:
        places = [key for key in places if new.compiled.place_at[key] in touched]
    sides = Sides((old, found.old), (new, found.new), capabilities)
    places, some = sides.may_differ(places)
    keys = [capabilities.keys[n] for n in some.tolist()]
    room = max(1, _AT_A_TIME // (max(1, len(some)) * sides.words * 8))
    for start in range(0, len(places), room):
        if told:
            told(start, len(places))
        here = places[start : start + room]
        one, other = sides.old.at(here, some), sides.new.at(here, some)
        different = one ^ other
        different[..., -1] &= sides.last
        yield _Block(here, keys, one, other, different)


def _touched(old: Decider, new: Decider, found: Crowds) -> frozenset[int] | None:
    """Return the places that alone can differ, where people are the same and only what places say was changed."""
    pairs = zip(found.old, found.new, strict=True)
    if any((one.profile, one.owner) != (other.profile, other.owner) for one, other in pairs):
        return None
    kept = old.compiled.after(new.compiled.charter)
    return None if kept is None else kept[1]
