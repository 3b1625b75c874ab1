"""What a change is: the difference between a community before it and after it, and nothing else (rule 9.1).

Two charters and registers are laid side by side, field by field and period by period. What comes out are parts: one
thing that differs in one field. All that a change takes, does, breaks and is told by follows from them; which command
made it, how a value was spelled and in how many steps leaves no trace here.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from enum import StrEnum
from functools import cached_property
from typing import Any, Final, NamedTuple

from ask_above.change.coverage import Coverage, coverage
from ask_above.charter.catalogue import Words
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant
from ask_above.charter.places import Override
from ask_above.charter.renaming import Renaming, renamed
from ask_above.people.register import OUT, Assignment, Member, Register


class Kind(StrEnum):
    """What kind of thing a part is about."""

    CHARTER = "charter"
    RULES = "rules"
    CATALOGUE = "catalogue"
    BUNDLE = "bundle"
    PERK = "perk"
    RANK = "rank"
    GROUP = "group"
    SET = "set"
    PLACE = "place"
    EXPECTATIONS = "expectations"
    MEMBER = "member"
    ASSIGNMENT = "assignment"


class EditRow(StrEnum):
    """The rows of the table of edits (rule 9.3); what has none is the owner's alone."""

    MANAGE = "manage"
    LADDER = "ladder"
    BUNDLE = "bundle"
    PLACE = "place"
    PARENT = "parent"
    SETS = "sets"
    ASSIGN = "assign"
    PEOPLE = "people"
    ACCOUNT = "account"
    NAME = "name"
    ADDRESS = "address"
    OWNER = "owner"
    NOTHING = "nothing"


class State(NamedTuple):
    """A community at one point of its journal: its charter and its register."""

    charter: Charter
    register: Register


class DifferencePart(NamedTuple):
    """One thing that differs in one field; ``field`` is empty where the thing itself was made or is gone.

    ``row`` is the row of the table of edits that it stands in. ``before`` and ``after`` are ``None`` where there is
    nothing.
    """

    kind: Kind
    key: str
    field: str
    before: Any
    after: Any
    row: EditRow


class Given(NamedTuple):
    """What differs in a member's assignments of one rank at one place, over all time.

    ``gained`` is newly covered from now on, ``lost`` no longer covered from now on; both are empty where only the past
    differs, or by whom and why.
    """

    member: str
    rank: str
    place: str
    gained: Coverage
    lost: Coverage


RANK_ROWS: Final[Mapping[str, EditRow]] = {
    "key": EditRow.MANAGE,
    "position": EditRow.LADDER,
    "title": EditRow.MANAGE,
    "about": EditRow.MANAGE,
    "held_by": EditRow.MANAGE,
    "unbounded": EditRow.OWNER,
    "entry": EditRow.MANAGE,
    "open": EditRow.MANAGE,
    "on_joining": EditRow.MANAGE,
    "grants": EditRow.MANAGE,
    "withhold": EditRow.MANAGE,
    "builds_on": EditRow.MANAGE,
    "copied_from": EditRow.MANAGE,
    "kept_by": EditRow.OWNER,
    "limit": EditRow.OWNER,
    "after": EditRow.OWNER,
    "apart_from": EditRow.OWNER,
    "lists": EditRow.OWNER,
    "call_open": EditRow.MANAGE,
    "heading": EditRow.MANAGE,
    "color": EditRow.MANAGE,
    "badge": EditRow.MANAGE,
    "prefix": EditRow.MANAGE,
    "perks": EditRow.MANAGE,
    "where": EditRow.NOTHING,
}

PLACE_ROWS: Final[Mapping[str, EditRow]] = {
    "key": EditRow.OWNER,
    "kind": EditRow.OWNER,
    "title": EditRow.PLACE,
    "about": EditRow.PLACE,
    "parent": EditRow.PARENT,
    "overrides": EditRow.PLACE,
    "exceptions": EditRow.PLACE,
    "gate": EditRow.PLACE,
    "like": EditRow.PLACE,
    "where": EditRow.NOTHING,
}

