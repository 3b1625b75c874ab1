"""How far a rank can climb: what its holder could come to use by all that the charter lets them do (rule 10.1).

The reckoning goes the safe way: it leaves aside ``apart-from`` and ``limit``, takes ranks that cannot be held together
as held, and an edit that might be allowed as made. So what it does not reach cannot be reached.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import reduce
from operator import or_
from typing import NamedTuple

from ask_above.charter.ladder import Rank
from ask_above.charter.rules import Act, ActRule
from ask_above.decide.walk import Reckoner
from ask_above.escalation.ground import Ground
from ask_above.escalation.moves import NEW_RANK, Move, MoveKind, Moves, before_last, then, together
from ask_above.escalation.powers import ClimbPowers, Gates
from ask_above.escalation.reached import Brought, Reached


class ClimbGain(NamedTuple):
    """What can be reached at a place and is not there at the start, and by which moves."""

    place: int
    capability: str
    moves: Moves


class Climb:
    """How far one rank can climb: for each place, by number, what can be used at the start and in the end, as bits.

    ``ranks`` are those that can be had, with their place; ``free`` tells whether unbounded can be reached.
    """

    def __init__(self, reached: Reached, gates: Gates) -> None:
        self._gates, compiled = gates, reached.compiled
        self.rank = reached.rank.key
        self.start, self.reach = reached.start, reached.usable
        self.free = bool(reached.free) and reached.rank.position not in compiled.unbounded
        had = (spot for spot, moves in reached.had.items() if moves)
        self.ranks = tuple((compiled.ranks[rank].key, compiled.places[place].key) for rank, place in had)

    def gains(self, only: int = -1) -> Iterator[ClimbGain]:
        """Yield what is gained, place by place, each with its moves; of a set of bits alone where one is given."""
        names = self._gates.reached.compiled.catalogue.names
        for n, (first, last) in enumerate(zip(self.start, self.reach, strict=True)):
            for name in names(last & ~first & only) if last & ~first & only else ():
                yield ClimbGain(n, name, self._gates.moves_to(n, name))


def climb(ground: Ground, reckoner: Reckoner, rank: Rank, *, accomplice: bool = False) -> Climb:
    """Reckon how far a rank can climb, alone or with one accomplice of the same rank."""
    return Ascent(Reached(ground, reckoner, rank, accomplice=accomplice)).result()


class Ascent:
    """One rank's way up: tries every move with what has been reached, until nothing more is."""

    def __init__(self, reached: Reached) -> None:
        self.reached = reached
        self.gates = Gates(reached)
        self.powers = ClimbPowers(reached, self.gates)

    def result(self) -> Climb:
        """Climb until nothing is gained any more."""
        while self.reached.grew and not self.reached.is_at_the_top():
            self.reached.grew = False
            self._look()
            self._detours()
            if self.reached.acts:
                self._join()
                self._give()
                self._be_bots()
                self._open()
                self._stuff()
        self._look()
        return Climb(self.reached, self.gates)

    def _look(self) -> None:
        """Reckon anew what can be used, where more is held, or where a gate lets one in that did not."""
        self.reached.able.clear()
        opened = self.reached.shut - self.gates.behind_gates()
        self.reached.shut -= opened
        for n in self.reached.fresh | opened:
            if n in self.reached.free:
                usable = self.reached.compiled.has_meaning(n)
            elif n in self.reached.shut:
                continue
            else:
                usable = self.reached.ground.usable(self.reached.held[n], n)
                if self.reached.turns[n]:
                    usable |= self.reached.turns[n] & self.reached.compiled.has_meaning(n)
            if usable & ~self.reached.usable[n]:
                self.reached.usable[n] |= usable
                self.reached.grew = True
        self.reached.changed, self.reached.fresh = self.reached.fresh | opened, set()

    def _detours(self) -> None:
        """Take the detours that what is held allows (``leads-to``)."""
        leading, names = self.reached.ground.leading, self.reached.compiled.catalogue.names
        for n in self.reached.changed if leading else ():
            mask = self.reached.held[n]
            if not mask & leading or n in self.reached.free or n in self.reached.shut:
                continue
            for bit, leads in self.reached.ground.leads.items():
                if mask & bit and leads & ~self.reached.turns[n]:
                    name = names(bit)[0]
                    detour = Move(
                        MoveKind.DETOUR, place=self.reached.compiled.places[n].key, names=(name, *names(leads))
                    )
                    self.reached.turns[n] |= leads
                    self.reached.grew = True
                    moves = then(self.reached.holding(n, bit), detour)
                    self.reached.sources.append(Brought(n, leads, moves, alone=True))
                    self.reached.held[n] |= leads
                    self.reached.fresh.add(n)

    def _join(self) -> None:
        """Join all ranks that are open, at once: what they bring together is the same for every start."""
        joined = [rank for rank in self.reached.ground.open if self.powers.givable(rank, 0)]
        for rank in joined:
            moves = then(self.powers.after(rank, 0) or (), Move(MoveKind.JOIN, rank.key))
            self.reached.sources.append(Brought(0, self.reached.ground.single(rank.position), moves))
            self.reached.note(rank.position, 0, moves)
        if joined:
            self.reached.grow(
                self.reached.ground.union(tuple(rank.position for rank in joined)), self.reached.compiled.below[0]
            )

    def _give(self) -> None:
        """Take ranks, or from an accomplice."""
        rule = self.reached.rules.act(Act.ASSIGN)
        if not (rule.oneself or self.reached.accomplice):
            return
        kind = MoveKind.GIVE if rule.oneself else MoveKind.RECEIVE
        wanted = self.reached.ground.mattering
        for place in self.reached.where_one_can(Act.ASSIGN) if wanted else ():
            if self.powers.is_as_above(rule, place):
                continue
            for rank in wanted:
                if not self.powers.givable(rank, place):
                    continue
                reaches = self.powers.reaches(rule, rank, place)
                if reaches is not None and self.powers.within(rule, rank.position, place):
                    before = together(
                        [self.powers.how(Act.ASSIGN, place), reaches, self.powers.after(rank, place) or ()]
                    )
                    move = Move(kind, rank.key, self.reached.compiled.places[place].key)
                    self.reached.have(rank.position, place, then(before, move))

    def _be_bots(self) -> None:
        """Be made a bot by an accomplice, for the ranks of bots (rules 9.3 and 9.7)."""
        if not (self.reached.accomplice and self.reached.can(Act.ACCOUNTS, 0)):
            return
        moves = then(self.powers.how(Act.ACCOUNTS, 0), Move(MoveKind.BOT))
        for rank in self.reached.ground.of_bots:
            new = rank.position not in self.reached.automatic and (rank.position, 0) not in self.reached.had
            if new and self.powers.within(self.reached.rules.act(Act.ASSIGN), rank.position, 0):
                self.reached.have(rank.position, 0, moves)

    def _open(self) -> None:
        """Let ranks be open, and join them; make one."""
        if not (self.reached.can(Act.MANAGE, 0) and self.reached.can(Act.ASSIGN, 0)):
            return
        manage, assign = self.reached.rules.act(Act.MANAGE), self.reached.rules.act(Act.ASSIGN)
        before = together([self.powers.how(Act.MANAGE, 0), self.powers.how(Act.ASSIGN, 0)])
        for rank in self.reached.compiled.ranks:
            if rank.open or not self.powers.givable(rank, 0) or not self.powers.within(assign, rank.position, 0):
                continue
            ways = [
                self.powers.reaches(manage, rank, 0),
                self.powers.reaches(assign, rank, 0),
                self.powers.after(rank, 0),
            ]
            if all(way is not None for way in ways):
                moves = together([before, *(way for way in ways if way is not None)])
                moves = then(then(moves, Move(MoveKind.OPEN, rank.key)), Move(MoveKind.JOIN, rank.key))
                self.reached.have(rank.position, 0, moves)
        if (
            self.reached.made is None
            and self.powers.admitted(manage, NEW_RANK, 0)
            and self.powers.admitted(assign, NEW_RANK, 0)
        ):
            self.reached.made = then(before, Move(MoveKind.MAKE, NEW_RANK))
            self.reached.grew = True

    def _stuff(self) -> None:
        """Let a rank that can be had grant, or be allowed, what is not held: where handing on takes nothing."""
        manage, overrides, assign = (self.reached.rules.act(act) for act in (Act.MANAGE, Act.OVERRIDES, Act.ASSIGN))
        if manage.hand_on == "any" and self.reached.can(Act.MANAGE, 0):
            self._grant(manage)
        if overrides.hand_on == "any":
            for place in self.reached.where_one_can(Act.OVERRIDES):
                self._allow(overrides, place)
        if self.reached.accomplice and assign.hand_on == "any" and self.reached.can(Act.ASSIGN, 0):
            for group, masks in self.reached.ground.by_group.items():
                moves = then(self.powers.how(Act.ASSIGN, 0), Move(MoveKind.GROUP, group))
                self.reached.add(Brought(0, masks, moves))

    def _fill_everybodys(self, rule: ActRule, kind: MoveKind, place: int) -> None:
        """Let an accomplice fill what everybody has with what they hold already: of more they would gain themselves."""
        anywhere = reduce(or_, self.reached.held)
        for position in self.reached.automatic if self.reached.accomplice else ():
            rank, key = self.reached.compiled.ranks[position], self.reached.compiled.places[place].key
            reaches = self.powers.reaches(rule, rank, place)
            if reaches is not None:
                before = together([self.powers.how(rule.act, place), reaches])
                self.reached.add(Brought(place, anywhere, then(before, Move(kind, rank.key, key)), template=True))

    def _grant(self, rule: ActRule) -> None:
        self._fill_everybodys(rule, MoveKind.GRANT, 0)
        how = self.powers.how(Act.MANAGE, 0)
        for position, place, moves in self._to_be_filled():
            rank = self.reached.compiled.ranks[position]
            reaches = None if rank.kept_by else self.powers.reaches(rule, rank, 0)
            if reaches is None:
                continue
            full = self.reached.ground.full(position)
            before = together([how, reaches])
            self._fill(place, full, Move(MoveKind.GRANT, rank.key), together([before, moves]))
        if self.reached.made is not None:
            made = together([how, self.reached.made])
            self._fill(
                0, self.reached.ground.made, Move(MoveKind.GRANT, NEW_RANK), then(made, Move(MoveKind.JOIN, NEW_RANK))
            )

    def _to_be_filled(self) -> Iterator[tuple[int, int, Moves]]:
        """Yield the ranks that an edit might fill, each with its place and how it is had afterwards.

        Whoever holds a rank gains by no edit of it; so the one held at the start is given up first, and taken again.
        """
        assign = self.reached.rules.act(Act.ASSIGN)
        for (position, place), moves in sorted(self.reached.had.items(), key=lambda item: len(item[1])):
            if moves or self.reached.accomplice:
                yield position, place, moves
            elif (
                self.reached.rank.open
                or assign.oneself
                or (self.reached.can(Act.MANAGE, 0) and self.reached.can(Act.ASSIGN, 0))
            ):
                again = Move(
                    MoveKind.JOIN if self.reached.rank.open or not assign.oneself else MoveKind.GIVE,
                    self.reached.rank.key,
                )
                opened = (
                    () if self.reached.rank.open or assign.oneself else (Move(MoveKind.OPEN, self.reached.rank.key),)
                )
                yield position, place, (Move(MoveKind.LEAVE, self.reached.rank.key), *opened, again)

    def _fill(self, place: int, full: list[int], last: Move, moves: Moves) -> None:
        """Note that a rank had at a place could hold ``full``; where words there may be edited too, everything."""
        everything = self.reached.compiled.catalogue.everything
        if all(self.reached.held[n] == everything for n in self.reached.compiled.below[place]):
            return
        masks = list(full)
        for q in self.reached.where_one_can(Act.OVERRIDES):
            for n in self.reached.compiled.below[q]:
                masks[n] = everything
        self.reached.add(Brought(place, masks, before_last(moves, last), template=True))

    def _allow(self, rule: ActRule, place: int) -> None:
        self._fill_everybodys(rule, MoveKind.ALLOW, place)
        how, key = self.powers.how(Act.OVERRIDES, place), self.reached.compiled.places[place].key
        everything = self.reached.compiled.catalogue.everything
        for position, where, moves in self._to_be_filled():
            rank = self.reached.compiled.ranks[position]
            reaches = self.powers.reaches(rule, rank, place)
            if reaches is None:
                continue
            before = together([how, reaches])
            last = Move(MoveKind.ALLOW, rank.key, key)
            steps = before_last(together([before, moves]), last)
            if place in self.reached.compiled.chains[where] or where in self.reached.compiled.chains[place]:
                deeper = max(place, where, key=lambda n: len(self.reached.compiled.chains[n]))
                self.reached.add(Brought(deeper, everything, steps, template=True))
        if self.reached.made is not None:
            moves = then(together([how, self.reached.made]), Move(MoveKind.JOIN, NEW_RANK))
            steps = before_last(moves, Move(MoveKind.ALLOW, NEW_RANK, key))
            self.reached.add(Brought(place, everything, steps, template=True))
        if self.reached.accomplice:
            self.reached.add(Brought(place, everything, then(how, Move(MoveKind.EXCEPT, place=key)), template=True))
