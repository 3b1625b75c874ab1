"""What members and ranks may do to others, before and after a change (rules 6 and 9.6).

Who acts is told apart by power alone: which ranks they reach, with what. Who is acted on, by standing. So all pairs
are compared without being looked at one by one. Giving and taking a rank asks for more, what is handed on and the
conditions of ranks; that is looked at between ranks, and said where it may differ besides.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple, TypeAlias

from ask_above.ask.impact.joining import Joining, Kin, asked_at
from ask_above.bulk.differences import alike
from ask_above.change.difference import Difference
from ask_above.change.parts import DifferencePart, Kind
from ask_above.charter.catalogue import Catalogue
from ask_above.charter.ladder import RANK_LOOKS
from ask_above.charter.moments import Instant
from ask_above.charter.names import SITE, among_keys, few, listed
from ask_above.charter.rules import ACTS, Act, Rules
from ask_above.decide.authority import reached
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.planes import Planes, Power, Powers
from ask_above.decide.profile import Asked, ask_rank
from ask_above.people.register import edges_of

_MOST_CELLS = 60_000
"""Up to how many kinds of members times places acts are looked at member by member, and ranks times places."""

_UNREAD = RANK_LOOKS.union(
    ["on_joining", "order", "name", "email", "note", "joined", "id", "user_name", "external_id", "was"],
    ["add_ons", "nobody", "expectations", "key"],
)
"""The fields that no answer reads."""


_NONE: frozenset[str] = frozenset()

_CONDITIONS = frozenset({"limit", "after", "apart_from"})
"""The fields of a rank that say to whom it may be given."""

_PEOPLE = (Kind.MEMBER, Kind.EXPECTATIONS)
"""What is no part of what ranks may do."""

_TOLD = frozenset({"call_open", "open", "limit", "after", "apart_from"})
"""Fields by which nothing differs of who may give what but what is told of them in their own words."""


def _bears_on_giving(part: DifferencePart) -> bool:
    """Whether what differs may let somebody give a rank to whom they might not, or no longer.

    The owner is told of by name; a group that comes has nobody in it, and who was in one that goes is told of too. A
    bundle counts by what names it.
    """
    before, after = part.before, part.after
    if isinstance(before, Rules) and isinstance(after, Rules):
        return _of_giving(before) != _of_giving(after)
    if isinstance(before, Catalogue) and isinstance(after, Catalogue):
        return _of_meaning(before) != _of_meaning(after)
    of_nobody = (*_PEOPLE, Kind.CHARTER, Kind.PERK, Kind.BUNDLE, *([] if part.field else [Kind.GROUP]))
    return part.kind not in of_nobody and part.field not in _TOLD


def _of_giving(rules: Rules) -> tuple[object, ...]:
    return rules.timezone, rules.disagreement, rules.seeing, rules.act(Act.ASSIGN)


def _of_meaning(catalogue: Catalogue) -> dict[str, tuple[object, ...]]:
    return {key: (each.kinds, each.implies, each.needs) for key, each in catalogue.capabilities.items()}


class PowerShift(NamedTuple):
    """Between two ranks an act became possible, or is no longer."""

    gains: bool
    act: str
    actor: str
    target: str
    place: str


class ActShift(NamedTuple):
    """What some members may do to some others, or no longer: equal changes folded together.

    ``act`` is moderate, assign, manage, call, or join (an open rank). ``using`` are the capabilities of moderating by
    which. ``actors`` are members' keys, or ranks as ``rank:KEY``. ``targets`` are the ranks acted
    on (for moderate: those whose highest rank it is; ``none`` for who has no rank), or members whose standing is
    another, as ``@KEY``. ``since`` and ``until`` are instants, ``None`` for from now on and for no end; of what differs
    more than once the first time is told.
    """

    gains: bool
    act: str
    using: tuple[str, ...]
    actors: tuple[str, ...]
    targets: tuple[str, ...]
    places: tuple[str, ...]
    since: Instant | None = None
    until: Instant | None = None


_MOST_TRIED = 8_000
"""So many answers are tried to tell whether what may be assigned to somebody differs."""

_Turn: TypeAlias = tuple[bool, str, str, tuple[str, ...]]
"""Whether it is gained, the act, the capability of moderating, and the ranks reached."""


class ActShifts:
    """The acts that differ: ``powers`` between ranks, ``acts`` of members, ``may_differ`` what was not looked at."""

    def __init__(self, old: Decider, new: Decider, difference: Difference, at: Instant) -> None:
        self.old, self.new, self.difference, self.at = old, new, difference, at
        self.same = old.compiled is new.compiled
        self._names: tuple[dict[int, frozenset[str]], dict[int, frozenset[str]]] = {}, {}

    @cached_property
    def reads(self) -> list[DifferencePart]:
        """The parts that some answer reads."""
        return [part for part in self.difference.parts if not part.field or part.field not in _UNREAD]

    # -- between ranks

    @cached_property
    def powers(self) -> list[PowerShift]:
        """What ranks may do to ranks that differs, place by place; of very many ranks and places nothing."""
        return [] if self.same or not self.reads or self._are_too_many else list(self._between_ranks())

    @cached_property
    def _are_too_many(self) -> bool:
        compiled = self.new.compiled
        return len(compiled.ranks) * len(compiled.places) > _MOST_CELLS

    def _between_ranks(self) -> Iterator[PowerShift]:
        places = dict.fromkeys((*self.new.compiled.place_at, *self.old.compiled.place_at))
        for place in self._may_differ_at(places):
            # ranks are managed on the whole site alone (6.10); calling asks where somebody is
            for act in (*(ACTS if place == SITE else (Act.MODERATE, Act.ASSIGN)), Act.CALL):
                before, after = self._reached(0, act, place), self._reached(1, act, place)
                turned = [key for key in {**before, **after} if before.get(key) != after.get(key)]
                for gains, more, less in ((True, after, before), (False, before, after)):
                    pairs = [(key, other) for key in turned for other in more.get(key, _NONE) - less.get(key, _NONE)]
                    for actor, target in sorted(pairs, key=self._in_order):
                        yield PowerShift(gains, act, actor, target, place)

    def _may_differ_at(self, places: Iterable[str]) -> Iterator[str]:
        """Yield the places at which powers between ranks may differ; handing on looks at all places below as well."""
        kept = self.old.compiled.after(self.new.compiled.charter)
        if kept is None:
            yield from places
            return
        compiled = self.new.compiled
        touched = kept[1] | {above for n in kept[1] for above in compiled.chains[n]}
        yield from (key for key in places if compiled.place_at[key] in touched)

    def _reached(self, side: int, act: Act, place: str) -> dict[str, frozenset[str]]:
        """Return the ranks that each rank reaches with an act at a place."""
        planes = (self.new if side else self.old).keep(Planes)
        number = planes.decider.compiled.place_at.get(place)
        if number is None:
            return {}
        return {
            rank.key: self.named(side, row) for rank, row in zip(planes.ranks, planes.rows(act, number), strict=True)
        }

    def named(self, side: int, row: int) -> frozenset[str]:
        """Return the ranks in a set, and none for whoever holds none; the same set is taken apart once."""
        known = self._names[side].get(row)
        if known is None:
            names = (*(rank.key for rank in (self.new if side else self.old).compiled.ranks), self._no_rank)
            known = self._names[side][row] = frozenset(name for n, name in enumerate(names) if row >> n & 1)
        return known

    @cached_property
    def _no_rank(self) -> str:
        return among_keys("none", {*self.old.compiled.rank_at, *self.new.compiled.rank_at})

    @cached_property
    def _powers(self) -> tuple[Powers, Powers]:
        return self.old.keep(Powers.beside), self.new.keep(Powers.beside)

    def _in_order(self, pair: tuple[str, str]) -> tuple[int, int]:
        numbers, last = self.new.compiled.ladder.number, self.new.compiled.ladder.bottom
        return numbers.get(pair[0], last), numbers.get(pair[1], last)

    # -- member by member

    @cached_property
    def _kin(self) -> list[Kin]:
        """The members who may differ as actors or as targets, those who are alike once."""
        return [kin for _, members in alike(self.old, self.new) for kin in self._stretches(tuple(members))]

    def _stretches(self, members: tuple[str, ...]) -> Iterator[Kin]:
        key = members[0]
        # asked as of each edge, as power may begin or end with a period
        for since in (None, *self._edges(key)):
            at = self.at if since is None else since
            yield Kin(members, asked_at(self.old, key, at), asked_at(self.new, key, at), since)

    def _edges(self, key: str) -> list[Instant]:
        """Return the moments to come at which a period of a member's starts or ends, on either side."""
        given = (each for decider in (self.old, self.new) for each in decider.people.register.of(key))
        return sorted(edges_of(given, self.at))

    @cached_property
    def looked_at(self) -> bool:
        """Whether acts were looked at member by member; of very many they are not."""
        return len(self._kin) * len(self.new.compiled.places) <= _MOST_CELLS

    @cached_property
    def _found(self) -> tuple[list[ActShift], int]:
        # nothing that any answer reads differs: titles, colors and notes alone
        if not self.looked_at or not (self.reads or self.difference.given):
            return [], 0
        return _MemberActs(self).found()

    @property
    def acts(self) -> list[ActShift]:
        """What members may do to others that differs, folded."""
        return self._found[0]

    @property
    def count(self) -> int:
        """How many answers on acts of members differ, of those looked at."""
        return self._found[1]

    @property
    def gains_power(self) -> bool:
        """Whether some act of a member on others became possible, of those looked at."""
        return any(shift.gains and shift.act != "join" for shift in self.acts)

    # -- what was not looked at

    @property
    def not_compared(self) -> str:
        """Say that power between ranks may change and was not compared; nothing where it was, or cannot change."""
        of_ranks = (read.kind not in _PEOPLE and read.field not in _CONDITIONS for read in self.reads)
        if not (self._are_too_many and any(of_ranks)):
            return ""
        return "Which ranks may act on which may change; there are too many ranks and places to test each."

    @cached_property
    def may_differ(self) -> list[str]:
        """Say whose acts may differ without having been looked at."""
        if not (self.reads or self.difference.given):
            return []
        sentences = []
        if not self.looked_at:
            sentences.append("Whom members may act on may change; there are too many members to test each.")
        sentences += filter(None, [self.not_compared])
        who = "Whoever may assign ranks"
        names = self._reach_differs(sorted(self._given_to()))
        titles = [
            self.new.people.register.members[key].called for key in names if key in self.new.people.register.members
        ]
        if titles:
            sentences.append(f"{who}: which ranks they may assign to {few(titles, 3)} may change.")
        ranks = dict.fromkeys(read.key for read in self.reads if read.kind is Kind.RANK and read.field in _CONDITIONS)
        named = [rank.called for key in ranks if (rank := self.new.compiled.charter.ranks.get(key)) is not None]
        if named:
            sentences.append(
                f"{who}: to whom they may assign {listed(named)} may change, because its conditions change."
            )
        for key, has_room in Joining(self.old, self.new, self.at).filled(self._kin):
            reason = "it has room again" if has_room else "its limit is reached"
            title = self.new.compiled.charter.ranks[key].called
            sentences.append(f"{who}: to whom they may assign {title} may change, because {reason}.")
        bearing = [read for read in self.reads if _bears_on_giving(read)]
        if bearing:
            reason = ", because what ranks grant changes" if any(read.kind is Kind.RANK for read in bearing) else ""
            sentences.append(f"{who}: which ranks they may assign to whom may change{reason}.")
        return sentences

    def _reach_differs(self, keys: list[str]) -> list[str]:
        """Return for whom it differs what some member may assign or unassign; where there are too many, all of them.

        That what is assigned can be unassigned goes without saying.
        """
        sides = (self.old, self.new)
        if not keys or not all(self._is_tried(side, len(keys)) for side in sides):
            return keys
        # what the change itself gives or takes is told already
        spots = {(given.member, given.rank, given.place) for given in self.difference.given}

        def reach(key: str) -> list[set[tuple[Instant, Act, str, str, str]]]:
            moments = [self.at, *self._edges(key)]
            reached = ({*self._reach(side, key, moments)} for side in sides)
            return [
                {each for each in found if each[1] is Act.ASSIGN or (key, *each[3:]) not in spots} for found in reached
            ]

        return [key for key in keys if len({frozenset(found) for found in reach(key)}) > 1]

    def _is_tried(self, decider: Decider, members: int) -> bool:
        """Whether every pair at every place is asked by itself: fine for a small site, hours for a large one."""
        compiled = decider.compiled
        places, answers = range(len(compiled.places)), members * len(compiled.places) * len(compiled.ranks)
        # to tell who may assign at all is work of its own, so that is looked at last
        if answers > _MOST_TRIED or len(places) * (len(compiled.ranks) + len(decider.ready.alike())) > _MOST_CELLS:
            return False
        using = compiled.catalogue.mask(compiled.charter.rules.act(Act.ASSIGN).using)
        actors = self._actors(decider, "", self.at)
        able = sum(actor.owner or any(decider.usable(actor, n) & using for n in places) for actor in actors)
        return (1 + able) * answers <= _MOST_TRIED

    @staticmethod
    def _actors(decider: Decider, key: str, at: Instant) -> Iterator[Asked]:
        """Yield one of each that are alike, a member themselves before those like them, and somebody as each rank."""
        for keys in decider.ready.alike().values():
            # somebody acts on themselves otherwise than one who is like them
            yield decider.people.ask(key if key in keys else keys[0], at)
        yield from (ask_rank(decider.compiled, rank) for rank in decider.compiled.ranks)

    def _reach(
        self, decider: Decider, key: str, moments: Sequence[Instant]
    ) -> Iterator[tuple[Instant, Act, str, str, str]]:
        """Yield who may assign or unassign which rank where to a member."""
        if key not in decider.people.register.members:
            return
        using = decider.compiled.catalogue.mask(decider.compiled.charter.rules.act(Act.ASSIGN).using)
        for at in moments:
            target = decider.people.ask(key, at)
            for actor, (n, place) in itertools.product(
                self._actors(decider, key, at), enumerate(decider.compiled.places)
            ):
                if not actor.acts or not (actor.owner or actor.key == key or decider.usable(actor, n) & using):
                    continue
                case = decider.case(actor, n, at)
                for rank, act in itertools.product(decider.compiled.ranks, (Act.ASSIGN, Act.UNASSIGN)):
                    if not any(step.holds is False for step in case.again().put(act, rank, target)):
                        yield at, act, f"{actor.sort} {actor.key}", rank.key, place.key

    def _given_to(self) -> set[str]:
        """Return the members to whom other ranks may be given than before: their record or their ranks differ."""
        found = {given.member for given in self.difference.given}
        return found | {read.key for read in self.reads if read.kind is Kind.MEMBER}


