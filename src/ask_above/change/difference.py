"""What a change is: the difference between a community before it and after it, and nothing else (rule 9.1).

Two charters and registers are laid side by side, field by field and period by period. What comes out are parts: one
thing that differs in one field. All that a change takes, does, breaks and is told by follows from them; which command
made it, how a value was spelled and in how many steps leaves no trace here.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

from ask_above.change.parts import (
    CHARTER_ROWS,
    GROUP_ROWS,
    IDENTITY,
    MEMBER_ROWS,
    PERK_ROWS,
    PLACE_ROWS,
    RANK_ROWS,
    SET_ROWS,
    Coverage,
    DifferencePart,
    EditRow,
    Given,
    Kind,
    State,
    coverage,
    entries,
)
from ask_above.charter.catalogue import content
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant
from ask_above.charter.renaming import Renaming, renamed
from ask_above.decide.decider import Decider
from ask_above.people.register import OUT, Assignment, Member, Register, Status

OWNERS = ("unbounded", "kept_by", "after", "apart_from", "limit", "lists")
"""The fields of a rank that are the owner's alone."""
_LET_IN = ((Status.PENDING, Status.ACTIVE), (Status.INVITED, Status.ACTIVE), (Status.INVITED, Status.PENDING))
_RENAMED = ("rank", "group", "place", "set", "bundle", "member")

_LOOKS = ("title", "about", "color", "badge", "prefix")


class Charters:
    """Two charters side by side."""

    def __init__(self, before: Charter, after: Charter) -> None:
        self.before, self.after = before, after

    def parts(self) -> Iterator[DifferencePart]:
        """Yield every part in which they differ."""
        old, new = self.before, self.after
        for name in Charter._fields:
            if name in ("ranks", "places", "groups", "override_sets", "perks", "catalogue", "expectations"):
                continue
            one, two = getattr(old, name), getattr(new, name)
            if content(one) != content(two):
                kind = Kind.RULES if name == "rules" else Kind.CHARTER
                yield DifferencePart(kind, name, name, one, two, CHARTER_ROWS.get(name, EditRow.OWNER))
        yield from self._catalogue()
        yield from self._things(Kind.PERK, old.perks, new.perks, PERK_ROWS)
        yield from self._ranks()
        yield from self._things(Kind.GROUP, old.groups, new.groups, GROUP_ROWS)
        yield from self._things(Kind.SET, old.override_sets, new.override_sets, SET_ROWS)
        yield from self._places()
        if self._sentences(old) != self._sentences(new):
            yield DifferencePart(
                Kind.EXPECTATIONS, "expectations", "expectations", old.expectations, new.expectations, EditRow.OWNER
            )

    @staticmethod
    def _sentences(charter: Charter) -> list[Any]:
        return [content(expectation._replace(text="")) for expectation in charter.expectations]

    def _catalogue(self) -> Iterator[DifferencePart]:
        old, new = self.before.catalogue, self.after.catalogue
        if old is new:
            return
        if [*map(content, old.capabilities.values())] != [*map(content, new.capabilities.values())]:
            yield DifferencePart(Kind.CATALOGUE, "capabilities", "capabilities", old, new, EditRow.OWNER)
        if old.nobody != new.nobody:
            yield DifferencePart(Kind.CATALOGUE, "nobody", "nobody", old.nobody, new.nobody, EditRow.OWNER)
        named = bundles_in_rules(self.before) | bundles_in_rules(self.after)
        for key in dict.fromkeys((*new.bundles, *old.bundles)):
            one, two = old.bundles.get(key), new.bundles.get(key)
            if content(one) != content(two):
                field = "" if one is None or two is None else "words"
                yield DifferencePart(
                    Kind.BUNDLE, key, field, one, two, EditRow.OWNER if key in named else EditRow.BUNDLE
                )

    def _things(
        self, kind: Kind, old: Mapping[str, Any], new: Mapping[str, Any], rows: Mapping[str, EditRow]
    ) -> Iterator[DifferencePart]:
        for key in dict.fromkeys((*new, *old)):
            one, two = old.get(key), new.get(key)
            if one is None or two is None:
                yield DifferencePart(kind, key, "", one, two, rows.get("key", EditRow.OWNER))
                continue
            for name in one._fields if one is not two else ():
                row, was, now = rows.get(name, EditRow.OWNER), getattr(one, name), getattr(two, name)
                if row in (EditRow.NOTHING, EditRow.LADDER) or was is now:
                    continue
                if _differs(name, was, now):
                    yield DifferencePart(kind, key, name, was, now, row)

    def _ranks(self) -> Iterator[DifferencePart]:
        old, new = self.before.ranks, self.after.ranks
        for part in self._things(Kind.RANK, old, new, RANK_ROWS):
            yield part
            if part.field:
                continue
            # what is the owner's in a rank that is made or removed stands there as well
            rank = part.after or part.before
            for name in OWNERS:
                if content(getattr(rank, name)) != content(type(rank)._field_defaults[name]):
                    yield part._replace(field=name, row=EditRow.OWNER)
        passed = self.ranks_passed()
        for key in passed:
            yield DifferencePart(Kind.RANK, key, "position", old[key].position, new[key].position, EditRow.LADDER)

    def _places(self) -> Iterator[DifferencePart]:
        yield from (
            part if part.field else part._replace(row=EditRow.PARENT)
            for part in self._things(Kind.PLACE, self.before.places, self.after.places, PLACE_ROWS)
            if not (part.key == "site" and part.field == "title")
        )
        for key in self.places_passed():
            yield DifferencePart(Kind.PLACE, key, "order", None, None, EditRow.PLACE)

    def ranks_passed(self) -> list[str]:
        """Return the ranks that stand otherwise to another one than they did, those kept by something outside aside."""
        old, new = self.before.ranks, self.after.ranks
        shared = [key for key in new if key in old]
        return [key for key in _passing([key for key in old if key in new], shared) if not old[key].kept_by]

    def places_passed(self) -> list[str]:
        """Return the places that stand otherwise among their neighbours than they did."""
        passed: list[str] = []
        one, two = _neighbours(self.before), _neighbours(self.after)
        for parent in one.keys() & two.keys() if one != two else ():
            here = set(one[parent]) & set(two[parent])
            passed += _passing([k for k in one[parent] if k in here], [k for k in two[parent] if k in here])
        return sorted(passed, key=list(self.after.places).index) if passed else []