MEMBER_ROWS: Final[Mapping[str, EditRow]] = {
    "key": EditRow.OWNER,
    "name": EditRow.NAME,
    "email": EditRow.ADDRESS,
    "kind": EditRow.ACCOUNT,
    "status": EditRow.ACCOUNT,
    "joined": EditRow.OWNER,
    "groups": EditRow.PEOPLE,
    "note": EditRow.ACCOUNT,
    "id": EditRow.OWNER,
    "user_name": EditRow.ADDRESS,
    "external_id": EditRow.ADDRESS,
    "was": EditRow.OWNER,
    "where": EditRow.NOTHING,
}

CHARTER_ROWS: Final[Mapping[str, EditRow]] = {
    "key": EditRow.OWNER,
    "title": EditRow.OWNER,
    "owner": EditRow.OWNER,
    "rules": EditRow.OWNER,
    "catalogue": EditRow.OWNER,
    "ranks": EditRow.MANAGE,
    "places": EditRow.PLACE,
    "groups": EditRow.OWNER,
    "override_sets": EditRow.SETS,
    "perks": EditRow.OWNER,
    "expectations": EditRow.OWNER,
    "add_ons": EditRow.OWNER,
    "kinds": EditRow.OWNER,
}

# a new field of one of these stands in the last row, the owner's, until somebody gives it another
GROUP_ROWS: Final[Mapping[str, EditRow]] = dict.fromkeys(
    ("key", "title", "about", "includes", "confers"), EditRow.OWNER
) | {"where": EditRow.NOTHING}
SET_ROWS: Final[Mapping[str, EditRow]] = {"key": EditRow.SETS, "overrides": EditRow.SETS, "where": EditRow.NOTHING}
PERK_ROWS: Final[Mapping[str, EditRow]] = dict.fromkeys(("key", "about", "settle", "default"), EditRow.OWNER) | {
    "where": EditRow.NOTHING
}

_LOOKS = ("title", "about", "color", "badge", "prefix")
_NO_WORDS: Words = Words()


def content(value: Any) -> Any:
    """Return what a value says, without where it was written; equal for all spellings of the same."""
    if isinstance(value, Words):
        return value.words
    if isinstance(value, tuple) and hasattr(value, "_fields"):
        return tuple(content(each) for name, each in zip(value._fields, value, strict=True) if name != "where")
    if isinstance(value, tuple):
        return tuple(map(content, value))
    if isinstance(value, Mapping):
        return {key: content(each) for key, each in value.items()}
    return value


def entries(overrides: Iterable[Override]) -> dict[str, tuple[frozenset[str], ...]]:
    """Return what overrides or exceptions say, by whom they speak of; their order says nothing."""
    return {each.label: tuple(frozenset(words) for words in (each.allow, each.deny, each.bar)) for each in overrides}