def _kept_and_never(compiled: CompiledCharter) -> tuple[int, int]:
    """Return the ranks that something outside keeps, and those besides that nobody is given."""
    kept = sum(1 << rank.position for rank in compiled.ranks if rank.kept_by)
    return kept, kept | sum(1 << rank.position for rank in compiled.ranks if rank.automatic)


class _MemberActs:
    """Compares what members may do to members and ranks, place by place."""

    def __init__(self, shifts: ActShifts) -> None:
        self.shifts, self.old, self.new = shifts, shifts.old, shifts.new
        self.powers = shifts._powers
        self._kept = tuple(map(_kept_and_never, (self.old.compiled, self.new.compiled)))
        # what is asked for again and again: who turns is told by two powers, who stands elsewhere by two standings
        self._turns: dict[tuple[Power | None, Power | None], list[_Turn]] = {}
        self._moved_at: dict[tuple[str, str, str], list[tuple[bool, list[str]]]] = {}
        self.using = tuple(
            dict.fromkeys(
                key
                for decider in (self.new, self.old)
                for key in decider.compiled.charter.rules.act(Act.MODERATE).using
            )
        )
        self.found_at: dict[ActShift, list[str]] = {}
        self.count = 0

    def found(self) -> tuple[list[ActShift], int]:
        """Return the shifts, and how many answers they stand for."""
        places = dict.fromkeys((*self.new.compiled.place_at, *self.old.compiled.place_at))
        for place in places:
            self._at(place)
        self._joining()
        shifts = [shift._replace(places=tuple(where)) for shift, where in self.found_at.items()]
        order = (Act.ASSIGN, Act.MANAGE, Act.MODERATE, "join", Act.CALL)
        shifts = _together(shifts)
        return sorted(shifts, key=lambda shift: (not shift.gains, order.index(shift.act), shift.actors)), self.count

    def _at(self, place: str) -> None:
        spots = [decider.compiled.place_at.get(place) for decider in (self.old, self.new)]
        by_actor: dict[tuple[_Turn, Instant | None, Instant | None], list[str]] = {}
        for members, stretches in itertools.groupby(self.shifts._kin, key=lambda kin: kin.members):
            turned = [
                (kin.since, self._turned(self._power(0, kin.before, spots[0]), self._power(1, kin.after, spots[1])))
                for kin in stretches
            ]
            for spell in [(turn, None, None) for turn in turned[0][1]] if len(turned) == 1 else _spells(turned):
                by_actor.setdefault(spell, []).extend(members)
        by_using: dict[ActShift, list[str]] = {}
        for ((gains, act, using, targets), since, until), members in by_actor.items():
            self.count += len(members) * len(targets)
            shift = ActShift(gains, act, (), tuple(members), targets, (), since, until)
            by_using.setdefault(shift, []).append(using)
        for shift, names in by_using.items():
            self.found_at.setdefault(shift._replace(using=tuple(filter(None, names))), []).append(place)
        self._standing(place, spots)

    def _joining(self) -> None:
        """Note who may join which ranks by themselves, where that differs (rule 4.7)."""
        for gains, key, members in Joining(self.old, self.new, self.shifts.at).turned(self.shifts._kin):
            self.count += len(members)
            self.found_at.setdefault(ActShift(gains, "join", (), members, (key,), ()), []).append(SITE)

    def _power(self, side: int, asked: Asked | None, place: int | None) -> Power | None:
        """Return what somebody has at a place, where there is such a one and such a place."""
        if asked is None or place is None:
            return None
        return self.powers[side].of(asked.profile, place, owner=asked.rules_all, acts=asked.acts)

    def _turned(self, before: Power | None, after: Power | None) -> list[_Turn]:
        """Return which ranks are reached after and were not before, with which act and capability, and back."""
        known = self._turns.get((before, after))
        if known is None:
            known = list(self._told_apart(self._reached(0, before), self._reached(1, after)))
            self._turns[before, after] = known
        return known

    def _reached(self, side: int, power: Power | None) -> dict[tuple[str, str], frozenset[str]]:
        """Return the ranks that a power reaches with each act, and with each capability of moderating."""
        reached: dict[tuple[str, str], frozenset[str]] = {}
        if power is None:
            return reached
        kept, never = self._kept[side]
        using = (self.old, self.new)[side].compiled.charter.rules.act(Act.MODERATE).using
        masks = [(Act.MODERATE, key, mask) for key, mask in zip(using or ("",), power.moderate, strict=False)]
        masks += [
            (Act.ASSIGN, "", power.assign & ~never),
            (Act.MANAGE, "", power.manage & ~kept),
            (Act.CALL, "", power.call),
        ]
        for act, key, mask in masks:
            reached[act, key] = self.shifts.named(side, mask)
        return reached

    @staticmethod
    def _told_apart(
        before: dict[tuple[str, str], frozenset[str]], after: dict[tuple[str, str], frozenset[str]]
    ) -> Iterator[_Turn]:
        for act, using in dict.fromkeys((*after, *before)):
            was, now = before.get((act, using), frozenset()), after.get((act, using), frozenset())
            for gains, names in ((True, now - was), (False, was - now)):
                if names:
                    yield gains, act, using, tuple(sorted(names))

    def _standing(self, place: str, spots: list[int | None]) -> None:
        """Note the members who stand elsewhere than they did, for those who moderate."""
        if None in spots:
            return
        numbers = self.new.compiled.rank_at
        for members, stretches in self._moved:
            turned = [(kin.since, [*self._regarded(place, kin, spots[0] or 0, spots[1] or 0)]) for kin in stretches]
            targets = tuple(f"@{key}" for key in members)
            for (gains, act, _, ranks), since, until in _spells(turned):
                self.count += len(ranks) * len(targets)
                actors = tuple(f"rank:{key}" for key in sorted(ranks, key=numbers.__getitem__))
                self.found_at.setdefault(ActShift(gains, act, (), actors, targets, (), since, until), []).append(place)

    @cached_property
    def _moved(self) -> list[tuple[tuple[str, ...], list[Kin]]]:
        """The members who may stand elsewhere, now or later; none but by their own record where places stay."""
        by_members = [(key, [*kin]) for key, kin in itertools.groupby(self.shifts._kin, key=lambda kin: kin.members)]
        if not self._same_grounds():
            return by_members
        return [(members, kin) for members, kin in by_members if any(map(_has_another_record, kin))]

    def _regarded(self, place: str, kin: Kin, old: int, new: int) -> Iterator[_Turn]:
        """Yield the ranks whose holders may moderate somebody as they stand and might not before, and back."""
        if kin.before is not None and kin.after is not None:
            tops = self._top(self.old, kin.before, old), self._top(self.new, kin.after, new)
            if tops[0] != tops[1]:
                yield from ((gains, Act.MODERATE, "", tuple(ranks)) for gains, ranks in self._who_may(place, tops))

    def _same_grounds(self) -> bool:
        """Whether ranks and places have the same numbers on both sides, and the same stand below one another."""
        old, new = self.old.compiled, self.new.compiled
        return (
            (old.place_at, old.rank_at) == (new.place_at, new.rank_at)
            and old.chains == new.chains
            and old.below == new.below
        )

    def _top(self, decider: Decider, asked: Asked, place: int) -> str:
        at = reached(decider.compiled, asked, place)
        if at < 0:
            return "@owner"
        return decider.compiled.ranks[at].key if at < len(decider.compiled.ranks) else ""

    def _who_may(self, place: str, tops: tuple[str, str]) -> list[tuple[bool, list[str]]]:
        """Return the ranks whose holders may moderate somebody as they stand now and might not before, and back."""
        known = self._moved_at.get((place, *tops))
        if known is None:
            turned: dict[bool, list[str]] = {True: [], False: []}
            sides = [dict(self._moderated(side, place)) for side in ((0,) if self.shifts.same else (0, 1))]
            bits = [_bit_of(decider, top) for decider, top in zip((self.old, self.new), tops, strict=True)]
            for rank in self.new.compiled.ranks:
                if rank.key in self.old.compiled.rank_at:
                    before, after = sides[0].get(rank.key, 0) & bits[0], sides[-1].get(rank.key, 0) & bits[1]
                    if bool(before) is not bool(after):
                        turned[bool(after)].append(rank.key)
            known = [(gains, ranks) for gains, ranks in turned.items() if ranks]
            self._moved_at[place, *tops] = known
        return known

    def _moderated(self, side: int, place: str) -> Iterator[tuple[str, int]]:
        """Yield the ranks that may moderate at a place, each with the standings that they reach, as bits."""
        planes = (self.old, self.new)[side].keep(Planes)
        number = planes.decider.compiled.place_at[place]
        for rank, asked in planes.moderators:
            power = self._power(side, asked, number)
            if power is not None and power.moderated:
                yield rank.key, power.moderated