def _differs(name: str, was: Any, now: Any) -> bool:
    # of sets the first that says something speaks; the order of all else says nothing
    said: Any = entries if name in ("overrides", "exceptions") else tuple if name == "like" else content
    return bool(said(was) != said(now))


def _neighbours(charter: Charter) -> dict[str | None, list[str]]:
    neighbours: dict[str | None, list[str]] = {}
    for place in charter.places.values():
        neighbours.setdefault(place.parent, []).append(place.key)
    return neighbours


def _passing(old: list[str], new: list[str]) -> list[str]:
    """Return, of two orders of the same keys, those that passed another one, in the new order."""
    if old == new:
        return []
    at = {key: n for n, key in enumerate(old)}
    was = [at[key] for key in new]
    highest, passed = -1, [False] * len(was)
    for n, item in enumerate(was):
        passed[n] = item < highest
        highest = max(highest, item)
    lowest = len(was)
    for n, item in reversed(list(enumerate(was))):
        passed[n] = passed[n] or item > lowest
        lowest = min(lowest, item)
    return [key for key, moved in zip(new, passed, strict=True) if moved]


def bundles_in_rules(charter: Charter) -> set[str]:
    """Return the bundles that the rules name, and all that stand inside these."""
    acts = charter.rules.acts.values()
    todo = [word for act in acts for word in act.words if word in charter.catalogue.bundles]
    bundles: set[str] = set()
    while todo:
        key = todo.pop()
        if key not in bundles:
            bundles.add(key)
            todo += [word for word in charter.catalogue.bundles[key].words if word in charter.catalogue.bundles]
    return bundles