class Difference:
    """What differs between two states of a community, from a moment on.

    ``before`` is the state before, in the keys of the state after: where one thing was only given another key, with
    every reference carried, that is a rename and all else is compared under the new key. ``renaming`` tells it.
    """

    def __init__(self, before: State, after: State, now: Instant) -> None:
        self.after, self.now = after, now
        self.renaming = _renaming(before, after)
        self.before = before if self.renaming is None else _carried(before, self.renaming)
        self._charters = _Charters(self.before.charter, after.charter)

    def __bool__(self) -> bool:
        return bool(self.parts or self.given)

    @cached_property
    def parts(self) -> tuple[DifferencePart, ...]:
        """All that differs but assignments."""
        found: list[DifferencePart] = []
        if self.renaming is not None:
            found.append(self._renamed(self.renaming))
        if self.before.charter is not self.after.charter:
            found += self._charters.parts()
        for key in self.members:
            found += self._member(key)
        return tuple(found)

    @cached_property
    def members(self) -> list[str]:
        """The members whose record or assignments may differ."""
        return self.after.register.differing(self.before.register)

    @cached_property
    def given(self) -> tuple[Given, ...]:
        """What differs in who holds what rank by assignment."""
        return tuple(each for key in self.members for each in self._given(key))

    @cached_property
    def moments(self) -> tuple[Instant, ...]:
        """The moment now, and every later one at which a period of those who differ starts or ends, in order."""
        edges = {self.now}
        for key in self.members:
            for register in (self.before.register, self.after.register):
                edges |= edges_of(register.of(key))
        return tuple(sorted(edge for edge in edges if edge >= self.now))

    def moved(self, *, places: bool = False) -> list[str]:
        """Return the ranks that passed another that was there; with ``places`` those places among their neighbours."""
        return self._charters.places_passed() if places else self._charters.ranks_passed()

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
            return
        for name in Member._fields:
            row = MEMBER_ROWS.get(name, EditRow.OWNER)
            one, two = getattr(before, name), getattr(after, name)
            if row is not EditRow.NOTHING and one != two:
                for row_of in _rows_of(name, before, after):
                    yield DifferencePart(Kind.MEMBER, key, name, one, two, row_of)

    def _given(self, key: str) -> Iterator[Given]:
        before, after = self.before.register.of(key), self.after.register.of(key)
        spots = dict.fromkeys((each.rank, each.place) for each in (*before, *after))
        for rank, place in spots:
            old, new = (
                [each for each in given if (each.rank, each.place) == (rank, place)] for given in (before, after)
            )
            if sorted(map(_said, old)) != sorted(map(_said, new)):
                was, now = coverage(old), coverage(new)
                yield Given(key, rank, place, (now - was).since(self.now), (was - now).since(self.now))

    def on_joining(self, given: Given) -> bool:
        """Tell whether an assignment goes with becoming active for the first time (rule 4.7)."""
        if not self.joins(given.member) or given.place != "site" or given.lost:
            return False
        rank = self.before.charter.ranks.get(given.rank)
        return rank is not None and rank.on_joining and given.gained.open_ended

    def joins(self, key: str) -> bool:
        """Tell whether somebody becomes active for the first time, or is new and active."""
        before, after = self.before.register.members.get(key), self.after.register.members.get(key)
        if after is None or after.status != "active":
            return False
        return before is None or (before.status in ("pending", "invited") and not before.joined)


def _rows_of(name: str, before: Member, after: Member) -> Iterator[EditRow]:
    """Yield the rows that a change of a member's field stands in; status, ``joined`` and ``was`` hang together."""
    if name == "status":
        yield from status_rows(before, after)
    elif name == "joined":
        joins = after.status == "active" and before.status in ("pending", "invited") and not before.joined
        if not joins:
            yield EditRow.OWNER
    elif name == "was":
        if not (_remembers(before, after) or (before.status in OUT and after.status not in OUT and not after.was)):
            yield EditRow.OWNER
    else:
        yield MEMBER_ROWS.get(name, EditRow.OWNER)


def _remembers(before: Member, after: Member) -> bool:
    """Tell whether a lock or a retirement remembers the status there was."""
    return after.status in OUT and before.status not in OUT and after.was == before.status


def status_rows(before: Member, after: Member) -> Iterator[EditRow]:
    """Yield what another status takes: restored to more than there was is restored and then vouched for."""
    was, now = before.status, after.status
    if now in OUT:
        yield EditRow.ACCOUNT
        return
    if was in OUT:
        yield EditRow.ACCOUNT
        was = before.restored
    if was == now:
        return
    if (was, now) in (("pending", "active"), ("invited", "active"), ("invited", "pending")):
        yield EditRow.PEOPLE
    else:
        yield EditRow.OWNER


def edges_of(given: Iterable[Assignment]) -> set[Instant]:
    """Return the instants at which assignments start or end."""
    return {edge for each in given for edge in (each.period.start, each.period.end) if edge is not None}


def _said(each: Assignment) -> tuple[str, ...]:
    period = each.period
    return (*(str(edge) for edge in (period.start, period.end)), each.by, each.why, each.source)


# -- charters


