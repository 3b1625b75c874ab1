"""Whether what a change does is within somebody's reach: the five rules of the effect (rules 9.6 and 9.7)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from ask_above.bulk.alike import alike
from ask_above.bulk.places import CompiledPlaces
from ask_above.change.difference import Difference, Kind, content, entries
from ask_above.change.refusal import Refusal
from ask_above.change.subjects import Affected, Subjects
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant, written
from ask_above.charter.names import SITE, few
from ask_above.charter.rules import ActRule
from ask_above.decide.authority import reached
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.powers import Power, Powers
from ask_above.decide.profile import Asked, Profile, ask_anybody, ask_member, ask_rank
from ask_above.decide.walk import Held, standing
from ask_above.decide.words import day, in_place
from ask_above.people.register import Member

_FEW = 3_000
"""Up to how many pairs times places are looked at one by one."""

_MOST_NAMED = 3
_MOST_TOLD = 8


class Spot(NamedTuple):
    """A place after the change, and the one it is compared with before it; one that is removed is ``gone``."""

    after: int
    before: int
    gone: bool = False


class Turn(NamedTuple):
    """What some pairs gain and lose at one spot, with gates or with gates left aside; ``freed`` are made unbounded."""

    spot: Spot
    gated: bool
    gained: int
    lost: int
    freed: bool
    pairs: tuple[int, ...]


class HolderWords(NamedTuple):
    """What a place says for one holder: what its words give, deny and bar, bundles and patterns worked out."""

    gives: int = 0
    denies: int = 0
    bars: int = 0


class Effect:
    """What a change does to everyone, and what of it is out of an actor's reach.

    The two sides have the same catalogue, rules and groups: what changes those is the owner's alone, and the owner is
    held to no effect.
    """

    def __init__(self, old: Decider, new: Decider, difference: Difference, now: Instant) -> None:
        self.old, self.new, self.difference, self.now = old, new, difference, now

    @cached_property
    def subjects(self) -> Subjects:
        """Whom the change may touch."""
        return Subjects(self.old, self.new, self.difference, self.now)

    def refusals(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        """Yield what speaks against the effect for somebody who is not the owner."""
        yield from self._words(actor, rule)
        yield from self._named(actor, rule)
        yield from self._gains(actor, rule)
        yield from self._losses(actor, rule)
        yield from self._standing(actor)
        yield from self._power(actor)

    # -- what is held on both sides

    @cached_property
    def spots(self) -> list[Spot]:
        """The places that are compared: each with itself, a new one with the one it is in, one gone as if emptied."""
        old, new = self.old.compiled, self.new.compiled
        found = [Spot(n, self._nearest(new.charter, place.key, old.place_at)) for n, place in enumerate(new.places)]
        if old is not new:
            found += [
                Spot(self._nearest(old.charter, place.key, new.place_at), n, gone=True)
                for n, place in enumerate(old.places)
                if place.key not in new.place_at
            ]
        return found

    @staticmethod
    def _nearest(charter: Charter, key: str, known: dict[str, int]) -> int:
        here: str | None = key
        while here is not None and here not in known:
            here = charter.places[here].parent
        return known[here or SITE]

    @cached_property
    def turns(self) -> list[Turn]:
        """All that anybody gains and loses."""
        return sorted(self._find_turns(), key=lambda turn: (turn.spot, not turn.gated, turn.pairs))

    def _find_turns(self) -> Iterator[Turn]:
        pairs = self.subjects.pairs
        old, new = self.old.compiled, self.new.compiled
        if len(pairs) * len(self.spots) <= _FEW:
            yield from self._one_by_one(range(len(pairs)), self.spots)
        else:
            # who is unbounded, before or after, may hold the same as before and be made so, or be so no more
            free = [n for n, (one, two) in enumerate(pairs) if _unbounded(one, old) or _unbounded(two, new)]
            yield from self._one_by_one([n for n in free if not self._always_free(pairs[n])], self.spots)
            yield from self._together(sorted(set(range(len(pairs))) - set(free)))
            yield from self._one_by_one(range(len(pairs)), [spot for spot in self.spots if spot.gone])
        yield from self._emptied(pairs)

    def _always_free(self, pair: tuple[Profile, Profile]) -> bool:
        """Tell whether somebody holds everything everywhere on both sides."""
        sides = zip((self.old.compiled, self.new.compiled), pair, strict=True)
        return all(
            not compiled.unbounded.isdisjoint((*profile.automatic, *(r for r, place in profile.placed if not place)))
            for compiled, profile in sides
        )

    def _together(self, some: list[int]) -> Iterator[Turn]:
        """Yield what many pairs gain and lose, worked out in arrays."""
        from ask_above.bulk.held import held_otherwise

        plain = [spot for spot in self.spots if not spot.gone]
        beside = [spot.before for spot in plain]
        for each in held_otherwise(
            self.old.compiled.keep(CompiledPlaces),
            self.new.compiled.keep(CompiledPlaces),
            [self.subjects.pairs[n] for n in some],
            beside,
        ):
            which = tuple(some[n] for n in each.pairs)
            yield Turn(plain[each.place], each.gated, each.gained, each.lost, False, which)

    def _one_by_one(self, some: Sequence[int], spots: Iterable[Spot]) -> Iterator[Turn]:
        """Yield what a few pairs gain and lose; at a place that is gone, what its words gave is no loss."""
        pairs = self.subjects.pairs
        for spot in spots:
            for gated in (True, False):
                alike: dict[tuple[int, int, bool], list[int]] = {}
                for n in some:
                    was, now = self._both(pairs[n], spot, gated=gated)
                    if was != now:
                        turned = now.mask & ~was.mask, was.mask & ~now.mask, now.unbounded and not was.unbounded
                        alike.setdefault(turned, []).append(n)
                for (gained, lost, freed), which in alike.items():
                    yield Turn(spot, gated, gained, 0 if spot.gone else lost, freed, tuple(which))

    def _both(self, pair: tuple[Profile, Profile], spot: Spot, *, gated: bool) -> tuple[Held, Held]:
        before, after = pair
        return (
            self.old.reckoner.held(before, spot.before, gated=gated),
            self.new.reckoner.held(after, spot.after, gated=gated),
        )

    def _emptied(self, pairs: Sequence[tuple[Profile, Profile]]) -> Iterator[Turn]:
        """Yield what is lost at places that are gone because the assignments there end."""
        gone = {spot.before for spot in self.spots if spot.gone}
        for spot in self.spots if gone else ():
            for gated in (True, False) if spot.gone else ():
                for n, (before, _) in enumerate(pairs):
                    if not any(place in gone for _, place in before.placed):
                        continue
                    rest = before._replace(placed=frozenset(each for each in before.placed if each[1] not in gone))
                    was, now = (self.old.reckoner.held(each, spot.before, gated=gated) for each in (before, rest))
                    if was.mask & ~now.mask:
                        yield Turn(spot, gated, 0, was.mask & ~now.mask, False, (n,))

    # -- 9.7a and 9.7b: what anyone gains

    def _gains(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        told: dict[str, str] = {}
        mine, own_gain = self._pairs_of(actor), ""
        for turn in self.turns:
            if not (turn.gained or turn.freed):
                continue
            if mine and not own_gain and not mine.isdisjoint(turn.pairs):
                own_gain = f"{'everything' if turn.freed else self._some(turn.gained)} {self._at(turn.spot)}"
            own = self._own(actor, turn.spot.before, gated=turn.gated)
            beyond = turn.gained & ~own.mask
            if rule.hand_on != "held" or not (beyond or (turn.freed and not own.unbounded)):
                continue
            what = self._some(beyond) if beyond else "everything"
            for subject in self._of(turn.pairs):
                if subject.label not in told:
                    said = f"{subject.label} would{self._from(subject)} gain {what} {self._at(turn.spot)}"
                    told[subject.label] = f"{said}, which {actor.label} does not hold there."
        if own_gain:
            yield Refusal("9.7b", f"{actor.label} would gain {own_gain}, by a change of their own.")
        yield from _first_of("9.7a", told, "would gain what is out of reach as well")

    def _own(self, actor: Asked, place: int, *, gated: bool) -> Held:
        if actor.profile is None:
            return Held(0, unbounded=False)
        return self.old.reckoner.held(actor.profile, place, gated=gated)

    def _of(self, pairs: Iterable[int]) -> Iterator[Affected]:
        """Yield the subjects that come down to any of these pairs; the owner holds everything whatever happens."""
        return (each for n in pairs for each in self.subjects.of_pair[n] if not each.asked.owner)

    def _pairs_of(self, actor: Asked) -> set[int]:
        return {each.pair for each in self.subjects.all if actor.key in each.keys}

    # -- 9.7c: whom it touches

    def _losses(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        told: dict[str, str] = {}
        known: dict[tuple[int, int], bool] = {}
        for turn in self.turns if rule.over != "anyone" else ():
            own = standing(self.old.compiled, actor.profile, turn.spot.before)
            last = own - 1 if rule.over == "level" else own
            doubtful = [n for n in turn.pairs if self._tops[n] <= last] if turn.lost else ()
            for subject in self._of(doubtful):
                if not subject.loses or subject.joined or subject.label in told or subject.new:
                    continue
                if subject.form == "member" and all(key == actor.key for key in subject.keys):
                    continue
                spot = id(subject.asked), turn.spot.before
                if spot not in known:
                    known[spot] = self._below(actor, rule, subject.asked, turn.spot.before)
                if known[spot] or self._level(actor, subject, turn):
                    continue
                said = f"{self._other(subject, actor)} would{self._from(subject)} lose {self._some(turn.lost)}"
                told[subject.label] = f"{said} {self._at(turn.spot)}, and does not stand below {actor.label} there."
        yield from _first_of("9.7c", told, "would lose something as well")

    @cached_property
    def _tops(self) -> list[int]:
        """The highest standing that anybody of each pair has anywhere, now or later: who stands lower needs no look."""
        compiled, found = self.old.compiled, []
        for subjects in self.subjects.of_pair:
            tops = [len(compiled.ranks)]
            for each in subjects:
                tops += [holding.rank for holding in each.asked.recorded]
                tops += [compiled.rank_at[later.rank] for later in each.asked.later]
            found.append(min(tops))
        return found

    def _other(self, subject: Affected, actor: Asked) -> str:
        """Return a name of somebody among those alike who is not the actor."""
        others = [key for key in subject.keys if key != actor.key]
        if not others or others[0] == subject.keys[0]:
            return subject.label
        return self.new.people.register.members[others[0]].called

    def _below(self, actor: Asked, rule: ActRule, target: Asked, place: int) -> bool:
        if rule.over == "anyone":
            return not target.owner
        own = standing(self.old.compiled, actor.profile, place)
        there = reached(self.old.compiled, target, place, later=True)
        return there >= own if rule.over == "level" else there > own

    def _level(self, actor: Asked, subject: Affected, turn: Turn) -> bool:
        """Tell whether somebody stands level with the actor and loses only what the actor loses too."""
        place = turn.spot.before
        if reached(self.old.compiled, subject.asked, place, later=True) != standing(
            self.old.compiled, actor.profile, place
        ):
            return False
        return not turn.lost & ~self._lost_by(actor, turn.spot, turn.gated, subject.since)

    def _lost_by(self, actor: Asked, spot: Spot, gated: bool, at: Instant) -> int:
        """Return what the actor loses at a spot at a moment."""
        pairs = {
            each.pair
            for each in self.subjects.all
            if actor.key in each.keys and not each.joined and each.since <= at < each.until
        }
        found = 0
        for turn in self.turns:
            if (turn.spot, turn.gated) == (spot, gated) and not pairs.isdisjoint(turn.pairs):
                found |= turn.lost
        return found

    # -- words: 9.7c, whom they name, and 9.7e, what they give

    @cached_property
    def _said(self) -> list[tuple[Spot, dict[str, tuple[HolderWords, HolderWords]]]]:
        """Return for each spot what its words are, before and after, by holder, where they differ."""
        if not any(part.kind in (Kind.PLACE, Kind.SET, Kind.BUNDLE) for part in self.difference.parts):
            return []
        found = []
        for spot in self.spots:
            key = (self.old if spot.gone else self.new).compiled.places[spot.before if spot.gone else spot.after].key
            before = words_at(self.old.compiled.charter, key)
            after = {} if spot.gone else words_at(self.new.compiled.charter, key)
            differ = {
                label: (before.get(label, HolderWords()), after.get(label, HolderWords()))
                for label in dict.fromkeys((*after, *before))
                if before.get(label) != after.get(label)
            }
            if differ:
                found.append((spot, differ))
        return found

    def _words(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        """Yield words that give, or take no more, what the actor does not hold at their place (rule 9.7e)."""
        members = self.new.people.register.members
        for spot, differ in self._said:
            own = self._own(actor, spot.before, gated=True).mask & self._own(actor, spot.before, gated=False).mask
            for label, (before, after) in differ.items():
                if label.startswith("@") and label[1:] not in members and after != HolderWords():
                    said = f"An exception for {label[1:]}, who is not in the register, is the owner's to write."
                    yield Refusal("9.7e", said)
                given = after.gives & ~before.gives
                freed = before.denies & ~after.denies | before.bars & ~after.bars
                beyond = (given | freed) & ~own
                if rule.hand_on == "held" and beyond:
                    verb = "give" if given & beyond else "no longer take"
                    yield Refusal(
                        "9.7e",
                        f"{self._at(spot, upper=True)} words for {label} would {verb} {self._some(beyond)}, which "
                        f"{actor.label} does not hold there.",
                    )

    def _named(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        """Yield those whom words name and who do not stand below the actor (rule 9.7c)."""
        if rule.over == "anyone":
            return
        yield from self._named_in_sets(actor, rule)
        for spot, differ in self._said:
            for label, (before, after) in differ.items():
                if label.endswith("+"):
                    yield from self._ranging(actor, rule, spot, label[:-1], (before, after))
                    continue
                named = self._holder(label)
                if named is not None and not self._below(actor, rule, named, spot.before):
                    yield Refusal(
                        "9.7c",
                        f"What is said {self._at(spot)} names {named.label}, who does not stand below {actor.label} "
                        "there.",
                    )

    def _named_in_sets(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        """Yield those whom override sets name, wherever these speak, and who do not stand below on the whole site."""
        for part in self.difference.parts:
            if part.kind is not Kind.SET or part.field == "key":
                continue
            one, two = (
                entries(() if each is None else getattr(each, "overrides", each)) for each in (part.before, part.after)
            )
            for label in dict.fromkeys((*two, *one)):
                named = None if one.get(label) == two.get(label) or label.endswith("+") else self._holder(label)
                if named is not None and not self._below(actor, rule, named, 0):
                    yield Refusal(
                        "9.7c", f"The set {part.key} names {named.label}, who does not stand below {actor.label}."
                    )

    def _holder(self, label: str) -> Asked | None:
        """Return whom a word speaks of, as they stood before; ``None`` for what was not there."""
        compiled, people = self.old.compiled, self.old.people
        if label.startswith("@"):
            known = label[1:] in people.register.members
            return people.ask(label[1:], self.now) if known else ask_anybody(compiled)
        if label in compiled.rank_at:
            return ask_rank(compiled, compiled.rank_at[label])
        if label in compiled.charter.groups:
            group = compiled.charter.groups[label]
            asked = ask_member(compiled, Member("", groups=(label,)), [], self.now, excepted=False)
            return asked._replace(label=f"somebody in {group.title or label}")
        return None

    def _ranging(
        self, actor: Asked, rule: ActRule, spot: Spot, rank: str, both: tuple[HolderWords, HolderWords]
    ) -> Iterator[Refusal]:
        """Yield who is covered by a range, gains or loses by it, and does not stand below."""
        before, after = both
        mask = (before.gives ^ after.gives) | (before.denies ^ after.denies) | (before.bars ^ after.bars)
        compiled, last = self.old.compiled, self.old.compiled.rank_at.get(rank)
        for turn in self.turns if last is not None else ():
            if turn.spot != spot or not (turn.gained | turn.lost) & mask:
                continue
            for subject in self._of(turn.pairs):
                covered = standing(compiled, self.subjects.pairs[subject.pair][0], spot.before) <= (last or 0)
                if subject.joined or not covered or not subject.loses or subject.new:
                    continue
                if not self._below(actor, rule, subject.asked, spot.before):
                    said = f"{rank}+ {self._at(spot)} speaks of {self._other(subject, actor)}"
                    yield Refusal("9.7c", f"{said}, who does not stand below {actor.label} there.")
                    return

    # -- 9.7b and 9.7d: standing and power

    def _standing(self, actor: Asked) -> Iterator[Refusal]:
        """Yield where the actor would come to stand above a rank that stood above them or level with them."""
        old, new = self.old.compiled, self.new.compiled
        for before, after in self._own_pairs(actor):
            for spot in self.spots:
                own, later = standing(old, before, spot.before), standing(new, after, spot.after)
                for rank in new.ranks[later + 1 :]:
                    if old.rank_at.get(rank.key, own + 1) <= own:
                        yield Refusal("9.7b", f"{actor.label} would come to stand above {rank.title}.")
                        return

    def _own_pairs(self, actor: Asked) -> list[tuple[Profile, Profile]]:
        """Return what the actor comes down to before and after, at every moment, with and without open ranks."""
        found = [self.subjects.pairs[n] for n in sorted(self._pairs_of(actor))]
        if not found and actor.profile is not None and self.old.compiled is not self.new.compiled:
            later = self.new.people.ask(actor.key or "", self.now).profile
            found = [] if later is None else [(actor.profile, later)]
        return found

    @cached_property
    def _powers(self) -> tuple[Powers, Powers]:
        return self.old.keep(Powers.beside), self.new.keep(Powers.beside)

    @property
    def _edits_ranks(self) -> bool:
        return any(part.kind in (Kind.RANK, Kind.BUNDLE) for part in self.difference.parts)

    def _power(self, actor: Asked) -> Iterator[Refusal]:
        mine = set(self._own_pairs(actor))
        text = f"{actor.label} would gain power over {{}}"
        for each in self._power_turned(mine, self.spots, actor, text, set()):
            yield Refusal("9.7b", each)
        edits_ranks = self._edits_ranks
        if edits_ranks or any(part.kind in (Kind.PLACE, Kind.SET) for part in self.difference.parts):
            told: set[str] = set()
            for number, spots in self._where_power_may_turn():
                pair = self.subjects.pairs[number]
                for subject in self.subjects.of_pair[number]:
                    if subject.form not in ("member", "rank") or subject.joined or not subject.acts:
                        continue
                    if pair in mine or subject.asked.owner:
                        continue
                    text = f"{subject.label} would gain power over {{}}, which {actor.label} has not there"
                    for said in self._power_turned({pair}, spots, actor, text, told):
                        yield Refusal("9.7d", said)
                    break  # the others of the pair come down to the same
        if edits_ranks:
            yield from self._over_members(actor)

    def _where_power_may_turn(self) -> Iterator[tuple[int, Iterable[Spot]]]:
        """Yield the pairs whose power may be another, and at which spots.

        Where the ladder, its lists and what ranks carry of what acts take are as they were, that is where somebody
        holds other things than before of what these rest on.
        """
        pairs = self.subjects.pairs
        if not self._ladder_stays or len(pairs) * len(self.spots) <= _FEW:
            yield from ((n, self.spots) for n in range(len(pairs)))
            return
        relevant = self._resting_on_acts
        found: dict[int, dict[Spot, None]] = {}
        for turn in self.turns:
            if turn.freed or (turn.gained | turn.lost) & relevant:
                for n in turn.pairs:
                    found.setdefault(n, {})[turn.spot] = None
        yield from ((n, list(spots)) for n, spots in found.items())

    @cached_property
    def _ladder_stays(self) -> bool:
        """Whether nothing of the ladder differs that tells who acts on whom."""

        def said(decider: Decider) -> list[tuple[object, ...]]:
            compiled, using = decider.compiled, self._powers[0].any_using
            return [
                (rank.key, rank.unbounded, rank.call_open, content(rank.lists), compiled.carried[rank.position] & using)
                for rank in compiled.ranks
            ]

        return said(self.old) == said(self.new)

    @cached_property
    def _resting_on_acts(self) -> int:
        """What the capabilities that acts take rest on."""
        compiled = self.old.compiled
        found, seeing = 0, compiled.charter.rules.seeing
        for key in compiled.catalogue.names(self._powers[0].any_using):
            found |= compiled.catalogue.rests_on(key, beside=seeing)
        return found

    def _power_turned(
        self,
        pairs: Iterable[tuple[Profile, Profile]],
        spots: Iterable[Spot],
        actor: Asked,
        text: str,
        told: set[str],
    ) -> Iterator[str]:
        """Yield the power that pairs gain over ranks that were there and the actor has not."""
        first, second = self._powers
        ranks = [(rank.key, rank.title) for rank in self.old.compiled.ranks]
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
                        yield f"{text.format(title)} {self._at(spot)}."
                        return

    def _beyond(self, now: Power, *allowed: Power) -> int:
        """Return the ranks, by their later positions, over which some power is new."""
        found = 0
        sides = [self._mapped(each) for each in allowed]
        for n, mask in enumerate((*now.moderate, now.assign, now.manage, now.call)):
            rest = mask
            for each in sides:
                flat = (*each.moderate, each.assign, each.manage, each.call)
                rest &= ~flat[n]
            found |= rest
        return found

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
        there = self.old.people.register.members, self.new.people.register.members
        targets = [
            next((key for key in keys if key != actor.key), "")
            for _, keys in alike(self.old, self.new)
            if all(keys[0] in side for side in there)
        ]
        for before, after in self._own_pairs(actor):
            for spot in self.spots:
                now = second.of(after, spot.after).moderate
                if spot.gone or not any(now):
                    continue
                was = first.of(before, spot.before).moderate
                if was == now and self._ladder_stays:
                    continue
                for key in filter(None, targets):
                    one = self.old.people.ask(key, self.now)
                    two = self.new.people.ask(key, self.now)
                    if two.owner:
                        continue
                    at, then = reached(self.old.compiled, one, spot.before), reached(self.new.compiled, two, spot.after)
                    if any(b >> then & 1 and not (at >= 0 and a >> at & 1) for a, b in zip(was, now, strict=True)):
                        yield Refusal("9.7d", f"{actor.label} would come to have power over {one.label}.")
                        return

    # -- in words

    def _at(self, spot: Spot, *, upper: bool = False) -> str:
        compiled, n = (self.old.compiled, spot.before) if spot.gone else (self.new.compiled, spot.after)
        said = in_place(compiled.places[n].title, site=n == 0)
        return f"{said[:1].upper()}{said[1:]}" if upper else said

    def _from(self, subject: Affected) -> str:
        if subject.since <= self.now:
            return ""
        return f", from {day(written(subject.since, self.new.compiled.charter.zone))},"

    def _some(self, mask: int) -> str:
        return few(self.old.compiled.catalogue.names(mask), _MOST_NAMED)


def _first_of(rule: str, told: dict[str, str], more: str) -> Iterator[Refusal]:
    """Yield what was found of the first few, and how many more there are."""
    texts = sorted(told.values())
    yield from (Refusal(rule, text) for text in texts[:_MOST_TOLD])
    if len(texts) > _MOST_TOLD:
        rest = len(texts) - _MOST_TOLD
        yield Refusal(rule, f"{rest} other{'' if rest == 1 else 's'} {more}.")


def _unbounded(profile: Profile, compiled: CompiledCharter) -> bool:
    return not compiled.unbounded.isdisjoint((*profile.automatic, *(rank for rank, _ in profile.placed)))


def words_at(charter: Charter, place: str) -> dict[str, HolderWords]:
    """Return what a place says of whom, by its own entries, its exceptions and the sets it is like (rule 9.7e)."""
    here, catalogue = charter.places.get(place), charter.catalogue
    found: dict[str, HolderWords] = {}
    if here is None:
        return found
    entries = [(each.label, each) for each in here.overrides]
    entries += [(each.label, each) for key in here.like for each in charter.override_sets[key].overrides]
    entries += [(f"@{each.of}", each) for each in here.exceptions]
    for label, each in entries:
        known = found.get(label, HolderWords())
        found[label] = HolderWords(
            known.gives | catalogue.close(catalogue.expand_all(each.allow)),
            known.denies | catalogue.expand_all(each.deny),
            known.bars | catalogue.expand_all(each.bar),
        )
    return found