class Difference:
    """What differs between two states of a community, from a moment on.

    ``before`` is the state before, in the keys of the state after: where one thing was only given another key, with
    every reference changed, that is a rename and all else is compared under the new key. ``renaming`` tells it.
    """

    def __init__(self, before: State, after: State, now: Instant) -> None:
        self.after, self.now = after, now
        self.renaming = _renaming(before, after)
        # a new key is no difference in itself: all else is compared under it
        self.before = before if self.renaming is None else _carried(before, self.renaming)
        self._charters = Charters(self.before.charter, after.charter)
        self._turned: dict[object, tuple[Coverage, Coverage]] = {}

    def __bool__(self) -> bool:
        return self.renaming is not None or bool(self.parts or self.given)

    def in_new_keys(self, old: Decider) -> Decider:
        """Return what answers for the community before, in the keys of the one after."""
        if self.renaming is None:
            return old
        return Decider(self.before.charter, self.before.register)

    @cached_property
    def parts(self) -> tuple[DifferencePart, ...]:
        """All that differs but assignments."""
        differing: list[DifferencePart] = []
        if self.renaming is not None:
            differing.append(self._renamed(self.renaming))
        if self.before.charter is not self.after.charter:
            differing += self._charters.parts()
        for key in self.members:
            differing += self._member(key)
        return tuple(differing)

    @cached_property
    def members(self) -> list[str]:
        """The members whose record or assignments may differ."""
        return self.after.register.differing(self.before.register)

    @cached_property
    def given(self) -> tuple[Given, ...]:
        """What differs in who holds what rank by assignment."""
        return tuple(each for key in self.members for each in self._given(key))

    def _renamed(self, renaming: Renaming) -> DifferencePart:
        row = {"rank": EditRow.MANAGE, "set": EditRow.SETS, "bundle": EditRow.BUNDLE}.get(renaming.kind, EditRow.OWNER)
        return DifferencePart(Kind(renaming.kind), renaming.new, "key", renaming.old, renaming.new, row)

    # -- members

    def _member(self, key: str) -> Iterator[DifferencePart]:
        before, after = self.before.register.members.get(key), self.after.register.members.get(key)
        if before is None or after is None:
            if before is not after:
                yield DifferencePart(
                    Kind.MEMBER, key, "", before, after, EditRow.PEOPLE if before is None else EditRow.OWNER
                )
                if after is not None and after.status in OUT:
                    yield DifferencePart(Kind.MEMBER, key, "status", "", after.status, EditRow.ACCOUNT)
                for name in IDENTITY if after is not None else ():
                    if getattr(after, name):
                        yield DifferencePart(Kind.MEMBER, key, name, "", getattr(after, name), EditRow.IDENTITY)
            return
        for name in Member._fields:
            row = MEMBER_ROWS.get(name, EditRow.OWNER)
            one, two = getattr(before, name), getattr(after, name)
            if row is not EditRow.NOTHING and one != two and content(one) != content(two):
                for row_of in _rows_of(name, before, after):
                    yield DifferencePart(Kind.MEMBER, key, name, one, two, row_of)

    def _given(self, key: str) -> Iterator[Given]:
        before, after = self.before.register.of(key), self.after.register.of(key)
        spots = dict.fromkeys((assignment.rank, assignment.place) for assignment in (*before, *after))
        for rank, place in spots:
            old, new = (
                [assignment for assignment in given if (assignment.rank, assignment.place) == (rank, place)]
                for given in (before, after)
            )
            # cut and put together anew, the same time is the same right; records that differ are parts all the same
            if not (old and new) or sorted(map(record, old)) != sorted(map(record, new)):
                spans = (tuple(each.period[:2] for each in old), tuple(each.period[:2] for each in new))
                turned = self._turned.get(spans)
                if turned is None:  # of very many who are given the same the time is reckoned once
                    was, now = coverage(old), coverage(new)
                    turned = self._turned[spans] = (now - was).since(self.now), (was - now).since(self.now)
                yield Given(key, rank, place, *turned, self._only(new, old), self._only(old, new))

    def _only(self, mine: Sequence[Assignment], others: Sequence[Assignment]) -> tuple[Assignment, ...]:
        """Return the assignments that are not over and stand on one side alone."""
        left = [*map(record, others)]
        assignments = []
        for assignment in mine:
            if left and (said := record(assignment)) in left:
                left.remove(said)
            elif assignment.period.end is None or assignment.period.end > self.now:
                assignments.append(assignment)
        return tuple(assignments)

    def on_joining(self, given: Given) -> bool:
        """Whether an assignment goes with becoming active for the first time (rule 4.7)."""
        if not self.joins(given.member) or given.place != "site" or given.lost:
            return False
        rank = self.before.charter.ranks.get(given.rank)
        return rank is not None and rank.on_joining and given.gained.open_ended

    def joins(self, key: str) -> bool:
        """Whether somebody becomes active for the first time, or is new and active."""
        before, after = self.before.register.members.get(key), self.after.register.members.get(key)
        if after is None or not after.is_active:
            return False
        return before is None or (before.status in (Status.PENDING, Status.INVITED) and not before.joined)


