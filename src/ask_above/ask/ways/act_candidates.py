"""Single changes that may give another answer on an act: its capability, the ladder, lists, conditions (rule 6)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from ask_above.ask.ways.candidates import (
    Candidate,
    CapabilityCandidates,
    Files,
    assigning,
    locked,
    ordering,
    regrouping,
    status,
    unassigning,
    with_member,
)
from ask_above.change.people import Assign, Unassign
from ask_above.change.ranks import RankMove, RankSet
from ask_above.change.typed import typed
from ask_above.change.whole import CharterSet
from ask_above.charter import changes
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank, RankList
from ask_above.charter.moments import ALWAYS, Instant
from ask_above.charter.names import SITE
from ask_above.charter.rules import Act, ActRule, Over
from ask_above.charter.where import Where
from ask_above.decide.acts import ActAsked
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Asked, ask_rank
from ask_above.decide.words import in_place
from ask_above.people.register import Assignment, Member, Register, Status, reached_groups

_MOST_TAKEN = 8


class ActCandidates:
    """What may change the answer on an act."""

    def __init__(self, decider: Decider, actor: Asked, act: ActAsked, at: Instant) -> None:
        self.decider, self.act, self.at, self.compiled = decider, act, at, decider.compiled
        self.charter = self.compiled.charter
        self.actor, self.target = actor, act.acted_on(decider, at)
        self.rank = None if act.rank is None else self.charter.ranks[act.rank]
        self.place = self.compiled.place_at[act.place]
        self.rule: ActRule = self.charter.rules.act(Act.ASSIGN if act.name == Act.UNASSIGN else act.name)
        self.using = (act.using,) if act.using else self.rule.using
        place = 0 if act.name == Act.MANAGE else self.place
        self.about = [CapabilityCandidates(decider, actor, key, place, at) for key in self.using]
        self.actor_about = self.about[0] if self.about else None

    def giving(self) -> Iterator[Candidate]:
        """Yield changes that might make the act possible."""
        for about in self.about:
            yield from about.giving()
        if self.act.name == Act.CALL:
            yield from self._called(is_open=True)
            return
        yield from self._actor_raised()
        yield from self._order(up=True)
        yield from self._target_lowered()
        yield from self._rules()
        yield from self._lists(admit=True)
        yield from self._conditions()

    def taking(self) -> Iterator[Candidate]:
        """Yield changes that might make the act impossible."""
        for about in self.about:
            yield from about.taking()
        if self.act.name == Act.CALL:
            yield from self._called(is_open=False)
            return
        yield from locked(self.actor)
        yield from self._order(up=False)
        yield from self._lists(admit=False)
        yield from self._tightened()
        if self.rank is not None and self.rank.open and self.act.name == Act.ASSIGN:
            closed = self.rank._replace(open=False)
            yield self._rank_set("rule", f"close {closed.called}, so that nobody may join it", closed, {"open": "no"})

    # -- the ladder (rule 6.3)

    def _ranks_of(self, asked: Asked) -> list[Rank]:
        keys = dict.fromkeys(holding.rank for holding in sorted(asked.recorded, key=lambda each: each.rank))
        return [self.compiled.ranks[n] for n in keys]

    def _acted_on(self) -> list[Rank]:
        """Return the ranks whose place on the ladder matters: the one given or changed, and the target's."""
        ranks = [self.rank] if self.rank else []
        ranks += self._ranks_of(self.target) if self.target else []
        return list({rank.key: rank for rank in ranks}.values())

    def _order(self, *, up: bool) -> Iterator[Candidate]:
        """Yield moves: one of the actor's ranks above one acted on, or that below; the other way round to take."""
        seen: set[tuple[str, ...]] = {tuple(self.charter.ranks)}
        for own in self._ranks_of(self.actor):
            for other in self._acted_on():
                if own.key == other.key or (own.position < other.position) is up:
                    continue
                first, second = (own, other) if up else (other, own)
                # one goes up, or the other goes down: the two differ in whom they pass
                for mover, above, below in ((first, second.key, None), (second, None, first.key)):
                    moved = changes.moved(self.charter, mover.key, above=above, below=below)
                    order = tuple(moved.ranks)
                    if order in seen:
                        continue
                    seen.add(order)
                    said = f"above {second.called}" if above else f"below {first.called}"
                    what = f"move {mover.called} directly {said} on the ladder"
                    command = typed(RankMove(mover.key, above, below))
                    apply = ordering(mover.key, above, below)
                    yield Candidate("order", what, mover.where, self._block(mover), apply, command)

    def _block(self, rank: Rank) -> int:
        """Return how many lines a rank takes in its file; one where that cannot be told."""
        # a rank ends where the next begins; in another file nothing tells
        after = self.compiled.ranks[rank.position + 1] if rank.position + 1 < len(self.compiled.ranks) else rank
        return max(1, after.where.line - rank.where.line) if after.where.file == rank.where.file else 1

    def _actor_raised(self) -> Iterator[Candidate]:
        """Yield the ranks that the actor might be given; where an act has no capability, none came before."""
        # the act takes nothing that could be used, so no rank helps
        if self.actor_about is None:
            return
        member = self.actor.member
        for rank in self.compiled.ranks if member else ():
            if not rank.automatic and not rank.kept_by and rank in self.actor_about.ranks and self.place:
                given = Assignment(member.key if member else "", rank.key, SITE, ALWAYS)
                what = f"assign {rank.called} to {self.actor.label} on the whole site"
                command = typed(Assign(given.member, given.rank, given.place))
                yield Candidate("assignment", what, self._in_register(member), 1, assigning(given), command)

    @staticmethod
    def _in_register(member: Member | None) -> Where:
        return CapabilityCandidates._in_register(member) if member is not None else Where("assignments.csv", 0, 0)

    def _target_lowered(self) -> Iterator[Candidate]:
        """Yield what the target might lose, so that they stand lower or nothing keeps apart."""
        target = self.target
        for holding in target.recorded if target and target.member else ():
            given = holding.assignment
            taken = self.act.name == Act.UNASSIGN and self.rank and given and given.rank == self.rank.key
            if given is None or taken or target is None:
                continue
            place = self.charter.places[given.place]
            spot = in_place(self.compiled.named[place.key].called, site=place.parent is None)
            what = f"unassign {self.charter.ranks[given.rank].called} from {target.label} {spot}"
            command = typed(Unassign(given.member, given.rank, given.place))
            yield Candidate("assignment", what, given.where, 1, unassigning(given), command)
        member = target.member if target else None
        for key in member.groups if member else ():
            inside = reached_groups(self.charter, Member("", groups=(key,)))
            if member is not None and any(self.charter.groups[each].confers for each in inside):
                left = member._replace(groups=tuple(group for group in member.groups if group != key))
                what = f"take {member.called} out of the group {self.charter.groups[key].called}"
                yield Candidate("group", what, member.where, 1, with_member(left), regrouping(left))

    # -- what the act takes, and whom lists admit (rules 6.2 to 6.6)

    def _rules(self) -> Iterator[Candidate]:
        yield from self._taken() if not self.using else ()
        wider = {Over.LEVEL: "those level with them too", Over.ANYONE: "anyone, whatever their rank"}
        for over, whom in wider.items():
            if self.rule.over not in (over, Over.ANYONE):
                what = f"let members {self.rule.act} {whom} (over: {over})"
                yield self._rule_set(what, self.rule._replace(over=over))
        if self.rule.act == Act.ASSIGN:
            if self.rule.hand_on == "held":
                yield self._rule_set(
                    "let members assign ranks that grant more than they have (hand-on: any)",
                    self.rule._replace(hand_on="any"),
                )
            if not self.rule.oneself:
                yield self._rule_set(
                    "let members assign ranks to themselves (self: true)", self.rule._replace(oneself=True)
                )

    def _taken(self) -> Iterator[Candidate]:
        """Yield what an act might take that takes nothing yet: what the actor can use, and the fewest ranks grant."""
        can = self.decider.usable(self.actor, self.place)
        for rank in self.compiled.ranks if not self.actor.rules_all else ():
            if rank.automatic:
                can &= ~self.decider.usable(ask_rank(self.compiled, rank), self.place)
        bit, carried = self.compiled.catalogue.bit, self.compiled.carried
        # what is for one's own things is nothing to moderate others by (rule 6.2)
        names = [
            key for key in self.compiled.catalogue.names(can) if self.rule.act != Act.MODERATE or key[-4:] != ".own"
        ]
        # what the fewest ranks grant hands the act to the fewest
        keys = sorted(names, key=lambda key: sum(bool(each & bit[key]) for each in carried))
        for key in keys[:_MOST_TAKEN]:
            yield self._rule_set(f"make {key} the capability to {self.rule.act}", self.rule._replace(using=(key,)))

    def _tightened(self) -> Iterator[Candidate]:
        """Yield that the act reaches fewer than it does."""
        narrower = {Over.LEVEL: "those below or level alone", Over.BELOW: "those below alone"}
        for over, whom in narrower.items():
            if over is not self.rule.over and (self.rule.over is Over.ANYONE or over is Over.BELOW):
                what = f"let members {self.rule.act} {whom} (over: {over})"
                yield self._rule_set(what, self.rule._replace(over=over))

    def _rule_set(self, what: str, rule: ActRule) -> Candidate:
        act, was = rule.act, self.rule
        field, value = next(
            (name, str(value).lower())
            for name, value, old in (
                ("over", rule.over, was.over),
                ("hand-on", rule.hand_on, was.hand_on),
                ("self", rule.oneself, was.oneself),
                ("using", *(", ".join(act_rule.using) for act_rule in (rule, was))),
            )
            if value != old
        )
        command = typed(CharterSet(f"rules.authority.{act}.{field}", value))
        where = Where(self._file(), 0, 0)
        return Candidate("rule", what, where, 1, lambda c, r: (changes.with_act(c, rule), r), command)

    def _file(self) -> str:
        return self.compiled.ranks[0].where.file if self.compiled.ranks else ""

    def _listing(self) -> list[str]:
        """Return the ranks that a list would have to name: the one given or changed, or those of the target."""
        if self.act.name == Act.MODERATE:
            case = self.decider.case(self.actor, self.place, self.at)
            at = case.reached(self.target) if self.target else -1
            return [self.compiled.ranks[at].key] if 0 <= at < len(self.compiled.ranks) else []
        return [self.rank.key] if self.rank else []

    def _lists(self, *, admit: bool) -> Iterator[Candidate]:
        act = self.rule.act
        named = {Act.MODERATE: "moderates", Act.ASSIGN: "assigns", Act.MANAGE: "manages"}[act]
        for rank in self._ranks_of(self.actor):
            entry = rank.lists.get(act)
            for key in self._listing():
                title = self.charter.ranks[key].called
                if entry is None:
                    if not admit:
                        only = RankList(excluded=frozenset((key,)), where=rank.where)
                        yield self._list_set(rank, only, f"except {title} from what {rank.called} {named}", lines=1)
                    continue
                if entry.admits(key) is admit:
                    continue
                changed = _list_changed(entry, key, admit=admit)
                word = "put" if admit else "take"
                what = f"{word} {title} {'on' if admit else 'off'} the list that {rank.called} {named}"
                if changed is None:
                    yield self._list_set(rank, None, f"drop the list of what {rank.called} {named}")
                else:
                    yield self._list_set(rank, changed, what)
            if entry is not None and admit and not self._listing():
                yield self._list_set(rank, None, f"drop the list of what {rank.called} {named}")

    def _list_set(self, rank: Rank, entry: RankList | None, what: str, lines: int = 1) -> Candidate:
        act, where = self.rule.act, rank.lists[self.rule.act].where if self.rule.act in rank.lists else rank.where
        lists = {key: value for key, value in rank.lists.items() if key != act} | ({act: entry} if entry else {})
        named = {Act.MODERATE: "moderates", Act.ASSIGN: "assigns", Act.MANAGE: "manages"}[act]
        written: object = None
        if entry is not None:
            way, names = ("only", entry.only) if entry.only is not None else ("except", entry.excluded)
            written = {way: sorted(names, key=list(self.charter.ranks).index)}
        return self._rank_set("list", what, rank._replace(lists=lists), {named: written}, where, lines)

    def _rank_set(
        self, kind: str, what: str, rank: Rank, fields: Mapping[str, object], where: Where | None = None, lines: int = 1
    ) -> Candidate:
        def apply(charter: Charter, register: Register) -> Files:
            here = charter.ranks[rank.key].position
            return changes.with_rank(charter, rank._replace(position=here)), register

        return Candidate(kind, what, where or rank.where, lines, apply, typed(RankSet(rank.key, fields)))

    # -- what must be true of the rank and of whoever is given it (rules 6.8 and 6.11)

    def _conditions(self) -> Iterator[Candidate]:
        rank, target = self.rank, self.target
        if rank is None or self.act.name != Act.ASSIGN:
            return
        if rank.limit is not None:
            more = rank._replace(limit=rank.limit + 1)
            fields = {"limit": str(rank.limit + 1)}
            yield self._rank_set("limit", f"raise the limit of {rank.called} to {rank.limit + 1}", more, fields)
        yield from self._apart(rank)
        if self.act.target == self.actor.key and not rank.open and self.place == 0:
            opened = rank._replace(open=True)
            yield self._rank_set("rule", f"open {rank.called}, so that members may join it", opened, {"open": "yes"})
        member = target.member if target else None
        for key in rank.after if member else ():
            needed = self.charter.ranks[key]
            if member is not None and not needed.automatic and not needed.kept_by:
                given = Assignment(member.key, key, SITE, ALWAYS)
                what = f"assign {needed.called} to {member.called} on the whole site first"
                command = typed(Assign(given.member, given.rank))
                yield Candidate("assignment", what, self._in_register(member), 1, assigning(given), command)
        if rank.after:
            plain = rank._replace(after=())
            yield self._rank_set("rule", f"require no other rank for {rank.called}", plain, {"after": None})
        if target is not None and target.status in (Status.LOCKED, Status.RETIRED):
            yield from status(target)

    def _apart(self, rank: Rank) -> Iterator[Candidate]:
        """Yield that two ranks may be held together which are kept apart."""
        has = {self.compiled.ranks[holding.rank].key for holding in self.target.recorded} if self.target else set[str]()
        has |= {assignment.rank for assignment in self.target.later} if self.target else set()
        for key in sorted(has):
            for one, other in ((rank, key), (self.charter.ranks[key], rank.key)):
                if other in one.apart_from:
                    left = tuple(each for each in one.apart_from if each != other)
                    what = f"permit {one.called} and {self.charter.ranks[other].called} for the same member"
                    fields = {"apart-from": list(left) or None}
                    yield self._rank_set("rule", what, one._replace(apart_from=left), fields)

    def _called(self, *, is_open: bool) -> Iterator[Candidate]:
        rank = self.rank
        if rank is not None and rank.call_open is not is_open:
            said = "open to calls:" if is_open else "close to calls:"
            fields = {"call": "open" if is_open else "closed"}
            yield self._rank_set("rule", f"{said} {rank.called}", rank._replace(call_open=is_open), fields)


def _list_changed(entry: RankList, key: str, *, admit: bool) -> RankList | None:
    """Return a list that admits a rank, or no longer does; ``None`` where nothing would be left of it."""
    if entry.only is not None:
        only = entry.only | {key} if admit else entry.only - {key}
        return entry._replace(only=only) if only else None
    excluded = entry.excluded - {key} if admit else entry.excluded | {key}
    return entry._replace(excluded=excluded) if excluded else None
