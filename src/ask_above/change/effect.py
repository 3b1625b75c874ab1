"""Whether what a change does is within somebody's reach: gains, losses, overrides, power (rules 9.6 and 9.7)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import cached_property, reduce
from operator import or_
from typing import NamedTuple

from ask_above.bulk.differences import alike
from ask_above.change.parts import Kind, entries
from ask_above.change.refusal import Refusal
from ask_above.change.subjects import Affected
from ask_above.change.turns import Spot, Turn, Turns
from ask_above.charter.catalogue import content
from ask_above.charter.charter import Charter
from ask_above.charter.names import how_many, upper
from ask_above.charter.rules import ActRule, Over
from ask_above.decide.authority import reached
from ask_above.decide.decider import Decider
from ask_above.decide.planes import Power, Powers
from ask_above.decide.profile import Asked, Profile, ask_anybody, ask_member, ask_rank
from ask_above.decide.walk import standing
from ask_above.people.register import Member

_MOST_TOLD = 8


class HolderWords(NamedTuple):
    """What a place says for one holder: what its words give, deny and bar, bundles and patterns worked out."""

    gives: int = 0
    denies: int = 0
    bars: int = 0


NO_WORDS = HolderWords()
Turned = tuple[HolderWords, HolderWords]
Reasons = dict[tuple[str, str], tuple[str, int]]
"""What speaks against a change, by whom it is so of: a sentence, and of how many it is true."""


class OverrideEffect:
    """What a change says at places, and what of it is out of an actor's reach."""

    def __init__(self, turns: Turns) -> None:
        self.turns, self.old, self.new = turns, turns.old, turns.new

    @cached_property
    def _said(self) -> list[tuple[Spot, dict[str, Turned]]]:
        """Return for each spot what its words are, before and after, by holder, where they differ."""
        parts = self.turns.difference.parts
        anywhere = any(part.kind in (Kind.SET, Kind.BUNDLE) for part in parts)
        places = {part.key for part in parts if part.kind is Kind.PLACE}
        differing = []
        for spot in self.turns.spots if anywhere or places else ():
            key = (self.old if spot.gone else self.new).compiled.places[spot.before if spot.gone else spot.after].key
            # a place of which nothing differs says what it said, unless something that it names is said anew
            if not anywhere and key not in places:
                continue
            before = words_at(self.old.compiled.charter, key)
            after = {} if spot.gone else words_at(self.new.compiled.charter, key)
            both = ((label, (before.get(label, NO_WORDS), after.get(label, NO_WORDS))) for label in {**after, **before})
            differ = {label: (was, now) for label, (was, now) in both if was != now}
            if differ:
                differing.append((spot, differ))
        return differing

    def gives(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        """Yield words that give, or take no more, what the actor does not hold at their place (rule 9.7e)."""
        members = self.new.people.register.members
        for spot, differ in self._said:
            gated, ungated = (self.turns.own(actor, spot.before, gated=each).mask for each in (True, False))
            for label, (before, after) in differ.items():
                if label.startswith("@") and label[1:] not in members and after != NO_WORDS:
                    sentence = f"An exception for {label[1:]}, who is not in the register, is the owner's to write."
                    yield Refusal("9.7e", sentence)
                given = after.gives & ~before.gives
                # a bar in the place of a denial takes all the more
                freed = before.denies & ~(after.denies | after.bars) | before.bars & ~after.bars
                beyond = (given | freed) & ~(gated & ungated)
                if rule.hand_on == "held" and beyond:
                    verb = "give" if given & beyond else "no longer take"
                    sentence = f"{upper(self.turns.at(spot))} words for {label} would {verb} {self.turns.some(beyond)}"
                    yield Refusal("9.7e", f"{sentence}, which {actor.label} does not hold there.")

    def names(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        """Yield those whom words name and who do not stand below the actor (rule 9.7c)."""
        if rule.over is Over.ANYONE:
            return
        yield from self._named_in_sets(actor, rule)
        for spot, differ in self._said:
            for label, (before, after) in differ.items():
                if label.endswith("+"):
                    yield from self._ranging(actor, rule, spot, label[:-1], (before, after))
                    continue
                named = self._holder(label)
                if named is not None and not self.turns.below(actor, rule, named, spot.before):
                    said = f"What is said {self.turns.at(spot)} names {named.label}"
                    yield Refusal("9.7c", f"{said}, who does not stand below {actor.label} there.")

    def _named_in_sets(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        """Yield those whom override sets name, wherever these speak, and who do not stand below on the whole site."""
        for part in self.turns.difference.parts:
            if part.kind is not Kind.SET or part.field == "key":
                continue
            one, two = (
                entries(() if each is None else getattr(each, "overrides", each)) for each in (part.before, part.after)
            )
            for label in dict.fromkeys((*two, *one)):
                named = None if one.get(label) == two.get(label) or label.endswith("+") else self._holder(label)
                if named is not None and not self.turns.below(actor, rule, named, 0):
                    yield Refusal(
                        "9.7c", f"The set {part.key} names {named.label}, who does not stand below {actor.label}."
                    )

    def _holder(self, label: str) -> Asked | None:
        """Return whom a word speaks of, as they stood before; ``None`` for what was not there."""
        compiled, people = self.old.compiled, self.old.people
        if label.startswith("@"):
            known = label[1:] in people.register.members
            return people.ask(label[1:], self.turns.now) if known else ask_anybody(compiled)
        if label in compiled.charter.ranks:
            return ask_rank(compiled, compiled.charter.ranks[label])
        if label in compiled.charter.groups:
            group = compiled.charter.groups[label]
            asked = ask_member(compiled, Member("", groups=(label,)), [], self.turns.now, excepted=False)
            return asked._replace(label=f"somebody in {group.called}")
        return None

    def _ranging(self, actor: Asked, rule: ActRule, spot: Spot, rank: str, both: Turned) -> Iterator[Refusal]:
        """Yield a rank in a range whose answers change there, and that does not stand below, held or not."""
        mask = reduce(or_, (before ^ after for before, after in zip(*both, strict=True)))
        old, new = self.old.compiled, self.new.compiled
        # before or after: it may begin at a rank that is made, and ranks may have come into it
        ranged = {each.key for side in (old, new) for each in side.ranks[: side.rank_at.get(rank, -1) + 1]}
        for covered in (each for each in old.ranks if each.key in ranged):
            stays = new.charter.ranks.get(covered.key)
            asked = ask_rank(old, covered)
            pair = asked.profile, stays and ask_rank(new, stays).profile
            if self.turns.differ(pair, spot) & mask and not self.turns.below(actor, rule, asked, spot.before):
                who = f"{covered.called}, who does not stand below {actor.label} there"
                said = f"{rank}+ {self.turns.at(spot)} speaks of {who}: name the ranks below one by one."
                yield Refusal("9.7c", said)
                return


def words_at(charter: Charter, place: str) -> dict[str, HolderWords]:
    """Return what a place says of whom, by its own entries, its exceptions and the sets it is like (rule 9.7e)."""
    here, catalogue = charter.places.get(place), charter.catalogue
    words: dict[str, HolderWords] = {}
    if here is None:
        return words
    entries = [(override.label, override) for override in here.overrides]
    entries += [(override.label, override) for key in here.like for override in charter.override_sets[key].overrides]
    entries += [(f"@{exception.of}", exception) for exception in here.exceptions]
    for label, entry in entries:
        known = words.get(label, NO_WORDS)
        said = known.gives | known.denies  # the first that says something of a capability is the word; bars add up
        words[label] = HolderWords(
            known.gives | catalogue.close(catalogue.expand_all(entry.allow)) & ~said,
            known.denies | catalogue.expand_all(entry.deny) & ~said,
            known.bars | catalogue.expand_all(entry.bar),
        )
    return words


class PowerEffect:
    """The standing and the power that a change brings, and what of it is out of an actor's reach."""

    def __init__(self, turns: Turns) -> None:
        self.turns, self.old, self.new = turns, turns.old, turns.new

    def standing(self, actor: Asked) -> Iterator[Refusal]:
        """Yield where the actor would come to stand above a rank that stood above them or level with them."""
        old, new = self.old.compiled, self.new.compiled
        both = {
            (standing(old, before, spot.before), standing(new, after, spot.after)): None
            for before, after in self.turns.own_pairs(actor)
            for spot in self.turns.spots
        }
        for own, later in both:
            for rank in new.ladder.below(later):
                if old.ladder.number.get(rank.key, own + 1) <= own:
                    yield Refusal("9.7b", f"{actor.label} would come to stand above {rank.called}.")
                    return

    @cached_property
    def _powers(self) -> tuple[Powers, Powers]:
        return self.old.keep(Powers.beside), self.new.keep(Powers.beside)

    @property
    def _edits_ranks(self) -> bool:
        return any(part.kind in (Kind.RANK, Kind.BUNDLE) for part in self.turns.difference.parts)

    def power(self, actor: Asked) -> Iterator[Refusal]:
        """Yield the power over ranks and members that anybody gains and the actor has not."""
        mine = set(self.turns.own_pairs(actor))
        for title, where in self._power_turned(mine, self.turns.spots, actor, set()):
            yield Refusal("9.7b", f"{actor.label} would gain power over {title} {where}.")
        # assignments give nobody else power: only ranks and places that say something else do
        edits_ranks = self._edits_ranks
        # each pair once, by the first subject that is somebody: all of a pair come down to the same
        if edits_ranks or any(part.kind in (Kind.PLACE, Kind.SET) for part in self.turns.difference.parts):
            named: set[str] = set()
            for number, spots in self._where_power_may_turn():
                pair = self.turns.subjects.pairs[number]
                for subject in self.turns.subjects.of_pair[number]:
                    if subject.form not in ("member", "rank") or subject.joined or not subject.acts:
                        continue
                    if pair in mine or subject.asked.owner:
                        continue
                    who = self.turns.who(subject, actor)
                    for title, where in self._power_turned({pair}, spots, actor, named):
                        lacks = f"which {actor.label} has not there {where}"
                        yield Refusal("9.7d", f"{who} would gain power over {title}, {lacks}.")
                    break  # the others of the pair come down to the same
        if edits_ranks:
            yield from self._over_members(actor)

    def _where_power_may_turn(self) -> Iterator[tuple[int, Iterable[Spot]]]:
        """Yield the pairs whose power may be another, and at which spots.

        Where the ladder, its lists and what ranks grant of what acts take are as they were, that is where somebody
        holds other things than before of what these rest on, or other ranks.
        """
        pairs = self.turns.subjects.pairs
        if not self._ladder_stays or self.turns.are_few:
            yield from ((n, self.turns.spots) for n in range(len(pairs)))
            return
        relevant = self._resting_on_acts
        spots_of: dict[int, set[Spot]] = {}
        for turn in self.turns.all:
            if turn.freed or (turn.gained | turn.lost) & relevant:
                for n in turn.pairs:
                    spots_of.setdefault(n, set()).add(turn.spot)
        # of another kind than what it is compared with, a place may give power to whoever holds what they held
        others = {spot for spot in self.turns.spots if self._means_otherwise(spot)}
        for n, (before, after) in enumerate(pairs):
            stays = before.automatic == after.automatic and before.placed == after.placed
            spots = sorted(spots_of.get(n, set()) | others) if stays else self.turns.spots
            if spots:
                yield n, spots

    def _means_otherwise(self, spot: Spot) -> bool:
        """Whether what acts take has another meaning at a place than at the one it is compared with (rule 5.6)."""
        before, after = self.old.compiled.has_meaning(spot.before), self.new.compiled.has_meaning(spot.after)
        return bool((before ^ after) & self._powers[0].any_using)

    @cached_property
    def _ladder_stays(self) -> bool:
        """Whether nothing of the ladder differs that tells who acts on whom."""

        def said(decider: Decider) -> list[tuple[object, ...]]:
            compiled, using = decider.compiled, self._powers[0].any_using
            return [
                (rank.key, rank.unbounded, rank.call_open, content(rank.lists), compiled.granted(rank) & using)
                for rank in compiled.ranks
            ]

        return said(self.old) == said(self.new)

    @cached_property
    def _resting_on_acts(self) -> int:
        """What the capabilities that acts take rest on."""
        compiled = self.old.compiled
        resting_on_acts, seeing = 0, compiled.charter.rules.seeing
        for key in compiled.catalogue.names(self._powers[0].any_using):
            resting_on_acts |= compiled.catalogue.rests_on(key, beside=seeing)
        return resting_on_acts

    def _power_turned(
        self, pairs: Iterable[tuple[Profile, Profile]], spots: Iterable[Spot], actor: Asked, told: set[str]
    ) -> Iterator[tuple[str, str]]:
        """Yield ranks that were there, over which pairs gain power that the actor has not, and where."""
        first, second = self._powers
        ranks = [(rank.key, rank.called) for rank in self.old.compiled.ranks]
        for before, after in pairs:
            for spot in spots:
                if spot.gone:
                    continue
                now, was = second.of(after, spot.after), first.of(before, spot.before)
                if not now or (now == was and self._ladder_stays):
                    continue
                gained = self._beyond(now, was, first.of(actor.profile, spot.before))
                if not gained:
                    continue
                for key, title in ranks:
                    at = self.new.compiled.rank_at.get(key)
                    if at is not None and gained >> at & 1 and key not in told:
                        told.add(key)
                        yield title, self.turns.at(spot)
                        return

    def _beyond(self, now: Power, *allowed: Power) -> int:
        """Return the ranks, by their later positions, over which some power is new."""
        ranks = 0
        sides = [self._mapped(power) for power in allowed]
        for n, mask in enumerate((*now.moderate, now.assign, now.manage, now.call)):
            rest = mask
            for side in sides:
                flat = (*side.moderate, side.assign, side.manage, side.call)
                rest &= ~flat[n]
            ranks |= rest
        return ranks

    def _mapped(self, power: Power) -> Power:
        """Return power as it was, by the later positions of ranks."""
        old, new = self.old.compiled, self.new.compiled
        if old is new or [rank.key for rank in old.ranks] == [rank.key for rank in new.ranks]:
            return power
        moved = [(1 << rank.position, 1 << new.rank_at[rank.key]) for rank in old.ranks if rank.key in new.rank_at]
        moved.append((1 << len(old.ranks), 1 << len(new.ranks)))

        def mapped(mask: int) -> int:
            return sum(to for at, to in moved if mask & at)

        return Power(tuple(map(mapped, power.moderate)), mapped(power.assign), mapped(power.manage), mapped(power.call))

    def _over_members(self, actor: Asked) -> Iterator[Refusal]:
        """Yield a member whom the actor could moderate by an edit of ranks, and could not before (rule 9.7d)."""
        first, second = self._powers
        targets = [*self._targets(actor)]
        # where ladder and power are as they were, only over whoever stands elsewhere
        moved = [each for each in targets if _recorded(self.old, each[0]) != _recorded(self.new, each[1])]
        for before, after in self.turns.own_pairs(actor):
            for spot in self.turns.spots:
                now = second.of(after, spot.after).moderate
                if spot.gone or not any(now):
                    continue
                was = first.of(before, spot.before).moderate
                for one, two in moved if was == now and self._ladder_stays else targets:
                    at, then = reached(self.old.compiled, one, spot.before), reached(self.new.compiled, two, spot.after)
                    if any(b >> then & 1 and not (at >= 0 and a >> at & 1) for a, b in zip(was, now, strict=True)):
                        yield Refusal("9.7d", f"{actor.label} would come to have power over {one.label}.")
                        return

    def _targets(self, actor: Asked) -> Iterator[tuple[Asked, Asked]]:
        """Yield one of each sort of member but the actor and the owner, before and after."""
        there = self.old.people.register.members, self.new.people.register.members
        for _, keys in alike(self.old, self.new):
            key = next((key for key in keys if key != actor.key), "")
            if all(key in side for side in there):
                one, two = (side.people.ask(key, self.turns.now) for side in (self.old, self.new))
                if not two.owner:
                    yield one, two


def _recorded(decider: Decider, asked: Asked) -> set[tuple[str, str]]:
    """Return which ranks are recorded for somebody, and where."""
    compiled = decider.compiled
    return {(compiled.ranks[each.rank].key, compiled.places[each.place].key) for each in asked.recorded}


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
        reasons: Reasons = {}
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
                if _told_as(subject) not in reasons:
                    who, since = self.turns.who(subject, actor), self.turns.since(subject)
                    said = f"{who} would{since} gain {what} {self.turns.at(turn.spot)}"
                    reason = f"{said}, which {actor.label} does not hold there."
                    reasons[_told_as(subject)] = reason, self.turns.many(subject, actor)
        if own_gain:
            yield Refusal("9.7b", f"{actor.label} would gain {own_gain}, by a change of their own.")
        yield from _first_of("9.7a", reasons, "would gain what is out of reach as well")

    # -- 9.7c: whom it touches

    def _losses(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        reasons: Reasons = {}
        known: dict[tuple[int, int], bool] = {}
        doubtful: dict[tuple[int, int], list[int]] = {}
        tops = self._tops if rule.over is not Over.ANYONE else []
        for turn in self.turns.all if tops else ():
            own = standing(self.old.compiled, actor.profile, turn.spot.before)
            first = own.first_reached(rule.over)
            which = id(turn.pairs), first  # turns that share their pairs share whom to look at
            if turn.lost and which not in doubtful:
                doubtful[which] = [n for n in turn.pairs if tops[n] < first]
            for subject in self.turns.of(doubtful[which] if turn.lost else ()):
                if not subject.loses or subject.joined or _told_as(subject) in reasons or subject.new:
                    continue
                lost = turn.lost & self._named_in_rules if subject.empty else turn.lost  # what counts of it
                if not lost:
                    continue
                if subject.form == "member" and all(key == actor.key for key in subject.keys):
                    continue
                spot = id(subject.asked), turn.spot.before
                if spot not in known:
                    known[spot] = self.turns.below(actor, rule, subject.asked, turn.spot.before)
                if known[spot] or self._level(actor, subject, turn, lost):
                    continue
                who, since = self.turns.who(subject, actor), self.turns.since(subject)
                said = f"{who} would{since} lose {self.turns.some(lost)} {self.turns.at(turn.spot)}"
                many = self.turns.many(subject, actor)
                reason = f"{said}, and {'does' if many == 1 else 'do'} not stand below {actor.label} there."
                reasons[_told_as(subject)] = reason, many
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

    def _level(self, actor: Asked, subject: Affected, turn: Turn, lost: int) -> bool:
        """Whether somebody stands level with the actor and loses only what the actor loses too."""
        place = turn.spot.before
        if reached(self.old.compiled, subject.asked, place, later=True) != standing(
            self.old.compiled, actor.profile, place
        ):
            return False
        return self._loses_as_long(actor, turn, subject, lost)

    def _loses_as_long(self, actor: Asked, turn: Turn, subject: Affected, lost: int) -> bool:
        """Whether the actor loses the same for as long as somebody loses it (rule 9.7c)."""
        of_pair: dict[int, int] = {}
        for other in self.turns.all:
            if (other.spot, other.gated) == (turn.spot, turn.gated):
                for pair in other.pairs:
                    of_pair[pair] = of_pair.get(pair, 0) | other.lost
        # stretches are joined end to end: the actor has to lose it for as long as the other does
        at = subject.since
        mine = [affected for affected in self.turns.subjects.all if actor.key in affected.keys and not affected.joined]
        for affected in sorted(mine, key=lambda stretch: stretch.since):
            if affected.since <= at < affected.until and not lost & ~of_pair.get(affected.pair, 0):
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


def _told_as(subject: Affected) -> tuple[str, str]:
    """Return what some who are alike are known by among the reasons; no member stands among two who are alike."""
    return subject.form, subject.keys[0] if subject.keys else subject.label


def _first_of(rule: str, reasons: Reasons, more: str) -> Iterator[Refusal]:
    """Yield what was found of the first few, and how many more there are."""
    in_order = sorted(reasons.values())
    yield from (Refusal(rule, text) for text, _ in in_order[:_MOST_TOLD])
    rest = sum(many for _, many in in_order[_MOST_TOLD:])
    if rest:
        yield Refusal(rule, f"{how_many(rest, 'other')} {more}.")