class _Charters:
    """Two charters side by side."""

    def __init__(self, before: Charter, after: Charter) -> None:
        self.before, self.after = before, after

    def parts(self) -> Iterator[DifferencePart]:
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
        return [content(each._replace(text="")) for each in charter.expectations]

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
        self,
        kind: Kind,
        old: Mapping[str, Any],
        new: Mapping[str, Any],
        rows: Mapping[str, EditRow],
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
        found: list[str] = []
        one, two = _neighbours(self.before), _neighbours(self.after)
        for parent in one.keys() & two.keys() if one != two else ():
            here = set(one[parent]) & set(two[parent])
            found += _passing([k for k in one[parent] if k in here], [k for k in two[parent] if k in here])
        return sorted(found, key=list(self.after.places).index) if found else []


OWNERS = ("unbounded", "kept_by", "after", "apart_from", "limit", "lists")
"""The fields of a rank that are the owner's alone."""


def _differs(name: str, was: Any, now: Any) -> bool:
    if name in ("overrides", "exceptions"):
        return entries(was) != entries(now)
    return bool(content(was) != content(now))


def _neighbours(charter: Charter) -> dict[str | None, list[str]]:
    found: dict[str | None, list[str]] = {}
    for place in charter.places.values():
        found.setdefault(place.parent, []).append(place.key)
    return found


def _passing(old: list[str], new: list[str]) -> list[str]:
    """Return, of two orders of the same keys, those that passed another one, in the new order."""
    if old == new:
        return []
    at = {key: n for n, key in enumerate(old)}
    was = [at[key] for key in new]
    highest, passed = -1, [False] * len(was)
    for n, each in enumerate(was):
        passed[n] = each < highest
        highest = max(highest, each)
    lowest = len(was)
    for n, each in reversed(list(enumerate(was))):
        passed[n] = passed[n] or each > lowest
        lowest = min(lowest, each)
    return [key for key, moved in zip(new, passed, strict=True) if moved]


def bundles_in_rules(charter: Charter) -> set[str]:
    """Return the bundles that the rules name, and all that stand inside these."""
    acts = charter.rules.acts.values()
    todo = [word for act in acts for word in act.words if word in charter.catalogue.bundles]
    found: set[str] = set()
    while todo:
        key = todo.pop()
        if key not in found:
            found.add(key)
            todo += [word for word in charter.catalogue.bundles[key].words if word in charter.catalogue.bundles]
    return found


# -- renames


_RENAMED = ("rank", "group", "place", "set", "bundle", "member")


def _renaming(before: State, after: State) -> Renaming | None:
    """Return the one key that was given another, all else alike (rule 9.4); ``None`` where there is no such thing."""
    for kind in _RENAMED:
        old, new = _keyed(before, kind), _keyed(after, kind)
        if old is new or len(old) != len(new) or old.keys() == new.keys():
            continue
        gone, come = [key for key in old if key not in new], [key for key in new if key not in old]
        if len(gone) == 1:
            found = Renaming(kind, gone[0], come[0])
            if _alike(kind, _keyed(_carried(before, found), kind)[come[0]], new[come[0]]):
                return found
    return None


def _keyed(state: State, kind: str) -> Mapping[str, Any]:
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
    """Tell whether two things say the same but for their key, their title and how they look."""
    if kind == "rank":
        one, other = (each._replace(position=0) for each in (one, other))
    plain = {name: "" for name in _LOOKS if name in one._fields and kind != "member"}
    names = [name for name in one._fields if name not in plain and name != "where"]
    return all(not _differs(name, getattr(one, name), getattr(other, name)) for name in names)


def _carried(state: State, renaming: Renaming) -> State:
    """Return a state in which one thing has its new key, with every reference."""
    of, register = renaming.of, state.register
    charter = renamed(state.charter, renaming)
    if renaming.kind not in ("rank", "place", "group", "member"):
        return State(charter, register)
    members = {
        of("member", key): each._replace(
            key=of("member", key), groups=tuple(of("group", group) for group in each.groups)
        )
        for key, each in register.members.items()
    }
    given = (
        each._replace(
            member=of("member", each.member),
            rank=of("rank", each.rank),
            place=of("place", each.place),
            by=of("member", each.by),
        )
        for each in register.assignments
    )
    return State(charter, Register(members, given, register.source))
