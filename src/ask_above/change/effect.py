"""Whether what a change does is within somebody's reach: the five rules of the effect (rules 9.6 and 9.7)."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from ask_above.change.overrides import OverrideEffect
from ask_above.change.power import PowerEffect
from ask_above.change.refusal import Refusal
from ask_above.change.subjects import Affected
from ask_above.change.turns import Turn, Turns
from ask_above.charter.names import how_many
from ask_above.charter.rules import ActRule, Over
from ask_above.decide.authority import reached
from ask_above.decide.profile import Asked
from ask_above.decide.walk import standing

_MOST_TOLD = 8


class Effect:
    """What a change does to everyone, and what of it is out of an actor's reach."""

    def __init__(self, turns: Turns) -> None:
        self.turns, self.old = turns, turns.old

    def refusals(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        """Yield what speaks against the effect for somebody who is not the owner."""
        overrides, power = OverrideEffect(self.turns), PowerEffect(self.turns)
        yield from overrides.gives(actor, rule)
        yield from overrides.names(actor, rule)
        yield from self._gains(actor, rule)
        yield from self._losses(actor, rule)
        yield from power.standing(actor)
        yield from power.power(actor)

    # -- 9.7a and 9.7b: what anyone gains

    def _gains(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        reasons: dict[str, str] = {}
        # one's own gain is told once, for the first place: it is refused wherever it is
        mine, own_gain = self.turns.pairs_of(actor), ""
        for turn in self.turns.all:
            if not (turn.gained or turn.freed):
                continue
            if mine and not own_gain and not mine.isdisjoint(turn.pairs):
                own_gain = f"{'everything' if turn.freed else self.turns.some(turn.gained)} {self.turns.at(turn.spot)}"
            own = self.turns.own(actor, turn.spot.before, gated=turn.gated)
            beyond = turn.gained & ~own.mask
            if rule.hand_on != "held" or not (beyond or (turn.freed and not own.unbounded)):
                continue
            what = self.turns.some(beyond) if beyond else "everything"
            # each is named once, for the first place at which it is so
            for subject in self.turns.of(turn.pairs):
                if subject.label not in reasons:
                    said = f"{subject.label} would{self.turns.since(subject)} gain {what} {self.turns.at(turn.spot)}"
                    reasons[subject.label] = f"{said}, which {actor.label} does not hold there."
        if own_gain:
            yield Refusal("9.7b", f"{actor.label} would gain {own_gain}, by a change of their own.")
        yield from _first_of("9.7a", reasons, "would gain what is out of reach as well")

    # -- 9.7c: whom it touches

    def _losses(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        reasons: dict[str, str] = {}
        known: dict[tuple[int, int], bool] = {}
        doubtful: dict[tuple[int, int], list[int]] = {}
        for turn in self.turns.all if rule.over is not Over.ANYONE else ():
            own = standing(self.old.compiled, actor.profile, turn.spot.before)
            first = own.first_reached(rule.over)
            which = id(turn.pairs), first  # turns that share their pairs share whom to look at
            if turn.lost and which not in doubtful:
                doubtful[which] = [n for n in turn.pairs if self._tops[n] < first]
            for subject in self.turns.of(doubtful[which] if turn.lost else ()):
                if not subject.loses or subject.joined or subject.label in reasons or subject.new:
                    continue
                if subject.empty and not turn.lost & self._named_in_rules:
                    continue
                if subject.form == "member" and all(key == actor.key for key in subject.keys):
                    continue
                spot = id(subject.asked), turn.spot.before
                if spot not in known:
                    known[spot] = self.turns.below(actor, rule, subject.asked, turn.spot.before)
                if known[spot] or self._level(actor, subject, turn):
                    continue
                who, since = self.turns.other(subject, actor), self.turns.since(subject)
                said = f"{who} would{since} lose {self.turns.some(turn.lost)} {self.turns.at(turn.spot)}"
                reasons[subject.label] = f"{said}, and does not stand below {actor.label} there."
        yield from _first_of("9.7c", reasons, "would lose something as well")

    @cached_property
    def _tops(self) -> list[int]:
        """The highest standing that anybody of each pair has anywhere, now or later: who stands lower needs no look."""
        compiled, highest = self.old.compiled, []
        for subjects in self.turns.subjects.of_pair:
            tops = [len(compiled.ranks)]
            for subject in subjects:
                tops += [holding.rank for holding in subject.asked.recorded]
                tops += [compiled.rank_at[later.rank] for later in subject.asked.later]
            highest.append(min(tops))
        return highest

    def _level(self, actor: Asked, subject: Affected, turn: Turn) -> bool:
        """Whether somebody stands level with the actor and loses only what the actor loses too."""
        place = turn.spot.before
        if reached(self.old.compiled, subject.asked, place, later=True) != standing(
            self.old.compiled, actor.profile, place
        ):
            return False
        return self._loses_as_long(actor, turn, subject)

    def _loses_as_long(self, actor: Asked, turn: Turn, subject: Affected) -> bool:
        """Whether the actor loses the same for as long as somebody loses it (rule 9.7c)."""
        lost: dict[int, int] = {}
        for other in self.turns.all:
            if (other.spot, other.gated) == (turn.spot, turn.gated):
                for pair in other.pairs:
                    lost[pair] = lost.get(pair, 0) | other.lost
        # stretches are joined end to end: the actor has to lose it for as long as the other does
        at = subject.since
        mine = [affected for affected in self.turns.subjects.all if actor.key in affected.keys and not affected.joined]
        for affected in sorted(mine, key=lambda stretch: stretch.since):
            if affected.since <= at < affected.until and not turn.lost & ~lost.get(affected.pair, 0):
                at = affected.until
        return at >= subject.until

    @cached_property
    def _named_in_rules(self) -> int:
        """The capabilities that ``rules`` name: of a rank or a group that nobody is in their loss alone counts."""
        compiled = self.old.compiled
        rules = compiled.charter.rules
        names = {name for rule in rules.acts.values() for name in (*rule.using, *rule.naming)}
        names |= {rules.seeing} if rules.seeing else set()
        names |= {f"{rules.contacts}.own", f"{rules.contacts}.all"} if rules.contacts else set()
        return compiled.catalogue.mask(name for name in names if name in compiled.catalogue.bit)


def _first_of(rule: str, told: dict[str, str], more: str) -> Iterator[Refusal]:
    """Yield what was found of the first few, and how many more there are."""
    texts = sorted(told.values())
    yield from (Refusal(rule, text) for text in texts[:_MOST_TOLD])
    if len(texts) > _MOST_TOLD:
        rest = len(texts) - _MOST_TOLD
        yield Refusal(rule, f"{how_many(rest, 'other')} {more}.")
