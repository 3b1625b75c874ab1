"""Who may act on whom: moderate, assign, unassign, manage, call, and on which conditions (rules 6.1 to 6.11).

Each act collects every reason why not; it is possible where there is none.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property

from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import few, how_many, listed
from ask_above.charter.rules import USING, Act, ActRule, Over
from ask_above.decide.answer import Step
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.explain import Explainer
from ask_above.decide.gains import Gain, Handing, told_once
from ask_above.decide.ladder import ABOVE_ALL, Standing
from ask_above.decide.profile import Asked, How, People, Sort, ask_anybody
from ask_above.decide.walk import Reckoner, closed_gate, lists_that_count, standing, usable
from ask_above.decide.words import HELD_BY, LateWord, in_file, in_place
from ask_above.people.register import Status


def conditions(people: People, rank: Rank, target: Asked, chain: tuple[int, ...], at: Instant) -> list[Step]:
    """Return the conditions of ``rank`` that ``target`` does not meet, or one step that says they are met."""
    compiled = people.compiled
    steps = [*_status(target), *_after(compiled, rank, target, chain), *_apart(compiled, rank, target)]
    steps += _limit(people, rank, target, at)
    if not steps and (rank.after or rank.apart_from or rank.limit is not None):
        steps.append(Step("6.8", "conditions", {"rank": rank.called}, holds=True))
    return steps


def _status(target: Asked) -> Iterator[Step]:
    status = "not a member" if target.sort is Sort.VISITOR else target.status
    if status not in (Status.ACTIVE, Status.PENDING, Status.INVITED):
        yield Step("6.8", "target-status", {"target": target.label, "status": status}, holds=False)


def _after(compiled: CompiledCharter, rank: Rank, target: Asked, chain: tuple[int, ...]) -> Iterator[Step]:
    """Every rank of ``after`` is recorded for the target on the way to the place."""
    recorded = {holding.rank for holding in target.recorded if holding.how == How.AUTOMATIC or holding.place in chain}
    missing = [compiled.charter.ranks[key].called for key in rank.after if compiled.rank_at[key] not in recorded]
    if missing:
        place = in_place(compiled.places[chain[-1]].called, site=len(chain) == 1)
        words = {"rank": rank.called, "needed": listed(missing), "place": place, "target": target.label}
        yield Step("6.8", "after", words, holds=False)


def recorded_anywhere(compiled: CompiledCharter, target: Asked) -> set[str]:
    """Return the ranks recorded for someone at any place, now or starting later."""
    now = {compiled.ranks[holding.rank].key for holding in target.recorded}
    return now | {assignment.rank for assignment in target.later}


def _apart(compiled: CompiledCharter, rank: Rank, target: Asked) -> Iterator[Step]:
    """No rank that must stay apart is recorded for the target; it works both ways."""
    for key in sorted(recorded_anywhere(compiled, target), key=compiled.rank_at.__getitem__):
        other = compiled.charter.ranks[key]
        if key in rank.apart_from or rank.key in other.apart_from:
            words = {"rank": rank.called, "other": other.called, "target": target.label}
            yield Step("6.8", "apart", words, holds=False)


def _limit(people: People, rank: Rank, target: Asked, at: Instant) -> Iterator[Step]:
    """With the target at most ``limit`` members, the retired not counted, have the rank recorded."""
    if rank.limit is None:
        return
    count = 1 + how_many_have(people, rank, at, but=target.key)
    if count > rank.limit:
        words = {
            "rank": rank.called,
            "limit": how_many(rank.limit, "member"),
            "target": target.label,
            "count": str(count),
        }
        yield Step("6.8", "limit", words, holds=False)


def how_many_have(people: People, rank: Rank, at: Instant, *, but: str | None = None) -> int:
    """Count the members, the retired not counted, for whom a rank is recorded anywhere, now or later; one left out."""
    register, groups = people.register, people.compiled.charter.groups.values()
    by_itself = rank.automatic or rank.entry or any(c.rank == rank.key for group in groups for c in group.confers)
    # where nothing but an assignment brings it, nobody else need be looked at
    holding = register.keys() if by_itself else {given.member for given in register.naming("rank", {rank.key})}
    others = (people.ask(key, at) for key in holding if key != but)
    return sum(not other.is_retired and rank.key in recorded_anywhere(people.compiled, other) for other in others)


class Case:
    """One question about an act: who acts, where, and the steps found so far.

    ``in_change`` asks for the act as a part of a change: a target stands by the highest rank recorded now or later, and
    conditions, and what anyone gains, are looked at for the whole of the change instead (rules 9.5 and 9.7).
    Where ``enough`` reasons stand against it, what would be handed on, which takes longest, is looked at no further.
    """

    enough: int | None = None

    def __init__(
        self, reckoner: Reckoner, people: People, actor: Asked, place: int, at: Instant, *, in_change: bool = False
    ) -> None:
        self.reckoner, self.people, self.actor, self.place, self.at = reckoner, people, actor, place, at
        self.in_change = in_change
        self.compiled: CompiledCharter = reckoner.compiled
        self.steps: list[Step] = []
        self.handing = Handing(reckoner, place, actor.profile)

    def again(self, actor: Asked | None = None) -> Case:
        """Return another question with no steps yet, which shares what was worked out for this one.

        It is of the same actor, or of ``actor``; the place and the moment are the same.
        """
        other = Case(self.reckoner, self.people, actor or self.actor, self.place, self.at, in_change=self.in_change)
        other.handing = Handing(self.reckoner, self.place, other.actor.profile, beside=self.handing)
        other.enough = self.enough
        return other

    @cached_property
    def _anybody(self) -> Asked:
        return ask_anybody(self.compiled)

    # -- the acts

    def put(self, act: Act, rank: Rank | None, target: Asked | None, using: Sequence[str] = ()) -> list[Step]:
        """Collect why the actor may or may not do an act: on ``target``, or to ``rank`` and with them where it has one.

        ``using`` are the capabilities with which, all that the act takes where there are none.
        """
        if act is Act.MODERATE and target is not None:
            return self.moderate(target, tuple(using) or self.compiled.charter.rules.act(act).using)
        if rank is None:
            raise TypeError(f"{act} is about a rank")
        if act is Act.UNASSIGN and target is not None:
            return self.unassign(rank, target)
        if act is Act.MANAGE:
            return self.manage(rank)
        return self.call(rank) if act is Act.CALL else self.assign(rank, target)

    def moderate(self, target: Asked, using: tuple[str, ...]) -> list[Step]:
        """Collect why the actor may or may not moderate ``target`` with one of these capabilities (rule 6.7)."""
        # also for the owner, who may do everything else to everybody
        if self._is_actor(target):
            self._no("6.7", "on-oneself")
        if self._owner_decides(target):
            return self.steps
        rule = self.compiled.charter.rules.act(Act.MODERATE)
        if self._acts():
            able = self.capability(rule, using, self.place)
            self.target_over(rule, target)
            highest = self.reached(target)
            on = self.compiled.ladder.rank(highest)
            title = on.called if on else "someone without any rank"
            self.on_list(rule, on.key if on else None, title, able or using)
        return self.steps

    def assign(self, rank: Rank, target: Asked | None, *, made: bool = False) -> list[Step]:
        """Collect why the actor may or may not give ``rank`` to ``target``; to just anybody where none (rule 6.8).

        A rank that is ``made`` in the same change stands nowhere yet: whoever asks looks at its order afterwards.
        """
        if not self.in_change:
            self._givable(rank)
            if rank.paused:
                self._no("6.8", "paused", rank=rank.called)
        if target is not None and not self.in_change:
            self.steps += conditions(self.people, rank, target, self.compiled.chains[self.place], self.at)
        oneself = self._is_actor(target)
        if target is not None and self._owner_decides(target):
            return self.steps
        if target is None and self.actor.rules_all:
            self._yes("4.5", "owner-act", who=self.actor.label)
            return self.steps
        # joining an open rank asks for nothing but the conditions, which are steps already (6.8)
        if oneself and rank.open and not rank.paused and self.place == 0 and self.actor.acts:
            self._yes("6.8", "open-join", rank=rank.called)
            return self.steps
        someone = target or self._anybody
        rule = self.compiled.charter.rules.act(Act.ASSIGN)
        if self._acts():
            self._rank_and_target(rule, rank, someone, oneself=oneself, made=made)
            if not rank.automatic and not self.in_change and not self._is_enough():
                self._hand_on(rule, someone, self.handing.brought(rank, target))
        return self.steps

    def _is_enough(self) -> bool:
        return self.enough is not None and sum(step.holds is False for step in self.steps) >= self.enough

    def given(self, reach: int) -> Iterator[Rank]:
        """Yield those of some ranks, all within the actor's power, that they may give to just anybody (rule 6.8).

        ``reach`` has the ranks by their positions, as :class:`~ask_above.decide.planes.Power` has: what is left is
        where such a one stands, and what is handed on.
        """
        rule = self.compiled.charter.rules.act(Act.ASSIGN)
        if not self._own_standing(rule).reaches(rule.over, self.reached(self._anybody)):
            return
        for rank in self.compiled.ranks:
            able = reach >> rank.position & 1 and not (rank.automatic or rank.kept_by or rank.paused)
            if able and (rule.hand_on == "any" or self.handing.is_within(rank)):
                yield rank

    def unassign(self, rank: Rank, target: Asked) -> list[Step]:
        """Collect why the actor may or may not take ``rank`` from ``target`` (rule 6.9)."""
        if not self.in_change:  # in a change it is one of its conditions
            self._givable(rank)
        if not self.in_change and not self.has_assignment(rank, target):
            words = {"target": target.label, "rank": rank.called, "place": self._where(self.place)}
            self._no("6.9", "no-assignment", **words)
        if self._owner_decides(target):
            return self.steps
        if not self._acts() or (self.in_change and self._is_actor(target)):
            return self.steps
        rule = self.compiled.charter.rules.act(Act.ASSIGN)
        if self.in_change:
            self._rank_and_target(rule, rank, target, oneself=False)
            return self.steps
        gains = self.handing.lost(rank, target)
        if self._is_actor(target):
            self._give_up(rank, target, gains)
            return self.steps
        self._rank_and_target(rule, rank, target, oneself=False)
        self._hand_on(rule, target, gains)
        return self.steps

    def manage(self, rank: Rank) -> list[Step]:
        """Collect why the actor may or may not change ``rank`` (rule 6.10)."""
        if rank.kept_by:
            self._no("6.10", "kept", rank=rank.called, keeper=rank.kept_by)
        if self.actor.rules_all:
            self._yes("4.5", "owner-act", who=self.actor.label)
            return self.steps
        rule = self.compiled.charter.rules.act(Act.MANAGE)
        if self._acts():
            able = self.capability(rule, rule.using, 0)
            self._over(rule, rank.called, rank.position)
            self.on_list(rule, rank.key, rank.called, able or rule.using)
        return self.steps

    def call(self, rank: Rank) -> list[Step]:
        """Collect why the actor may or may not call ``rank`` (rule 6.11)."""
        if not self._acts():
            return self.steps
        if rank.call_open:
            self._yes("6.11", "call-open", rank=rank.called)
        elif self.actor.rules_all:
            self._yes("4.5", "owner-act", who=self.actor.label)
        else:
            rule = self.compiled.charter.rules.act(Act.CALL)
            able = self.capability(rule, rule.using, self.place)
            if not able:
                self._no("6.11", "call-closed", rank=rank.called)
        return self.steps

    # -- who acts on whom

    def _acts(self) -> bool:
        """Only an active member acts, or a rank asked as one (rule 6.1)."""
        if self.actor.acts:
            return True
        if self.actor.sort is Sort.VISITOR:
            self._no("6.1", "visitor-acts", who=self.actor.label)
        else:
            self._no("6.1", "cannot-act", who=self.actor.label, status=self.actor.status)
        return False

    def _owner_decides(self, target: Asked) -> bool:
        """Let the owner, and let nobody act on the owner but the owner (rules 4.5 and 6.12)."""
        if self.actor.rules_all:
            self._yes("4.5", "owner-act", who=self.actor.label)
            return True
        if target.owner:
            self._no("6.12", "on-owner", target=target.label)
        return False

    def _is_actor(self, target: Asked | None) -> bool:
        return target is not None and target.sort is self.actor.sort is Sort.MEMBER and target.key == self.actor.key

    def _givable(self, rank: Rank) -> None:
        if rank.held_by is not None:
            self._no("6.8", "automatic-rank", rank=rank.called, by=HELD_BY[rank.held_by])
        if rank.kept_by:
            self._no("6.8", "kept", rank=rank.called, keeper=rank.kept_by)

    def _rank_and_target(self, rule: ActRule, rank: Rank, target: Asked, *, oneself: bool, made: bool = False) -> None:
        """Hold capability, rank and member to what the act asks (rule 6.8)."""
        able = self.capability(rule, rule.using, self.place)
        if not made:
            self._over(rule, rank.called, rank.position)
        if oneself:
            self._note("6.8", "self" if rule.oneself else "not-self", holds=rule.oneself)
        else:
            self.target_over(rule, target)
        self.on_list(rule, rank.key, rank.called, able or rule.using)

    def has_assignment(self, rank: Rank, target: Asked) -> bool:
        """Whether there is something to unassign: an assignment at exactly this place, in force or to come."""
        now = any(
            holding.how == How.ASSIGNED and (holding.rank, holding.place) == (rank.position, self.place)
            for holding in target.recorded
        )
        place = self.compiled.places[self.place].key
        return now or any((assignment.rank, assignment.place) == (rank.key, place) for assignment in target.later)

    def reached(self, target: Asked) -> Standing:
        """Return a target's standing here: their highest rank recorded on the way here or below (rule 6.5)."""
        return reached(self.compiled, target, self.place, later=self.in_change)

    # -- conditions, each noted whether it is met or not

    def _note(self, rule: str, code: str, *, holds: bool, **words: object) -> bool:
        self.steps.append(Step(rule, code, words, holds=holds))
        return holds

    def _no(self, rule: str, code: str, **words: object) -> None:
        self._note(rule, code, holds=False, **words)

    def _yes(self, rule: str, code: str, **words: str) -> None:
        self._note(rule, code, holds=True, **words)

    def _where(self, place: int) -> str:
        return in_place(self.compiled.places[place].called, site=place == 0)

    def capability(self, rule: ActRule, using: tuple[str, ...], place: int) -> tuple[str, ...]:
        """Return those of the act's capabilities that the actor can use; note it if there is none (rule 6.2)."""
        if not using:
            self._no("6.2", "no-using", default=USING.get(rule.act, rule.act), what="the capability")
            return ()
        mask = self.reckoner.usable(self.actor.profile, place) if self.actor.profile else 0
        able = tuple(key for key in using if mask & self.compiled.catalogue.bit[key])
        # the reason why a capability is lacking is an answer of its own, and told only to whoever reads it
        words = {"who": self.actor.label, "place": self._where(place)}
        if able:
            self._yes("6.2", "capability", what=listed(able, "or"), **words)
        else:
            why = LateWord(lambda: self._why_not(using[0], place))
            code = "behind-gate" if self._kept_out(using, place) else "no-capability"
            self._no("6.2", code, what=listed(using, "or"), why=why, **words)
        return able

    def _kept_out(self, using: tuple[str, ...], place: int) -> bool:
        """Whether a gate is all that keeps the actor from what an act takes (rule 5.3)."""
        profile = self.actor.profile
        if profile is None or closed_gate(self.compiled, profile, place) is None:
            return False
        inside = usable(self.compiled, self.reckoner.held(profile, place, gated=False).mask, place)
        return bool(inside & self.compiled.catalogue.mask(using))

    def _why_not(self, capability: str, place: int) -> str:
        reason = Explainer(self.compiled, self.people.register, self.actor, place).account(capability).reason
        return f"{reason[0].lower()}{reason[1:]}" if reason.startswith(("The ", "None ")) else reason

    def _own_standing(self, rule: ActRule) -> Standing:
        """Return where the actor stands for an act: of managing, on the whole site (rules 6.3 and 6.10)."""
        return standing(self.compiled, self.actor.profile, 0 if rule.act == Act.MANAGE else self.place)

    def target_over(self, rule: ActRule, target: Asked) -> None:
        """Note whether a member stands where the act reaches, and by which rank they stand there."""
        there = self.reached(target)
        rank, label = self.compiled.ladder.rank(there), target.label
        self._over(rule, f"{label} ({rank.called})" if rank and target.sort is Sort.MEMBER else label, there)

    def _over(self, rule: ActRule, label: str, there: int) -> None:
        """Note whether the one acted on stands where the act reaches (rule 6.3)."""
        own = self._own_standing(rule)
        rank, who = self.compiled.ladder.rank(own), self.actor.label
        short = rank.called if rank else who
        words = {
            "target": label,
            "actor": f"{who} ({short})" if rank and self.actor.sort is Sort.MEMBER else short,
            "actor_short": short,
            "at": f" {self._where(self.place)}" if self.place and rule.act != Act.MANAGE else "",
        }
        holds = own.reaches(rule.over, there)
        code = {
            Over.ANYONE: "over-anyone",
            Over.LEVEL: "over-level" if holds else "not-level",
            Over.BELOW: "over" if holds else "not-below",
        }[rule.over]
        self._note("6.3", code, holds=holds, **words)

    def on_list(self, rule: ActRule, acted_on: str | None, what: str, capabilities: tuple[str, ...]) -> None:
        """Note where no rank of the actor that grants a capability used admits the rank acted on (rule 6.4)."""
        place = 0 if rule.act == Act.MANAGE else self.place
        profile = self.actor.profile
        refused: dict[str, Rank] = {}
        for capability in capabilities:
            asked = lists_that_count(self.compiled, profile, place, rule.act, capability) if profile else []
            if not asked or any(self._admits(rule.act, rank, acted_on) for rank in asked):
                return
            refused |= {rank.key: rank for rank in asked}
        if refused:
            where = next(rank.lists[rule.act].where for rank in refused.values() if rule.act in rank.lists)
            titles = listed((rank.called for rank in refused.values()), "or")
            self._no("6.4", "not-on-list", ranks=titles, what=what, file=in_file(where))

    @staticmethod
    def _admits(act: Act, rank: Rank, acted_on: str | None) -> bool:
        return act not in rank.lists or rank.lists[act].admits(acted_on)

    # -- gains (rule 6.6)

    def _hand_on(self, rule: ActRule, target: Asked, found: Iterable[Gain]) -> None:
        if rule.hand_on == "any":
            self._yes("6.6", "hand-on-any")
            return
        gain = None
        for gain in self.handing.not_held(found):
            place = self._where(gain.place)
            if gain.unbounded:
                self._no("6.6", "unbounded-gain", target=target.label, place=place)
            else:
                gates = "" if gain.gated else " (gates left aside)"
                what = self._some(gain.mask)
                self._no(
                    "6.6",
                    "not-held-gain",
                    target=target.label,
                    who=self.actor.label,
                    what=what,
                    place=place,
                    gates=gates,
                )
            if self._is_enough():
                break
        if gain is None:
            self._yes("6.6", "hand-on", target=target.label, who=self.actor.label)

    def _some(self, mask: int) -> str:
        return few(self.compiled.catalogue.names(mask), 3)

    def _give_up(self, rank: Rank, target: Asked, found: list[Gain]) -> None:
        if not found:
            self._yes("6.9", "own-up")
        for gain in told_once(found):
            what = "everything" if gain.unbounded else self._some(gain.mask)
            words = {"target": target.label, "rank": rank.called, "place": self._where(gain.place)}
            self._no("6.9", "own-gain", what=what, **words)


def reached(compiled: CompiledCharter, target: Asked, place: int, *, later: bool = False) -> Standing:
    """Return the standing that a target has at a place; with ``later`` the highest they have now or come to have."""
    if target.owner:
        return ABOVE_ALL
    # ranks at places below count too: nobody is moderated here by whom they outrank there (6.5)
    chain, chains = compiled.chains[place], compiled.chains
    ranks = [
        holding.rank
        for holding in target.recorded
        if holding.how == How.AUTOMATIC or holding.place in chain or place in chains[holding.place]
    ]
    if later:
        spots = ((assignment.rank, compiled.place_at[assignment.place]) for assignment in target.later)
        ranks += [compiled.rank_at[rank] for rank, where in spots if where in chain or place in chains[where]]
    return Standing(min(ranks, default=compiled.ladder.bottom))
