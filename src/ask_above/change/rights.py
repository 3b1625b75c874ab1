"""What each part of a change takes: the table of edits, row by row (rules 9.3 and 9.9)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property, reduce
from operator import or_
from typing import Final, NamedTuple

from ask_above.change.difference import OWNERS, Difference
from ask_above.change.parts import DifferencePart, EditRow, Given, Kind
from ask_above.change.refusal import Refusal, failing
from ask_above.change.telling import said
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import SITE, listed
from ask_above.charter.places import Conferred
from ask_above.charter.rules import Act, ActRule, Over
from ask_above.decide.answer import Step
from ask_above.decide.decider import Decider
from ask_above.decide.gains import as_active
from ask_above.decide.profile import Asked, Holding, How, Profile, ask_anybody, ask_member
from ask_above.decide.walk import Held, standing
from ask_above.decide.words import in_place
from ask_above.people.register import Assignment, Member, Status, edges_of, reached_groups

_MANAGED = (EditRow.MANAGE, EditRow.LADDER)


class Making(NamedTuple):
    """How a change is made: by whom, under which outside name, by undoing another one.

    ``maker`` is the member whose name the records of assignments bear that are made. ``outside`` is the name of the
    program outside that makes it, if one does. ``taken_out`` are members whom the maker added and now takes out again,
    by undoing that.
    """

    maker: str = ""
    outside: str = ""
    undoing: bool = False
    taken_out: frozenset[str] = frozenset()


OTHERWISE: Final = Making()
"""A change by nobody in particular, in memory."""


class Rights:
    """The rows of the table that a change stands in, held against what an actor may.

    ``made`` says how the change is made.
    """

    def __init__(self, old: Decider, new: Decider, difference: Difference, now: Instant, made: Making) -> None:
        self.old, self.new, self.difference, self.now, self.made = old, new, difference, now, made
        self.taken_out = made.taken_out
        self.rules = old.compiled.charter.rules

    # -- what rows there are

    @cached_property
    def given(self) -> list[Given]:
        """The assignments that are parts of their own: what joining gives goes with becoming active."""
        return [each for each in self.difference.given if not self.difference.on_joining(each)]

    @cached_property
    def owners(self) -> list[DifferencePart]:
        """The parts that are the owner's alone."""
        return [
            part
            for part in self.difference.parts
            if (part.row is EditRow.OWNER and not (part.kind is Kind.MEMBER and self._is_taken_out(part)))
            or (part.row is EditRow.IDENTITY and not self._is_of_theirs(part))
        ]

    def _is_taken_out(self, part: DifferencePart) -> bool:
        return not part.field and part.key in self.taken_out

    def _is_of_theirs(self, part: DifferencePart) -> bool:
        """Whether a program outside says of its own people who they are (rule 9.3): no other one holds them."""
        old, new = (state.register.members.get(part.key) for state in (self.difference.before, self.difference.after))
        known = [member.external_id for member in (old, new) if member is not None and ":" in member.external_id]
        mine = f"{self.made.outside}:".casefold()
        return bool(self.made.outside) and all(number.casefold().startswith(mine) for number in known)

    @cached_property
    def widened(self) -> list[str]:
        """The ranks that everybody may come to hold, or gets, and that are made so or grant something else now."""
        old, new = self.old.compiled, self.new.compiled
        wider = []
        for key, rank in new.charter.ranks.items():
            if not (rank.open or rank.on_joining or rank.entry):
                continue
            was = old.charter.ranks.get(key)
            if (
                was is None
                or any(getattr(rank, name) and not getattr(was, name) for name in ("open", "on_joining", "entry"))
                or old.granted(was) != new.granted(rank)
            ):
                wider.append(key)
        return wider

    def rule(self) -> ActRule:
        """Return the strictest order and handing on of the acts whose rows the change stands in."""
        acts = {Act.ASSIGN} if self.given or self.widened else set[Act]()
        for part in self.difference.parts:
            if part.row is EditRow.BUNDLE:
                ranks, places = self._named_by(part.key)
                acts |= {Act.OVERRIDES} if places else set()
                acts |= {Act.MANAGE} if ranks or not places else set()
            elif part.row in _MANAGED:
                acts.add(Act.MANAGE)
            elif part.row in (EditRow.PLACE, EditRow.PARENT, EditRow.SETS):
                acts.add(Act.OVERRIDES)
            elif part.kind is Kind.MEMBER:
                acts.add(Act.ASSIGN)
        rules = [self.rules.act(act) for act in sorted(acts)] or [self.rules.act(Act.MANAGE)]
        order = [*Over]
        return ActRule(
            Act.OVERRIDES,  # what is looked at is where the change is made, and no list
            # a change that stands in several rows is held to the narrowest of them (9.2)
            over=min((rule.over for rule in rules), key=order.index),
            hand_on="held" if any(rule.hand_on == "held" for rule in rules) else "any",
        )

    def by_oneself_alone(self, actor: str) -> bool:
        """Whether somebody only joins, gives up, or gives themselves ranks (rule 9.9)."""
        given = self.difference.given
        return not self.difference.parts and all(each.member == actor and (each.gained or each.lost) for each in given)

    # -- held against an actor

    def refusals(self, actor: Asked) -> Iterator[Refusal]:
        """Yield what speaks against each part; ``actor`` is somebody else than the owner."""
        for part in self.owners:
            owner = self.old.compiled.charter.owner
            none = "" if owner else " No owner is set."
            yield Refusal("9.3", f"{said(part, self.difference.after)}: that is the owner's alone.{none}")
        if not actor.acts:
            if self._own_invitation(actor):
                return
            yield Refusal("6.1", f"{actor.label} is {actor.status}; only an active member may change anything.")
            return
        yield from self._ranks(actor)
        yield from self._places(actor)
        yield from self._people(actor)
        for given in self.given:
            yield from self._given(actor, given)
        for key in self.widened:
            yield from self._to_everybody(actor, key)

    def _own_invitation(self, actor: Asked) -> bool:
        """Whether somebody invited accepts, and does nothing else (rule 9.3)."""
        if actor.status != Status.INVITED or self.given or not self.difference.parts:
            return False
        return all(
            part.kind is Kind.MEMBER and part.key == actor.key and part.field in ("status", "joined")
            for part in self.difference.parts
        )

    # -- ranks and bundles

    def _ranks(self, actor: Asked) -> Iterator[Refusal]:
        parts = self.difference.parts
        keys = dict.fromkeys(part.key for part in parts if part.kind is Kind.RANK and part.row in _MANAGED)
        for bundle in (part for part in parts if part.row is EditRow.BUNDLE):
            yield from failing(self._using(actor, Act.MANAGE, 0), "edit")
            ranks, places = self._named_by(bundle.key)
            keys |= dict.fromkeys(ranks)
            for place in places:
                yield from failing(self._using(actor, Act.OVERRIDES, place), "edit")
        for key in keys:
            yield from self._managed(actor, key)

    def _managed(self, actor: Asked, key: str) -> Iterator[Refusal]:
        """Yield why a rank is out of reach, as it stood and as it will stand (rule 6.10)."""
        before, after = self.old.compiled.charter.ranks.get(key), self.new.compiled.charter.ranks.get(key)
        if before is not None:
            yield from failing(self.old.case(actor, 0, self.now, in_change=True).manage(before), "act")
        elif after is not None:
            rule = self.rules.act(Act.MANAGE)
            case = self.old.case(actor, 0, self.now, in_change=True)
            case.capability(rule, rule.using, 0)
            case.on_list(rule, key, after.called, rule.using)
            yield from failing(case.steps, "act")
        if after is not None:
            yield from self._over_afterwards(actor, self.rules.act(Act.MANAGE), after)

    def _over_afterwards(self, actor: Asked, rule: ActRule, rank: Rank, place: str = SITE) -> Iterator[Refusal]:
        """Yield why a rank does not stand where an act reaches once the change is made."""
        later = self.new.people.ask(actor.key or "", self.now)
        own = standing(self.new.compiled, later.profile, self.new.compiled.place_at.get(place, 0))
        if not own.reaches(rule.over, rank.position):
            yield Refusal("6.3", f"{rank.called} would not stand below {actor.label}.", "act")

    def _named_by(self, bundle: str) -> tuple[list[str], list[int]]:
        """Return the ranks and the places whose words a bundle stands in, on either side."""
        ranks: dict[str, None] = {}
        places: dict[int, None] = {}
        for decider in (self.old, self.new):
            charter = decider.compiled.charter
            names = _standing_in(charter, bundle)
            for rank in charter.ranks.values():
                if names & {*rank.grants, *rank.withhold}:
                    ranks[rank.key] = None
            sets = {
                key
                for key, each in charter.override_sets.items()
                if any(names & {*entry.allow, *entry.deny, *entry.bar} for entry in each.overrides)
            }
            # a set may be named by any place, so changing what it says is a change of the whole site
            if sets:
                places[0] = None
            for place in charter.places.values():
                entries = (*place.overrides, *place.exceptions)
                if sets & set(place.like) or any(names & {*e.allow, *e.deny, *e.bar} for e in entries):
                    places[self._there(place.key)] = None
        return list(ranks), list(places)

    # -- places

    def _there(self, key: str | None) -> int:
        """Return the number of a place as it was; of one that is made, that of the nearest there was."""
        places, at = self.new.compiled.charter.places, self.old.compiled.place_at
        while key is not None and key not in at:
            key = places[key].parent
        return 0 if key is None else at[key]

    def _places(self, actor: Asked) -> Iterator[Refusal]:
        where: dict[int, None] = {}
        for part in self.difference.parts:
            if part.row is EditRow.SETS:
                where[0] = None
            elif part.row is EditRow.PLACE:
                where[self._there(part.key)] = None
            elif part.row is EditRow.PARENT and part.field:
                where |= {self._there(part.before): None, self._there(part.after): None}
            elif part.row is EditRow.PARENT:
                where[self._there((part.after or part.before).parent)] = None
        for place in where:
            yield from failing(self._using(actor, Act.OVERRIDES, place), "edit")

    # -- people

    def _people(self, actor: Asked) -> Iterator[Refusal]:
        for part in self.difference.parts:
            if part.kind is not Kind.MEMBER or part.row in (EditRow.OWNER, EditRow.IDENTITY):
                continue
            target = self._member(part.key)
            if target is None or part.key in self.taken_out:
                act = Act.ACCOUNTS if part.row is EditRow.ACCOUNT else Act.ASSIGN
                yield from failing(self._using(actor, act, 0), "edit")
                if not part.field and part.after is not None:
                    yield from self._conferred(actor, part.key, (), part.after.groups)
            elif part.row is EditRow.PEOPLE and part.field == "groups":
                yield from self._regrouped(actor, target, part)
            elif part.row is EditRow.PEOPLE:
                if not (actor.key == part.key and part.before == "invited"):
                    yield from self._below(actor, target)
            else:
                yield from self._account(actor, target, part)

    def _member(self, key: str) -> Asked | None:
        people = self.old.people
        return people.ask(key, self.now) if key in people.register.members else None

    def _below(self, actor: Asked, target: Asked) -> Iterator[Refusal]:
        """Yield why somebody may not be vouched for or put into groups: what it takes, and whom it reaches."""
        yield from failing(self._using(actor, Act.ASSIGN, 0), "edit")
        if target.owner:
            yield Refusal("6.12", f"{target.label} is the owner, and nobody acts on the owner but the owner.")
        elif actor.key != target.key:
            case = self.old.case(actor, 0, self.now, in_change=True)
            case.target_over(self.rules.act(Act.ASSIGN), target)
            yield from failing(case.steps, "edit")

    def _regrouped(self, actor: Asked, target: Asked, part: DifferencePart) -> Iterator[Refusal]:
        out_alone = set(part.after) < set(part.before)
        if actor.key == target.key and out_alone:
            gained = self._gained_by_leaving(target, part.after)
            if gained:
                yield Refusal("9.3", f"{actor.label} may not leave this group: they would gain {gained}.")
            return
        yield from self._below(actor, target)
        yield from self._conferred(actor, part.key, part.before, part.after)

    def _gained_by_leaving(self, target: Asked, groups: tuple[str, ...]) -> str:
        """Say what somebody would hold without some groups, and does not hold with them, at any moment to come."""
        member = target.member
        if member is None:
            return ""
        given, left = self.old.people.register.of(member.key), member._replace(groups=groups)
        return self._some_gain(member, given, left, given)

    def _some_gain(
        self,
        was: Member,
        given_before: Sequence[Assignment],
        now: Member,
        given_after: Sequence[Assignment],
        besides: Profile | None = None,
    ) -> str:
        """Say something that a member gains between two records of theirs and ``besides`` does not hold either."""
        compiled = self.old.compiled
        excepted = was.key in compiled.exceptional
        for at in self._moments(*given_before, *given_after):
            before, after = (
                as_active(ask_member(compiled, member, list(given), at, excepted=excepted))
                for member, given in ((was, given_before), (now, given_after))
            )
            gained = self._beyond(after, before, besides) if before != after else ""
            if gained:
                return gained
        return ""

    def _moments(self, *given: Assignment) -> list[Instant]:
        """Return now, and the moments to come at which assignments begin or end."""
        return [self.now, *sorted(edges_of(given, self.now))]

    def _beyond(self, more: Profile, *others: Profile | None) -> str:
        """Say something that somebody holds somewhere and none of the others does, gates left aside or not."""
        compiled, held = self.old.compiled, self.old.reckoner.held
        for place in range(len(compiled.places)):
            for gated in (True, False):
                mine, *theirs = (held(each, place, gated=gated) for each in (more, *others) if each is not None)
                beyond = mine.mask & ~reduce(or_, (each.mask for each in theirs), 0)
                freed = mine.unbounded and not any(each.unbounded for each in theirs)
                if beyond or freed:
                    what = "everything" if freed else listed(compiled.catalogue.names(beyond)[:3])
                    return f"{what} {in_place(compiled.places[place].called, site=place == 0)}"
        return ""

    def _conferred(self, actor: Asked, key: str, old: Sequence[str], new: Sequence[str]) -> Iterator[Refusal]:
        """Yield why the ranks that groups confer may not be given or taken so (rule 9.3)."""
        target = self._member(key)
        for group in dict.fromkeys((*new, *old)):
            if (group in old) == (group in new) or group not in self.old.compiled.charter.groups:
                continue
            for conferred in self._confers(group):
                rank = self.old.compiled.charter.ranks[conferred.rank]
                place = self.old.compiled.place_at[conferred.place]
                case = self.old.case(actor, place, self.now, in_change=True)
                if group in new:
                    yield from failing(case.assign(rank, target), "act")
                elif target is not None:
                    yield from failing(case.unassign(rank, target), "act")

    def _confers(self, group: str) -> list[Conferred]:
        """Return the ranks that a group confers, itself or through groups that it lies in."""
        charter = self.old.compiled.charter
        reached = reached_groups(charter, Member("", groups=(group,)))
        return [conferred for key in sorted(reached) for conferred in charter.groups[key].confers]

    def _account(self, actor: Asked, target: Asked, part: DifferencePart) -> Iterator[Refusal]:
        """Yield why a member's record may not be changed: what it takes, and the member as under moderating."""
        oneself, accounts = actor.key == target.key, self.rules.act(Act.ACCOUNTS)
        if oneself and part.row in (EditRow.NAME, EditRow.PHONE):
            return
        if oneself and part.row is EditRow.ADDRESS:
            yield from failing(self._using(actor, Act.ACCOUNTS, 0), "edit")
            return
        steps = self.old.case(actor, 0, self.now, in_change=True).moderate(target, accounts.using)
        wrong = list(failing(steps, "edit"))
        if wrong and part.row is EditRow.NAME and accounts.naming:
            steps = self.old.case(actor, 0, self.now, in_change=True).moderate(target, accounts.naming)
            wrong = list(failing(steps, "edit"))
        yield from wrong
        if part.row is EditRow.ADDRESS and self.rules.act(Act.ASSIGN).hand_on == "held":
            yield from self._all_within(actor, target)

    def _all_within(self, actor: Asked, target: Asked) -> Iterator[Refusal]:
        """Yield where somebody holds what the actor does not: by their address one could sign in as them."""
        if target.member is None or actor.profile is None:
            return
        given = self.old.people.register.of(target.member.key)
        excepted = target.member.key in self.old.compiled.exceptional
        for at in self._moments(*given):
            profile = as_active(ask_member(self.old.compiled, target.member, given, at, excepted=excepted))
            beyond = self._beyond(profile, actor.profile)
            if beyond:
                yield Refusal("9.3", f"{target.label} holds {beyond}, which {actor.label} does not hold there.")
                return

    # -- assignments

    def _given(self, actor: Asked, given: Given) -> Iterator[Refusal]:
        """Yield why a rank may not be given, or taken, for the time that is newly covered or no longer."""
        yield from self._records(given)
        place = self._there(given.place)
        rank = self.old.compiled.charter.ranks.get(given.rank)
        if rank is None:
            yield from self._made_and_given(actor, given, place)
            return
        target = self._member(given.member)
        # a record that is written anew counts as giving the rank anew
        if given.gained or (not given.lost and (given.come or given.gone)):
            case = self.old.case(actor, place, self.now, in_change=True)
            yield from failing(case.assign(rank, target), "act")
        if given.lost and target is not None:
            case = self.old.case(actor, place, self.now, in_change=True)
            yield from failing(case.unassign(rank, target), "act")
        if not (given.gained or given.lost or given.come or given.gone):  # only what is over differs
            yield from failing(self._using(actor, Act.ASSIGN, place), "act")

    def _made_and_given(self, actor: Asked, given: Given, place: int) -> Iterator[Refusal]:
        """Yield why a rank that is made in the same change may not be given: as it stands after it (rule 9.9)."""
        rank = self.new.compiled.charter.ranks.get(given.rank)
        if rank is None:
            return
        case = self.old.case(actor, place, self.now, in_change=True)
        steps = case.assign(rank, self._member(given.member), made=True)
        yield from failing(steps, "act")
        if not any(step.code == "open-join" for step in steps):
            yield from self._over_afterwards(actor, self.rules.act(Act.ASSIGN), rank, given.place)

    def _records(self, given: Given) -> Iterator[Refusal]:
        """Yield what a record of an assignment may not say: who made it, and what holds it, follow from the change."""
        if self.made.undoing:
            if any(record.source for record in (*given.come, *given.gone)):
                yield Refusal("9.12", "What something outside gave comes back or goes by the owner or the maintainer.")
            return
        title = self._title(given.rank)
        for record in given.come:
            if record.by != self.made.maker and not self._goes_on(record, given):
                yield Refusal("9.3", f"The record of {title} names {record.by or 'nobody'} as whoever assigned it.")
            if record.source and record.source.casefold() != self.made.outside.casefold():
                yield Refusal("9.3", f"Only {record.source} itself writes that {title} comes from there.")

    @staticmethod
    def _goes_on(record: Assignment, given: Given) -> bool:
        """Whether a record bears the name that the one had which it takes the place of."""
        return any(record.by == old.by and record.why == old.why for old in given.gone)

    def _title(self, rank: str) -> str:
        known = self.new.compiled.charter.ranks.get(rank) or self.old.compiled.charter.ranks.get(rank)
        return known.called if known else rank

    def of_oneself(self, actor: Asked) -> Iterator[Refusal]:
        """Yield why a member may not join or give up these ranks, in a change of nothing else (rule 9.9)."""
        member, rule = actor.member, self.rules.act(Act.ASSIGN)
        if member is None:
            return
        for given in self.difference.given:
            yield from self._given(actor, given)
        open_ranks = {key for key, rank in self.old.compiled.charter.ranks.items() if rank.may_be_joined}
        before, after = (list(decider.people.register.of(member.key)) for decider in (self.old, self.new))
        joined = [
            *before,
            *(assignment for assignment in after if assignment.rank in open_ranks and assignment.place == "site"),
        ]
        everything = [*before, *after]
        if rule.hand_on == "held":
            gained = self._some_gain(member, joined, member, everything, besides=actor.profile)  # as of now (9.7a)
            if gained:
                yield Refusal("6.6", f"{actor.label} would gain {gained}, which they do not hold there.", "act")
        gained = self._some_gain(member, everything, member, after)
        if gained:
            yield Refusal("6.9", f"{actor.label} may not give it up: they would gain {gained}.", "act")

    def _to_everybody(self, actor: Asked, key: str) -> Iterator[Refusal]:
        """Yield why a rank may not be given to everybody, as it is once the change is made (rule 9.3)."""
        rule, rank = self.rules.act(Act.ASSIGN), self.new.compiled.charter.ranks[key]
        before = self.old.compiled.charter.ranks.get(key)
        case = self.old.case(actor, 0, self.now, in_change=True)
        yield from failing(case.assign(before or rank, None, made=before is None), "act")
        yield from self._over_afterwards(actor, rule, rank)
        if rule.hand_on == "held":
            yield from self._brought_within(actor, rank)

    def _brought_within(self, actor: Asked, rank: Rank) -> Iterator[Refusal]:
        """Yield what a rank brings to just anybody and the actor does not hold."""
        new, someone = self.new, ask_anybody(self.new.compiled)
        plain, plus = as_active(someone), as_active(someone, plus=Holding(rank.position, 0, How.ASKED))
        for here, place in enumerate(new.compiled.places):
            there = self._there(place.key)
            for gated in (True, False):
                one, two = (new.reckoner.held(profile, here, gated=gated) for profile in (plain, plus))
                held = self.old.reckoner.held
                own = held(actor.profile, there, gated=gated) if actor.profile else Held(0, unbounded=False)
                beyond = two.mask & ~one.mask & ~own.mask
                if beyond or (two.unbounded and not one.unbounded and not own.unbounded):
                    names = new.compiled.catalogue.names(beyond)[:3]
                    what = listed(names) if names and not two.unbounded else "everything"
                    where = in_place(place.called, site=here == 0)
                    yield Refusal(
                        "6.6",
                        f"{rank.called} would bring everybody {what} {where}, which {actor.label} does not hold there.",
                        "act",
                    )
                    return

    def _using(self, actor: Asked, act: Act, place: int) -> Sequence[Step]:
        """Note whether somebody can use what an edit takes, at a place."""
        case, rule = self.old.case(actor, place, self.now, in_change=True), self.rules.act(act)
        case.capability(rule, rule.using, place)
        return case.steps


def _standing_in(charter: Charter, bundle: str) -> set[str]:
    """Return a bundle and all bundles that it stands in, directly or inside another."""
    outer, bundles = {bundle}, charter.catalogue.bundles
    while True:
        more = {key for key, each in bundles.items() if outer & set(each.words)} - outer
        if not more:
            return outer
        outer |= more


__all__ = ["OWNERS", "Making", "Rights"]
