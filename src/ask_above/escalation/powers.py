"""What acts take on one rank's way up, whom they reach, and what they may hand on (rules 6.2 to 6.6)."""

from __future__ import annotations

from ask_above.charter.ladder import Rank
from ask_above.charter.rules import Act, ActRule
from ask_above.decide.ladder import Standing
from ask_above.escalation.gates import Gates
from ask_above.escalation.moves import Moves, together
from ask_above.escalation.reached import Reached


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
