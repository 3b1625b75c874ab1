"""Whether a change is within somebody's reach: what it takes, its conditions, and what it does (rules 9.2 to 9.9)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from copy import copy
from functools import cached_property

from ask_above.change.difference import Difference
from ask_above.change.effect import Effect
from ask_above.change.parts import ALWAYS_COVERED, Coverage, EditRow, Kind, State, coverage
from ask_above.change.refusal import Refusal
from ask_above.change.rights import OTHERWISE, Making, Rights
from ask_above.change.turns import Turns
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import SITE, how_many, listed
from ask_above.charter.rules import ActRule
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Asked
from ask_above.decide.words import in_place
from ask_above.people.register import OUT, Member, Status, reached_groups

Recorded = dict[tuple[str, str], Coverage]
"""For ranks and places, by their keys: when it is recorded that somebody has the rank there."""


class Conditions:
    """The conditions of a change; ``refusals`` are those it breaks.

    ``outside`` is the name of the program outside that makes it: what is kept by that name it may give and take.
    """

    def __init__(self, difference: Difference, now: Instant, outside: str = "") -> None:
        self.difference, self.now, self.outside = difference, now, outside.casefold()
        self.before, self.after = difference.before, difference.after

    @cached_property
    def refusals(self) -> list[Refusal]:
        """Every condition that the change breaks, each told once."""
        return list(dict.fromkeys([*self._kept_edited(), *self._made_everybodys(), *self._people(), *self._limits()]))

    def _made_everybodys(self) -> Iterator[Refusal]:
        """Yield ranks that are made everybody's though a condition rests on them: none ends so (rule 9.5)."""
        old, ranks = self.before.charter.ranks, self.after.charter.ranks
        for key, rank in ranks.items():
            was = old.get(key)
            # one that was everybody's before is no newer wrong than it was
            newly = [what for what in everybodys(rank) if was is None or what not in everybodys(was)]
            rest = conditions_on(rank, ranks.values()) if newly else ""
            if rest:
                yield Refusal("9.5", f"{rank.called} cannot be made {listed(newly)}: {rest}.")

    # -- what something outside keeps

    def _kept_edited(self) -> Iterator[Refusal]:
        """Yield ranks kept by something outside that are edited: only who keeps them may be set, and cleared."""
        for part in self.difference.parts:
            if part.kind is not Kind.RANK or part.field == "kept_by" or part.row is EditRow.LADDER:
                continue
            old, new = (state.charter.ranks.get(part.key) for state in (self.before, self.after))
            if old is not None and old.kept_by and (new is None or new.kept_by):
                yield Refusal("6.10", _kept(old))
        for given in self.difference.given:
            rank = self._rank(given.rank)
            if given.lost and rank is not None and self._is_kept(rank):
                yield Refusal("6.8", _kept(rank), "act")

    def _is_kept(self, rank: Rank) -> bool:
        """Whether something outside keeps a rank that is not what makes the change."""
        return bool(rank.kept_by) and str(rank.kept_by).casefold() != self.outside

    def _rank(self, key: str) -> Rank | None:
        return self.after.charter.ranks.get(key) or self.before.charter.ranks.get(key)

    # -- people, one by one

    @cached_property
    def _touched(self) -> list[str]:
        """The members for whom a rank may be newly recorded."""
        old, new = self.before.charter, self.after.charter
        # what a group confers may give a rank to somebody whose own record nobody touched
        same = old is new or _groups(old) == _groups(new)
        return self.difference.members if same else list(self.after.register.members)

    def _people(self) -> Iterator[Refusal]:
        broken: dict[str, list[Refusal]] = {}
        for alike in self._alike:
            for member in alike:
                broken[member.key] = [*self._member(member)]
                if not broken[member.key]:  # who was the same and is the same breaks nothing either
                    break
        for key in self._touched:
            yield from broken.get(key, ())

    @cached_property
    def _alike(self) -> list[list[Member]]:
        """Those of the members touched who are there afterwards, folded by all that a condition looks at."""
        folded: dict[tuple[object, ...], list[Member]] = {}
        for key in self._touched:
            member = self.after.register.members.get(key)
            if member is not None:
                folded.setdefault((_looked_at(self.before, key), _looked_at(self.after, key)), []).append(member)
        return [*folded.values()]

    def _member(self, member: Member) -> Iterator[Refusal]:
        old, new = recorded(self.before, member.key), recorded(self.after, member.key)
        given = {
            spot: spans
            for spot, spans in (
                (spot, (spans - old.get(spot, Coverage())).since(self.now)) for spot, spans in new.items()
            )
            if spans
        }
        charter = self.after.charter  # by kind and status: what another charter makes automatic is no condition's
        automatic = _automatic(charter, member) - _automatic(charter, self.before.register.members.get(member.key))
        automatic = set() if member.is_retired else automatic  # who leaves has nothing by it
        # one that a group confers already may be given all the same, and is held to what may be given to whom
        assigned = {
            (each.rank, each.place) for each in self.difference.given if each.gained and each.member == member.key
        }
        for key, place in new:
            if (key, place) in assigned or (key, place) in given:
                yield from self._givable(member, self.after.charter.ranks[key], assigned=(key, place) in assigned)
        for (key, place), spans in given.items():
            yield from self._after(member, self.after.charter.ranks[key], place, spans.first)
        back = self._comes_back(member)
        # who comes back brings all that was recorded for them
        for key in dict.fromkeys((*(key for key, _ in given), *automatic, *((key for key, _ in new) if back else ()))):
            yield from self._apart(member, self.after.charter.ranks[key])

    def _comes_back(self, member: Member) -> bool:
        was = self.before.register.members.get(member.key)
        return was is not None and was.status == Status.RETIRED != member.status

    def _givable(self, member: Member, rank: Rank, *, assigned: bool) -> Iterator[Refusal]:
        """Yield what nobody may be given, and who may be given nothing."""
        if rank.automatic:
            yield Refusal("6.8", f"{rank.called} is automatic; nobody may assign or unassign it.", "act")
        if rank.paused and assigned:
            yield Refusal("6.8", f"{rank.called} is paused; it is given to nobody until the pause is lifted.", "act")
        if self._is_kept(rank):
            yield Refusal("6.8", _kept(rank), "act")
        if member.status in OUT and assigned:
            why = f"{member.called} is {member.status}; only active, pending or invited members get ranks."
            yield Refusal("6.8", why, "act")

    def _after(self, member: Member, rank: Rank, place: str, first: Instant) -> Iterator[Refusal]:
        """Yield where a rank is missing that has to be there before: when it begins, before the change or after it."""
        if not rank.after:
            return
        chain = self.after.charter.chain(place)
        there = set[str]()
        for state in (self.before, self.after):
            someone = state.register.members.get(member.key)
            if someone is not None:
                there |= _automatic(state.charter, someone)
                there |= {
                    key
                    for (key, where), spans in recorded(state, member.key).items()
                    if where in chain and any(start <= first < end for start, end in spans.stretches)
                }
        missing = [self.after.charter.ranks[key].called for key in rank.after if key not in there]
        if missing:
            where = in_place(self.after.charter.places[place].called, site=place == SITE)
            needed = f"{rank.called} is given only to someone who has {listed(missing)} {where}"
            said = f"{needed}, and {member.called} has not."
            yield Refusal("6.8", said, "act", passable=True)

    def _apart(self, member: Member, rank: Rank) -> Iterator[Refusal]:
        """Yield the ranks that may not be held together and are now, where they were not before."""
        if rank.key not in self._ever_apart:
            return
        mine = self._anywhere(self.after, member)
        was = self.before.register.members.get(member.key)
        before = set[str]() if was is None or was.is_retired else self._anywhere(self.before, was)
        for key in sorted(mine - {rank.key}) if rank.key in mine else ():  # what has ended comes back to nobody
            other = self.after.charter.ranks[key]
            if not (key in rank.apart_from or rank.key in other.apart_from):
                continue
            if key in before and rank.key in before and _apart_already(self.before.charter, rank.key, key):
                continue
            said = f"Nobody may have both {rank.called} and {other.called}; {member.called} has {other.called}."
            yield Refusal("6.8", said, "act", passable=True)

    @cached_property
    def _ever_apart(self) -> set[str]:
        """The ranks that may not be held together with some other."""
        ranks = self.after.charter.ranks.values()
        return {key for rank in ranks if rank.apart_from for key in (rank.key, *rank.apart_from)}

    def _anywhere(self, state: State, member: Member) -> set[str]:
        """Return the ranks recorded for somebody anywhere, now or starting later."""
        given = {key for (key, _), spans in recorded(state, member.key).items() if spans.since(self.now)}
        return given | _automatic(state.charter, member)

    # -- how many may have a rank

    def _limits(self) -> Iterator[Refusal]:
        """Yield the ranks that more members have than may, where they are more than there were."""
        charter = self.after.charter
        for rank in charter.ranks.values():
            if rank.limit is None or not self._newly(rank.key):
                continue
            count = self._count(self.after, rank.key)
            if count > rank.limit and (
                rank.key not in self.before.charter.ranks or count > self._count(self.before, rank.key)
            ):
                names = listed(self.after.register.members[key].called for key in self._newly(rank.key)[:3])
                most = how_many(rank.limit, "member")
                said = f"At most {most} may have {rank.called}; with {names} it would be {count}."
                yield Refusal("6.8", said, "act", passable=True)

    def _newly(self, key: str) -> list[str]:
        """Return the members who have a rank anywhere after the change and had it not before."""
        holders, charter = set[str](), self.after.charter
        for alike in self._alike:
            now, was = alike[0], self.before.register.members.get(alike[0].key)
            if now.is_retired or key not in self._anywhere(self.after, now):
                continue
            # what another charter makes automatic is no condition's here either
            had = was is not None and not was.is_retired and self._anywhere(self.before, was) | _automatic(charter, was)
            if not had or key not in had:
                holders.update(member.key for member in alike)
        return [member for member in self._touched if member in holders]

    def _count(self, state: State, key: str) -> int:
        members = state.register.members.values()
        return sum(not member.is_retired and key in self._anywhere(state, member) for member in members)