def _rows_of(name: str, before: Member, after: Member) -> Iterator[EditRow]:
    """Yield the rows that a change of a member's field stands in; status, ``joined`` and ``was`` hang together."""
    if name == "status":
        yield from status_rows(before, after)
    elif name == "joined":
        joins = after.is_active and before.status in (Status.PENDING, Status.INVITED) and not before.joined
        if not joins:
            yield EditRow.OWNER
    elif name == "was":
        if not (_remembers(before, after) or (before.status in OUT and after.status not in OUT and not after.was)):
            yield EditRow.OWNER
    else:
        yield MEMBER_ROWS.get(name, EditRow.OWNER)


def _remembers(before: Member, after: Member) -> bool:
    """Whether a lock or a retirement remembers the status there was."""
    return after.status in OUT and before.status not in OUT and after.was == before.status


def status_rows(before: Member, after: Member) -> Iterator[EditRow]:
    """Yield what another status takes: restored to more than there was is restored and then vouched for."""
    was, now = before.status, after.status
    if now in OUT:
        yield EditRow.ACCOUNT
        return
    # restored to what there was needs accounts alone; to more, that and vouching
    if was in OUT:
        yield EditRow.ACCOUNT
        was = before.restored
    if was == now:
        return
    if (was, now) in _LET_IN:
        yield EditRow.PEOPLE
    else:
        yield EditRow.OWNER


def record(each: Assignment) -> tuple[str, ...]:
    """Return what is recorded of an assignment, besides who has which rank where."""
    period = each.period
    return (*(str(edge) for edge in (period.start, period.end)), each.by, each.why, each.source)


# -- renames


def _renaming(before: State, after: State) -> Renaming | None:
    """Return the one key that was given another, all else alike (rule 9.4); ``None`` where there is no such thing."""
    for kind in _RENAMED:
        old, new = _keyed(before, kind), _keyed(after, kind)
        if old is new or len(old) != len(new):
            continue
        # of very many members those alone are looked at who were touched
        touched = after.register.differing(before.register) if kind == "member" else (*old, *new)
        gone, come = [key for key in touched if key not in new], [key for key in touched if key not in old]
        if len(gone) == 1:
            titles = [getattr(things[key], "title", None) for things, key in ((old, gone[0]), (new, come[0]))]
            renaming = Renaming(kind, gone[0], come[0], titles == [gone[0], come[0]])
            if _alike(kind, _keyed(_carried(before, renaming), kind)[come[0]], new[come[0]]):
                return renaming
    return None


def _keyed(state: State, kind: str) -> Mapping[str, object]:
    """Return all things of a kind by their keys."""
    charter = state.charter
    return {
        "rank": charter.ranks,
        "group": charter.groups,
        "place": charter.places,
        "set": charter.override_sets,
        "bundle": charter.catalogue.bundles,
        "member": state.register.members,
    }[kind]


def _alike(kind: str, one: Any, other: Any) -> bool:
    """Whether two things say the same but for their key, their title and how they look."""
    if kind == "rank":
        one, other = (each._replace(position=0) for each in (one, other))
    plain = {name: "" for name in _LOOKS if name in one._fields and kind != "member"}
    names = [name for name in one._fields if name not in plain and name != "where"]
    return all(not _differs(name, getattr(one, name), getattr(other, name)) for name in names)


def _carried(state: State, renaming: Renaming) -> State:
    """Return a state in which one thing has its new key, with every reference."""
    of, register = renaming.of, state.register
    charter = renamed(state.charter, renaming)

    def carried(given: Assignment) -> Assignment:
        who, by = of("member", given.member), of("member", given.by)
        return given._replace(member=who, rank=of("rank", given.rank), place=of("place", given.place), by=by)

    if renaming.kind == "member":
        members = {of("member", key): each._replace(key=of("member", key)) for key, each in register.members.items()}
        return State(charter, Register(members, map(carried, register.assignments), register.source))
    # whoever has nothing to do with it stays the very same, and is not compared
    groups = {
        key: each._replace(groups=tuple(of("group", group) for group in each.groups))
        for key, each in (register.members.items() if renaming.kind == "group" else ())
        if renaming.old in each.groups
    }
    named = register.naming(renaming.kind, {renaming.old}) if renaming.kind in ("rank", "place") else ()
    holders = dict.fromkeys(each.member for each in named)
    given = {key: [*map(carried, register.of(key))] for key in holders}
    return State(charter, register.changed(groups, given) if groups or given else register)
