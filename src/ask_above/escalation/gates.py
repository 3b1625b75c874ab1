"""The gates on one rank's way up: which let one in by which moves, and so how anything behind them is come by."""

from __future__ import annotations

from ask_above.charter.places import GateTerm
from ask_above.charter.rules import Act
from ask_above.decide.layers import meant_by
from ask_above.escalation.moves import Move, MoveKind, Moves, together
from ask_above.escalation.reached import Reached


class Gates:
    """Tells by which moves gates are passed, and capabilities come to be usable, with what has been reached."""

    def __init__(self, reached: Reached) -> None:
        self.reached = reached

    def behind_gates(self) -> set[int]:
        """Return the places that no way leads into."""
        if not self.reached.shut:
            return set()
        below = self.reached.compiled.below
        return {
            n
            for q in self.reached.compiled.gated
            if self.passing(q) is None
            for n in below[q]
            if n not in self.reached.free
        }

    def passing(self, place: int) -> Moves | None:
        """Return the moves by which the gate of one place is passed, ``None`` where it stays shut."""
        gate = self.reached.compiled.places[place].gate
        if gate is None or place in self.reached.free:
            return ()
        some = [self.meeting(place, term) for term in gate.any]
        meetings = [self.meeting(place, term) for term in gate.all]
        met = [moves for moves in some if moves is not None]
        if (gate.any and not met) or None in meetings or any(map(self.bound, gate.none)):
            return None  # whoever is kept out cannot change the gate either: that takes a capability used inside
        first = min(met, key=len) if met else ()
        return together([first, *(moves for moves in meetings if moves is not None)])

    def meeting(self, place: int, term: GateTerm) -> Moves | None:
        """Return the moves by which one comes to be what a gate asks for."""
        if term.group:
            return (Move(MoveKind.ENTER, term.key),) if self.may_join_groups(place) else None
        meant, chain = self.meant(term), self.reached.compiled.chains[place]
        if not meant.isdisjoint(self.reached.automatic):
            return ()
        movable = term.above and self.reached.can(Act.MANAGE, 0)  # a rank may be put above the one that is named
        found = [
            moves for (rank, where), moves in self.reached.had.items() if where in chain and (rank in meant or movable)
        ]
        return min(found, key=len, default=None)

    def may_join_groups(self, place: int) -> bool:
        """Whether members may put themselves into a group that a gate requires: where nothing is gained by it.

        That is where all that is held behind the gate by a rank that lets one do so can be denied by another.
        """
        if not self.reached.can(Act.ASSIGN, 0):
            return False
        if self.reached.accomplice:
            return True
        using = self.reached.compiled.catalogue.mask(self.reached.rules.act(Act.ASSIGN).using)
        able = [rank for rank, where in self.reached.had if where == 0 and self.reached.ground.single(rank)[0] & using]
        ways = [self.reached.ground.single(rank) for rank in able] or [self.reached.ground.single(None)]
        return any(all(not way[n] & ~self.deniable(n) for n in self.reached.compiled.below[place]) for way in ways)

    def deniable(self, place: int) -> int:
        """Return what some rank to be had is denied or barred from on the way to a place."""
        keys = {self.reached.compiled.ranks[rank].key for rank, _ in self.reached.had}
        denied = 0
        for n in self.reached.compiled.chains[place]:
            words = self.reached.compiled.words_at(n)
            for key in keys & words.keys():
                denied |= words[key].deny | words[key].bar
        return denied

    def bound(self, term: GateTerm) -> bool:
        """Whether a gate excludes an automatic rank, which nobody can be without."""
        # whoever manages ranks might take "held-by" away
        if term.group or self.reached.can(Act.MANAGE, 0):
            return False
        return not self.meant(term).isdisjoint(self.reached.automatic)

    def meant(self, term: GateTerm) -> frozenset[int]:
        """Return the positions of the ranks that one thing that a gate asks for stands for."""
        return frozenset(
            self.reached.compiled.rank_at[key] for key in meant_by(term, self.reached.compiled.charter.ranks)
        )

    def moves_to(self, place: int, capability: str) -> Moves:
        """Return the moves by which a capability comes to be usable at a place."""
        bit = self.reached.compiled.catalogue.bit[capability]
        if place in self.reached.free and not self.reached.held[place] & bit:
            return self.reached.free[place]
        through = [
            self.passing(n) or () for n in self.reached.compiled.chains[place] if n in self.reached.compiled.gated
        ]
        rests = self.reached.compiled.rests(capability, place)
        # a detour gives the capability itself, and what that rests on is held without it
        wanted = (
            bit if self.reached.turns[place] & bit and not self.reached.rests_without_turns(place, rests) else rests
        )
        moves: list[Moves] = [*through]
        for source in self.reached.bringing(place):
            served = source.at(place) & wanted
            wanted &= ~served
            if served and source.moves:
                names = tuple(self.reached.compiled.catalogue.names(served))
                moves.append(source.moves_for(names))
        return together(moves)
