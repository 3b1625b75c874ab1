"""What acts take on one rank's way up, which gates it passes, whom it reaches (rules 5.3, 6.2 to 6.6)."""

from __future__ import annotations

from ask_above.charter.ladder import Rank
from ask_above.charter.places import GateTerm
from ask_above.charter.rules import Act, ActRule
from ask_above.decide.ladder import Standing
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


class ClimbPowers:
    """Tells what acts can do with what has been reached, and by which moves."""

    def __init__(self, reached: Reached, gates: Gates) -> None:
        self.reached, self.gates = reached, gates

    def how(self, act: Act, place: int) -> Moves:
        """Return the moves by which what an act takes is come by."""
        using = self.reached.ground.using[act]
        if self.reached.start[place] & using:
            return ()
        names = self.reached.compiled.catalogue.names(self.reached.usable[place] & using)
        return min((self.gates.moves_to(place, name) for name in names), key=len, default=())

    def reaches(self, rule: ActRule, rank: Rank, place: int) -> Moves | None:
        """Return the moves by which an act comes to reach a rank, ``None`` where it does not (rules 6.3 and 6.4)."""
        if not self.admitted(rule, rank.key, place):
            return None
        ladder, own = self.reached.compiled.ladder, self.reached.rank
        # standing by the rank that is asked about costs no move
        if (ladder.bottom if own.automatic else ladder.at(own)).reaches(rule.over, rank.position):
            return ()
        best, moves = self.reached.standing(place)
        return moves if Standing(best).reaches(rule.over, rank.position) else None

    def admitted(self, rule: ActRule, key: str, place: int) -> bool:
        """Whether the lists of some rank to be had admit a rank; one without a list admits all (rule 6.4)."""
        compiled, chain = self.reached.compiled, self.reached.compiled.chains[place]
        using = compiled.catalogue.mask(rule.using)
        mine = {rank for rank, where in self.reached.had if where in chain} | set(self.reached.automatic)
        lists = [compiled.ranks[rank].lists[rule.act] for rank in mine if rule.act in compiled.ranks[rank].lists]
        if not lists or any(each.admits(key) for each in lists):
            return True
        plain = [rank for rank in mine if rule.act not in compiled.ranks[rank].lists]
        return any(self.reached.ground.single(rank)[place] & using or self.reached.can(Act.MANAGE, 0) for rank in plain)

    def givable(self, rank: Rank, place: int) -> bool:
        """Whether a rank that cannot be had at a place yet might be given there."""
        if (
            rank.automatic
            or rank.kept_by
            or (rank.paused and not self.reached.can(Act.MANAGE, 0))  # whoever manages may lift a pause
            or any((rank.position, n) in self.reached.had for n in self.reached.compiled.chains[place])
        ):
            return False
        return self.after(rank, place) is not None

    def after(self, rank: Rank, place: int) -> Moves | None:
        """Return the moves by which one has the ranks that must be there before."""
        needed: list[Moves] = []
        for key in rank.after:
            position = self.reached.compiled.rank_at[key]
            ways = [
                self.reached.had[position, n]
                for n in self.reached.compiled.chains[place]
                if (position, n) in self.reached.had
            ]
            if position in self.reached.automatic:
                ways.append(())
            if not ways:
                return None
            needed.append(min(ways, key=len))
        return together(needed)

    def is_as_above(self, rule: ActRule, place: int) -> bool:
        """Whether a place lets one give nothing that the place above it did not."""
        if not place or rule.hand_on != "any" or rule.act in self.reached.ground.listed:
            return False
        above = self.reached.compiled.chains[place][-2]
        local = self.reached.local
        return self.reached.can(Act.ASSIGN, above) and not any(n in local for n in self.reached.compiled.chains[place])

    def within(self, rule: ActRule, rank: int, place: int) -> bool:
        """Whether all that a rank brings can be handed on (rule 6.6)."""
        if rule.hand_on == "any":
            return True
        if rank in self.reached.compiled.unbounded:
            return all(n in self.reached.free for n in self.reached.compiled.below[place])
        single, held = self.reached.ground.single(rank), self.reached.held
        return all(n in self.reached.free or not single[n] & ~held[n] for n in self.reached.compiled.below[place])