def _has_another_record(kin: Kin) -> bool:
    before, after = kin.before, kin.after
    if before is None or after is None:
        return False
    return (before.owner, before.recorded) != (after.owner, after.recorded)


def _spells(turned: list[tuple[Instant | None, list[_Turn]]]) -> Iterator[tuple[_Turn, Instant | None, Instant | None]]:
    """Yield what differs with from when until when, of what differs from each moment on: the first time alone."""
    begins: dict[tuple[bool, str, str, str], Instant | None] = {}
    ends: dict[tuple[bool, str, str, str], Instant | None] = {}
    for since, turns in turned:
        now = {(gains, act, using, target) for gains, act, using, targets in turns for target in targets}
        ends.update((acted, since) for acted in begins if acted not in now and acted not in ends)
        for acted in now:
            begins.setdefault(acted, since)
    alike: dict[tuple[bool, str, str, Instant | None, Instant | None], list[str]] = {}
    for acted in sorted(begins):
        alike.setdefault((*acted[:3], begins[acted], ends.get(acted)), []).append(acted[3])
    for (gains, act, using, since, until), targets in alike.items():
        yield (gains, act, using, tuple(targets)), since, until


def _bit_of(decider: Decider, top: str) -> int:
    """Return the bit of a rank, or of whoever has none, in sets of standings; the owner stands in none."""
    ranks = decider.compiled.rank_at
    return 0 if top == "@owner" else 1 << ranks.get(top, len(ranks))


def _together(shifts: list[ActShift]) -> list[ActShift]:
    """Fold shifts that differ in who acts alone."""
    found: dict[ActShift, list[str]] = {}
    for shift in shifts:
        found.setdefault(shift._replace(actors=()), []).extend(shift.actors)
    return [each._replace(actors=tuple(actors)) for each, actors in found.items()]