def _kept(rank: Rank) -> str:
    return f"{rank.called} is kept by {rank.kept_by}; nobody here may edit, assign or unassign it."


def everybodys(rank: Rank) -> list[str]:
    """Return by which fields a rank is everybody's, or that of everybody who comes."""
    flags = {"automatic": rank.automatic, "entry": rank.entry, "on-joining": rank.on_joining}
    return [name for name, is_set in flags.items() if is_set]


def conditions_on(rank: Rank, ranks: Iterable[Rank]) -> str:
    """Say which conditions rest on a rank, its own or another's; empty where none does."""
    own = {"after": rank.after, "apart-from": rank.apart_from, "limit": rank.limit is not None}
    said = [f"it has {listed(name for name, is_set in own.items() if is_set)}"] if any(own.values()) else []
    naming = [other.called for other in ranks if rank.key in (*other.after, *other.apart_from)]
    return " and ".join([*said, *([f"the conditions of {listed(naming)} name it"] if naming else [])])


def recorded(state: State, key: str) -> Recorded:
    """Return when which ranks are recorded for a member, by assignment or group, automatic ones aside."""
    member = state.register.members.get(key)
    given = state.register.of(key)
    coverages: Recorded = {}
    for spot in dict.fromkeys((assignment.rank, assignment.place) for assignment in given):
        coverages[spot] = coverage(each for each in given if (each.rank, each.place) == spot)
    if member is not None and member.groups:
        for group in reached_groups(state.charter, member):
            for conferred in state.charter.groups[group].confers:
                coverages[conferred.rank, conferred.place] = ALWAYS_COVERED
    return coverages


