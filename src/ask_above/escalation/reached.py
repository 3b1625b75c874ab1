"""What has been reached so far on one rank's way up, and by which moves."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from ask_above.charter.ladder import Rank
from ask_above.charter.rules import Act
from ask_above.decide.profile import ask_rank
from ask_above.decide.walk import Reckoner, passes
from ask_above.escalation.ground import Ground
from ask_above.escalation.moves import MoveKind, Moves
from ask_above.people.register import Status


class Brought(NamedTuple):
    """What some moves bring to a place and all places in it, or with ``alone`` to that place only.

    ``masks`` are sets by place, or one set for all. With ``template`` the edit among the moves names what is asked for.
    """

    place: int
    masks: Sequence[int] | int
    moves: Moves
    template: bool = False
    alone: bool = False

    def at(self, place: int) -> int:
        """Return the set at a place."""
        return self.masks if isinstance(self.masks, int) else self.masks[place]

    def moves_for(self, names: tuple[str, ...]) -> Moves:
        """Return the moves, with what is asked for in the edit that gives it."""
        if not self.template:
            return self.moves
        edits = (MoveKind.GRANT, MoveKind.ALLOW, MoveKind.EXCEPT)
        return tuple(
            move._replace(names=names) if move.kind in edits and not move.names else move for move in self.moves
        )


class Reached:
    """What a rank's holder holds and can use at each place, which ranks can be had, and what brought it.

    ``held`` and ``usable`` are sets of capabilities by place, ``start`` is what can be used at first. ``had`` are the
    moves to each rank at a place, ``free`` those to an unbounded one. ``shut`` are the places behind gates that let
    nobody in yet, ``turns`` what detours give. ``fresh`` are the places where more is held than was looked at.
    """

    def __init__(self, ground: Ground, reckoner: Reckoner, rank: Rank, *, accomplice: bool) -> None:
        self.ground, self.compiled, self.accomplice = ground, ground.compiled, accomplice
        self.rank, self.rules = rank, ground.compiled.charter.rules
        asked = ask_rank(self.compiled, rank)
        profile = asked.profile
        places = range(len(self.compiled.places))
        self.acts = asked.acts
        own = None if rank.automatic else rank.position
        self.automatic = profile.automatic if profile else ()
        plain = self.automatic == ground.automatic
        base = ground.single(own) if plain else ground.held_by(self.automatic, own)
        # what groups and exceptions give does not count for those who wait, and no rank's grants do
        if asked.status == Status.PENDING:
            base = [reckoner.held(profile, n, gated=False).mask if profile else 0 for n in places]
        self.held = list(base)
        closed = {
            n
            for q in self.compiled.gated
            if profile and not passes(self.compiled, profile, q)
            for n in self.compiled.below[q]
        }
        free = own in self.compiled.unbounded
        # who is unbounded is stopped by no gate and no word (3.4)
        if free:
            self.start = [self.compiled.has_meaning(n) for n in places]
        else:
            found = ground.usable_everywhere(base)
            self.start = [0 if n in closed else mask for n, mask in enumerate(found)]
        self.sources = [Brought(0, base, ())]
        self.turns = [0] * len(self.held)  # what detours give, needing nothing else
        self.had: dict[tuple[int, int], Moves] = {} if own is None else {(own, 0): ()}
        self.free: dict[int, Moves] = dict.fromkeys(places, ()) if own in self.compiled.unbounded else {}
        self.made: Moves | None = None
        self.usable = list(self.start)
        self.shut = closed
        self.fresh = set(places) if ground.leading else set[int]()  # where more is held than was looked at
        self.changed = set[int]()
        self.local: set[int] = set()  # places below the site where a rank can be had
        self.best: dict[int, tuple[int, Moves]] = {}
        self.able: dict[str, list[int]] = {}
        self.grew = True

    def is_at_the_top(self) -> bool:
        """Whether everything is held everywhere."""
        return len(self.free) == len(self.held)

    def can(self, act: Act, place: int) -> bool:
        """Whether what an act takes can be used at a place."""
        return self.acts and self.usable[place] & self.ground.using[act] != 0

    def where_one_can(self, act: Act) -> list[int]:
        """Return the places where one can do what an act takes."""
        known = self.able.get(act)
        if known is None:
            using = self.ground.using[act] if self.acts else 0
            known = self.able[act] = [n for n, mask in enumerate(self.usable) if mask & using]
        return known

    def standing(self, place: int) -> tuple[int, Moves]:
        """Return the highest standing to be had at a place, and how."""
        chain = self.compiled.chains[place]
        known = self.best.get(place)
        if known is None:
            found = [(rank, moves) for (rank, where), moves in self.had.items() if where in chain]
            found += [(rank, ()) for rank in self.automatic]
            # of two ways to the same height the one with fewer moves is told
            known = min(found, key=lambda each: (each[0], len(each[1])), default=(len(self.compiled.ranks), ()))
            self.best[place] = known
        return known

    def add(self, source: Brought) -> None:
        """Note what some moves bring, where it is more than there was."""
        scope = [source.place] if source.alone else self.compiled.below[source.place]
        if self.grow(source.masks, scope):
            self.sources.append(source)
            self.grew = True

    def grow(self, masks: Sequence[int] | int, scope: list[int]) -> bool:
        """Hold more at some places; tells whether it is more."""
        held = self.held
        # one loop for each form: this is the innermost of all, and runs for every rank at every place
        if isinstance(masks, int):
            grown = [n for n in scope if masks & ~held[n]]
            for n in grown:
                held[n] |= masks
        else:
            grown = [n for n in scope if masks[n] & ~held[n]]
            for n in grown:
                held[n] |= masks[n]
        self.fresh.update(grown)
        return bool(grown)

    def have(self, rank: int, place: int, moves: Moves) -> None:
        """Note that a rank can be had at a place, and all that comes with it there."""
        self.note(rank, place, moves)
        self.add(Brought(place, self.ground.single(rank), moves))

    def note(self, rank: int, place: int, moves: Moves) -> None:
        """Note that a rank can be had at a place."""
        self.had[rank, place] = moves
        self.grew = True
        # a new rank may be the highest at any place below where it is had
        self.best.clear()
        # a rank of the whole site is had everywhere alike; those below need their own look
        if place:
            self.local.add(place)
        if rank in self.compiled.unbounded:
            for n in self.compiled.below[place]:
                self.free.setdefault(n, moves)
            self.fresh.update(self.compiled.below[place])

    def holding(self, place: int, bit: int) -> Moves:
        """Return the moves by which one capability comes to be held at a place."""
        name = self.compiled.catalogue.names(bit)
        for source in self.bringing(place):
            if source.at(place) & bit:
                return source.moves_for(tuple(name))
        return ()

    def rests_without_turns(self, place: int, rests: int) -> bool:
        """Whether all that a capability rests on is held at a place without any detour there."""
        held = 0
        for source in self.bringing(place):
            held |= 0 if source.alone else source.at(place)
        return not rests & ~held

    def bringing(self, place: int) -> Iterator[Brought]:
        """Yield what brings something to a place, in the order in which it was found."""
        chain = self.compiled.chains[place]
        return (
            source for source in self.sources if source.place == place or (not source.alone and source.place in chain)
        )
