"""Where a change brings anybody to stand, and over whom (rules 9.7b and 9.7d)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import cached_property

from ask_above.bulk.alike import alike
from ask_above.change.parts import Kind, content
from ask_above.change.refusal import Refusal
from ask_above.change.turns import Spot, Turns
from ask_above.decide.authority import reached
from ask_above.decide.decider import Decider
from ask_above.decide.powers import Power, Powers
from ask_above.decide.profile import Asked, Profile
from ask_above.decide.walk import standing


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
                    yield Refusal("9.7b", f"{actor.label} would come to stand above {rank.title}.")
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
        text = f"{actor.label} would gain power over {{}}"
        for each in self._power_turned(mine, self.turns.spots, actor, text, set()):
            yield Refusal("9.7b", each)
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
                    text = f"{subject.label} would gain power over {{}}, which {actor.label} has not there"
                    for said in self._power_turned({pair}, spots, actor, text, named):
                        yield Refusal("9.7d", said)
                    break  # the others of the pair come down to the same
        if edits_ranks:
            yield from self._over_members(actor)

    def _where_power_may_turn(self) -> Iterator[tuple[int, Iterable[Spot]]]:
        """Yield the pairs whose power may be another, and at which spots.

        Where the ladder, its lists and what ranks grant of what acts take are as they were, that is where somebody
        holds other things than before of what these rest on.
        """
        pairs = self.turns.subjects.pairs
        if not self._ladder_stays or self.turns.are_few:
            yield from ((n, self.turns.spots) for n in range(len(pairs)))
            return
        relevant = self._resting_on_acts
        spots_of: dict[int, dict[Spot, None]] = {}
        for turn in self.turns.all:
            if turn.freed or (turn.gained | turn.lost) & relevant:
                for n in turn.pairs:
                    spots_of.setdefault(n, {})[turn.spot] = None
        yield from ((n, list(spots)) for n, spots in spots_of.items())

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
        self, pairs: Iterable[tuple[Profile, Profile]], spots: Iterable[Spot], actor: Asked, text: str, told: set[str]
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
                        yield f"{text.format(title)} {self.turns.at(spot)}."
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
        there = self.old.people.register.members, self.new.people.register.members
        targets = [
            next((key for key in keys if key != actor.key), "")
            for _, keys in alike(self.old, self.new)
            if all(keys[0] in side for side in there)
        ]
        for before, after in self.turns.own_pairs(actor):
            for spot in self.turns.spots:
                now = second.of(after, spot.after).moderate
                if spot.gone or not any(now):
                    continue
                was = first.of(before, spot.before).moderate
                if was == now and self._ladder_stays:
                    continue
                for key in filter(None, targets):
                    one = self.old.people.ask(key, self.turns.now)
                    two = self.new.people.ask(key, self.turns.now)
                    if two.owner:
                        continue
                    at, then = reached(self.old.compiled, one, spot.before), reached(self.new.compiled, two, spot.after)
                    if any(b >> then & 1 and not (at >= 0 and a >> at & 1) for a, b in zip(was, now, strict=True)):
                        yield Refusal("9.7d", f"{actor.label} would come to have power over {one.label}.")
                        return