def _looked_at(state: State, key: str) -> tuple[object, ...]:
    """Return what a condition looks at of a member: who they are, and what is assigned to them when."""
    member = state.register.members.get(key)
    given = [(each.rank, each.place, each.period.start, each.period.end) for each in state.register.of(key)]
    return member and (member.status, member.kind, member.groups), *given


def _automatic(charter: Charter, member: Member | None) -> set[str]:
    """Return the ranks recorded for somebody without being given (rules 4.1 and 4.4)."""
    if member is None:
        return set()
    pending = member.status == Status.PENDING
    by = ("anyone",) if pending else ("anyone", "members", *(("bots",) if member.kind == "bot" else ()))
    return {rank.key for rank in charter.ranks.values() if rank.held_by in by or (pending and rank.entry)}


def _apart_already(charter: Charter, one: str, other: str) -> bool:
    ranks = charter.ranks
    return one in ranks and other in ranks and (other in ranks[one].apart_from or one in ranks[other].apart_from)


def _groups(charter: Charter) -> list[tuple[object, ...]]:
    return [(group.key, group.includes, group.confers) for group in charter.groups.values()]


class Reach:
    """Holds one change to what members may do.

    ``old`` and ``new`` answer for the two sides of the difference, ``made`` says how it is made.
    """

    def __init__(
        self, old: Decider, new: Decider, difference: Difference, now: Instant, made: Making = OTHERWISE
    ) -> None:
        self.old, self.new, self.difference, self.now = old, new, difference, now
        self.rights = Rights(old, new, difference, now, made)
        self.conditions = Conditions(difference, now, made.outside)
        self.effect = Effect(Turns(old, new, difference, now))

    def made_by(self, made: Making) -> Reach:
        """Return the same change, made otherwise: what it does is worked out once."""
        other = copy(self)
        other.rights = Rights(self.old, self.new, self.difference, self.now, made)
        return other

    def refusals(self, actor: str) -> list[Refusal]:
        """Return every reason why the change is out of a member's reach, each once; none where it is within."""
        reasons: dict[tuple[str, str], Refusal] = {}
        for refusal in self._all(self.old.people.ask(actor, self.now)):
            reasons.setdefault((refusal.rule, refusal.why), refusal)
        return [*reasons.values()]

    def _all(self, actor: Asked) -> Iterator[Refusal]:
        # nobody passes conditions by but the keeper of the files
        yield from (refusal._replace(passable=False) for refusal in self.conditions.refusals)
        if actor.rules_all:
            return
        if actor.acts and self.rights.by_oneself_alone(actor.key or ""):
            yield from self.rights.of_oneself(actor)
            return
        yield from self.rights.refusals(actor)
        # what is the owner's alone is refused already, and the two sides need not have the same capabilities then
        if actor.acts and not self.rights.owners:
            yield from self.effect.refusals(actor, self._rule)

    @cached_property
    def _rule(self) -> ActRule:
        return self.rights.rule()

    def candidates(self, but: str) -> Iterator[str]:
        """Yield members who might be able to make the change, the owner first, each kind once; ``but`` is left out."""
        owner = self.old.compiled.charter.owner
        keys = [key for key in ([owner] if owner else []) if key in self.old.people.register.members]
        keys += [key for key in self.old.people.register.members if key not in (owner, but)]
        named = {*self.difference.members}
        seen: set[object] = set()  # whoever is like these, and does not differ themselves, is no other case
        for key in keys:
            form = self.old.ready.class_of(key)
            if key == but or (form in seen and key not in named):
                continue
            if self.old.people.ask(key, self.now).acts:
                yield key
                seen |= set() if key in named else {form}
