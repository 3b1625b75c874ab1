"""How far a rank can climb: what its holder could come to use by all that the charter lets them do (rule 10.1).

The reckoning goes the safe way: it leaves aside ``apart-from`` and ``limit``, takes ranks that cannot be held together
as held, and an edit that might be allowed as made. So what it does not reach cannot be reached.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from ask_above.charter.ladder import Rank
from ask_above.charter.names import SITE
from ask_above.charter.places import GateTerm
from ask_above.charter.rules import ActRule
from ask_above.decide.layers import meant_by
from ask_above.decide.profile import ask_rank
from ask_above.decide.walk import Reckoner, passes
from ask_above.escalation.ground import Ground

NEW_RANK = "new-rank"
"""The key of a rank that would be made."""

Moves = tuple["Move", ...]


class Move(NamedTuple):
    """One thing to do.

    ``kind`` is join (an open rank), give (oneself a rank at a place), receive (one from an accomplice), leave (a rank),
    open (let a rank be open), make (a rank), grant (let a rank carry ``names``), allow (a rank ``names`` at a place),
    except (be allowed ``names`` at a place by an accomplice), enter (a group, named as the rank, by oneself), group (be
    put into one by an accomplice) or detour (from the first of ``names`` to the others).
    """

    kind: str
    rank: str = ""
    place: str = SITE
    names: tuple[str, ...] = ()


class ClimbGain(NamedTuple):
    """What can be reached at a place and is not there at the start, and by which moves."""

    place: int
    capability: str
    moves: Moves


class _Brought(NamedTuple):
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


class Climb:
    """How far one rank can climb: for each place, by number, what can be used at the start and in the end, as bits.

    ``ranks`` are those that can be had, with their place; ``free`` tells whether unbounded can be reached.
    """

    def __init__(self, ascent: _Ascent) -> None:
        self._ascent, compiled = ascent, ascent.compiled
        self.rank = ascent.rank.key
        self.start, self.reach = ascent.start, ascent.usable
        self.free = bool(ascent.free) and ascent.rank.position not in compiled.unbounded
        had = (spot for spot, moves in ascent.had.items() if moves)
        self.ranks = tuple((compiled.ranks[rank].key, compiled.places[place].key) for rank, place in had)

    def gains(self, only: int = -1) -> Iterator[ClimbGain]:
        """Yield what is gained, place by place, each with its moves; of a set of bits alone where one is given."""
        names = self._ascent.compiled.catalogue.names
        for n, (first, last) in enumerate(zip(self.start, self.reach, strict=True)):
            for name in names(last & ~first & only) if last & ~first & only else ():
                yield ClimbGain(n, name, self._ascent.moves_to(n, name))


def climb(ground: Ground, reckoner: Reckoner, rank: Rank, *, accomplice: bool = False) -> Climb:
    """Reckon how far a rank can climb, alone or with one accomplice of the same rank."""
    return _Ascent(ground, reckoner, rank, accomplice=accomplice).result()


class _Ascent:
    """One rank's way up: what has been reached so far, and how, until nothing more is."""

    def __init__(self, ground: Ground, reckoner: Reckoner, rank: Rank, *, accomplice: bool) -> None:
        self.ground, self.compiled, self.accomplice = ground, ground.compiled, accomplice
        self.rank, self.rules = rank, ground.compiled.charter.rules
        asked = ask_rank(self.compiled, rank.position)
        profile = asked.profile
        places = range(len(self.compiled.places))
        self.acts = asked.acts
        own = None if rank.automatic else rank.position
        self.automatic = profile.automatic if profile else ()
        plain = self.automatic == ground.automatic
        base = ground.single(own) if plain else ground.held_by(self.automatic, own)
        if asked.status == "pending":
            base = [reckoner.held(profile, n, gated=False).mask if profile else 0 for n in places]
        self.held = list(base)
        closed = {
            n
            for q in self.compiled.gated
            if profile and not passes(self.compiled, profile, q)
            for n in self.compiled.below[q]
        }
        free = own in self.compiled.unbounded
        if free:
            self.start = [self.compiled.has_meaning(n) for n in places]
        else:
            found = ground.usable_everywhere(base)
            self.start = [0 if n in closed else mask for n, mask in enumerate(found)]
        self.sources = [_Brought(0, base, ())]
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

    def result(self) -> Climb:
        """Climb until nothing is gained any more."""
        while self.grew and not self._is_at_the_top():
            self.grew = False
            self._look()
            self._detours()
            if self.acts:
                self._join()
                self._give()
                self._open()
                self._stuff()
        self._look()
        return Climb(self)

    def _is_at_the_top(self) -> bool:
        return len(self.free) == len(self.held)

    # -- what can be used with what has been reached

    def _look(self) -> None:
        """Reckon anew what can be used, where more is held, or where a gate lets one in that did not."""
        self.able.clear()
        opened = self.shut - self._behind_gates()
        self.shut -= opened
        for n in self.fresh | opened:
            if n in self.free:
                found = self.compiled.has_meaning(n)
            elif n in self.shut:
                continue
            else:
                found = self.ground.usable(self.held[n], n)
                if self.turns[n]:
                    found |= self.turns[n] & self.compiled.has_meaning(n)
            if found & ~self.usable[n]:
                self.usable[n] |= found
                self.grew = True
        self.changed, self.fresh = self.fresh | opened, set()

    def _behind_gates(self) -> set[int]:
        """Return the places that no way leads into."""
        if not self.shut:
            return set()
        below = self.compiled.below
        return {n for q in self.compiled.gated if self._passing(q) is None for n in below[q] if n not in self.free}

    def _passing(self, place: int) -> Moves | None:
        """Return the moves by which the gate of one place is passed, ``None`` where it stays shut."""
        gate = self.compiled.places[place].gate
        if gate is None or place in self.free:
            return ()
        some = [self._meeting(place, term) for term in gate.any]
        each = [self._meeting(place, term) for term in gate.all]
        met = [moves for moves in some if moves is not None]
        if (gate.any and not met) or None in each or any(map(self._bound, gate.none)):
            return None  # whoever is kept out cannot change the gate either: that takes a capability used inside
        first = min(met, key=len) if met else ()
        return self._together([first, *(moves for moves in each if moves is not None)])

    def _meeting(self, place: int, term: GateTerm) -> Moves | None:
        """Return the moves by which one comes to be what a gate asks for."""
        if term.group:
            return (Move("enter", term.key),) if self._may_join_groups(place) else None
        meant, chain = self._meant(term), self.compiled.chains[place]
        if not meant.isdisjoint(self.automatic):
            return ()
        movable = term.above and self._can("manage", 0)  # a rank may be put above the one that is named
        found = [moves for (rank, where), moves in self.had.items() if where in chain and (rank in meant or movable)]
        return min(found, key=len, default=None)

    def _may_join_groups(self, place: int) -> bool:
        """Tell whether one may put oneself into a group that a gate asks for: where nothing is gained by it.

        That is where all that is held behind the gate by a rank that lets one do so can be denied by another.
        """
        if not self._can("assign", 0):
            return False
        if self.accomplice:
            return True
        using = self.compiled.catalogue.mask(self.rules.act("assign").using)
        able = [rank for rank, where in self.had if where == 0 and self.ground.single(rank)[0] & using]
        ways = [self.ground.single(rank) for rank in able] or [self.ground.single(None)]
        return any(all(not way[n] & ~self._deniable(n) for n in self.compiled.below[place]) for way in ways)

    def _deniable(self, place: int) -> int:
        """Return what some rank to be had is denied or barred from on the way to a place."""
        keys = {self.compiled.ranks[rank].key for rank, _ in self.had}
        found = 0
        for n in self.compiled.chains[place]:
            words = self.compiled.words_at(n)
            for key in keys & words.keys():
                found |= words[key].deny | words[key].bar
        return found

    def _bound(self, term: GateTerm) -> bool:
        """Tell whether one cannot help being what a gate keeps out: ranks that are held without being given."""
        if term.group or self._can("manage", 0):
            return False
        return not self._meant(term).isdisjoint(self.automatic)

    def _meant(self, term: GateTerm) -> frozenset[int]:
        return frozenset(self.compiled.rank_at[key] for key in meant_by(term, self.compiled.charter.ranks))

    # -- what acts take

    def _can(self, act: str, place: int) -> bool:
        return self.acts and self.usable[place] & self.ground.using[act] != 0

    def _where(self, act: str) -> list[int]:
        """Return the places where one can do what an act takes."""
        known = self.able.get(act)
        if known is None:
            using = self.ground.using[act] if self.acts else 0
            known = self.able[act] = [n for n, mask in enumerate(self.usable) if mask & using]
        return known

    def _how(self, act: str, place: int) -> Moves:
        """Return the moves by which what an act takes is come by."""
        using = self.ground.using[act]
        if self.start[place] & using:
            return ()
        names = self.compiled.catalogue.names(self.usable[place] & using)
        return min((self.moves_to(place, name) for name in names), key=len, default=())

    def _standing(self, place: int) -> tuple[int, Moves]:
        """Return the highest standing to be had at a place, and how."""
        chain = self.compiled.chains[place]
        known = self.best.get(place)
        if known is None:
            found = [(rank, moves) for (rank, where), moves in self.had.items() if where in chain]
            found += [(rank, ()) for rank in self.automatic]
            known = min(found, key=lambda each: (each[0], len(each[1])), default=(len(self.compiled.ranks), ()))
            self.best[place] = known
        return known

    def _reaches(self, rule: ActRule, rank: Rank, place: int) -> Moves | None:
        """Return the moves by which an act comes to reach a rank, ``None`` where it does not (rules 6.3 and 6.4)."""
        if not self._admitted(rule, rank.key, place):
            return None
        if rule.over == "anyone":
            return ()
        mine = self.rank.position if not self.rank.automatic else len(self.compiled.ranks)
        best, moves = self._standing(place)
        slack = rule.over == "level"
        if rank.position > mine - slack:
            return ()
        return moves if rank.position > best - slack else None

    def _admitted(self, rule: ActRule, key: str, place: int) -> bool:
        """Tell whether the lists of some rank to be had admit a rank; one without a list admits all (rule 6.4)."""
        compiled, chain = self.compiled, self.compiled.chains[place]
        using = compiled.catalogue.mask(rule.using)
        mine = {rank for rank, where in self.had if where in chain} | set(self.automatic)
        lists = [compiled.ranks[rank].lists[rule.act] for rank in mine if rule.act in compiled.ranks[rank].lists]
        if not lists or any(each.admits(key) for each in lists):
            return True
        plain = [rank for rank in mine if rule.act not in compiled.ranks[rank].lists]
        return any(self.ground.single(rank)[place] & using or self._can("manage", 0) for rank in plain)

    # -- moves

    def _add(self, source: _Brought) -> None:
        """Note what some moves bring, where it is more than there was."""
        scope = [source.place] if source.alone else self.compiled.below[source.place]
        if self._grow(source.masks, scope):
            self.sources.append(source)
            self.grew = True

    def _grow(self, masks: Sequence[int] | int, scope: list[int]) -> bool:
        held = self.held
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

    def _detours(self) -> None:
        """Take the detours that what is held allows (``leads-to``)."""
        leading, names = self.ground.leading, self.compiled.catalogue.names
        for n in self.changed if leading else ():
            mask = self.held[n]
            if not mask & leading or n in self.free or n in self.shut:
                continue
            for bit, leads in self.ground.leads.items():
                if mask & bit and leads & ~self.turns[n]:
                    name = names(bit)[0]
                    detour = Move("detour", place=self.compiled.places[n].key, names=(name, *names(leads)))
                    self.turns[n] |= leads
                    self.grew = True
                    moves = self._then(self._holding(n, bit), detour)
                    self.sources.append(_Brought(n, leads, moves, alone=True))
                    self.held[n] |= leads
                    self.fresh.add(n)

    def _join(self) -> None:
        """Join all ranks that are open, at once: what they bring together is the same for every start."""
        joined = [rank for rank in self.ground.open if self._givable(rank, 0)]
        for rank in joined:
            moves = self._then(self._after(rank, 0) or (), Move("join", rank.key))
            self.sources.append(_Brought(0, self.ground.single(rank.position), moves))
            self._note(rank.position, 0, moves)
        if joined:
            self._grow(self.ground.union(tuple(rank.position for rank in joined)), self.compiled.below[0])

    def _givable(self, rank: Rank, place: int) -> bool:
        if rank.automatic or rank.kept_by or any((rank.position, n) in self.had for n in self.compiled.chains[place]):
            return False
        return self._after(rank, place) is not None

    def _after(self, rank: Rank, place: int) -> Moves | None:
        """Return the moves by which one has the ranks that must be there before."""
        found: list[Moves] = []
        for key in rank.after:
            position = self.compiled.rank_at[key]
            ways = [self.had[position, n] for n in self.compiled.chains[place] if (position, n) in self.had]
            if position in self.automatic:
                ways.append(())
            if not ways:
                return None
            found.append(min(ways, key=len))
        return self._together(found)

    def _have(self, rank: int, place: int, moves: Moves) -> None:
        """Note that a rank can be had at a place, and all that comes with it there."""
        self._note(rank, place, moves)
        self._add(_Brought(place, self.ground.single(rank), moves))

    def _note(self, rank: int, place: int, moves: Moves) -> None:
        self.had[rank, place] = moves
        self.grew = True
        self.best.clear()
        if place:
            self.local.add(place)
        if rank in self.compiled.unbounded:
            for n in self.compiled.below[place]:
                self.free.setdefault(n, moves)
            self.fresh.update(self.compiled.below[place])

    def _give(self) -> None:
        """Take ranks for oneself, or from an accomplice."""
        rule = self.rules.act("assign")
        if not (rule.oneself or self.accomplice):
            return
        kind = "give" if rule.oneself else "receive"
        wanted = self.ground.mattering
        for place in self._where("assign") if wanted else ():
            if self._is_as_above(rule, place):
                continue
            for rank in wanted:
                if not self._givable(rank, place):
                    continue
                reaches = self._reaches(rule, rank, place)
                if reaches is not None and self._within(rule, rank.position, place):
                    before = self._together([self._how("assign", place), reaches, self._after(rank, place) or ()])
                    move = Move(kind, rank.key, self.compiled.places[place].key)
                    self._have(rank.position, place, self._then(before, move))

    def _is_as_above(self, rule: ActRule, place: int) -> bool:
        """Tell whether a place lets one give nothing that the place above it did not."""
        if not place or rule.hand_on != "any" or rule.act in self.ground.listed:
            return False
        above = self.compiled.chains[place][-2]
        local = self.local
        return self._can("assign", above) and not any(n in local for n in self.compiled.chains[place])

    def _within(self, rule: ActRule, rank: int, place: int) -> bool:
        """Tell whether all that a rank brings can be handed on (rule 6.6)."""
        if rule.hand_on == "any":
            return True
        if rank in self.compiled.unbounded:
            return all(n in self.free for n in self.compiled.below[place])
        single, held = self.ground.single(rank), self.held
        return all(n in self.free or not single[n] & ~held[n] for n in self.compiled.below[place])

    def _open(self) -> None:
        """Let ranks be open, and join them; make one."""
        if not (self._can("manage", 0) and self._can("assign", 0)):
            return
        manage, assign = self.rules.act("manage"), self.rules.act("assign")
        before = self._together([self._how("manage", 0), self._how("assign", 0)])
        for rank in self.compiled.ranks:
            if rank.open or not self._givable(rank, 0) or not self._within(assign, rank.position, 0):
                continue
            ways = [self._reaches(manage, rank, 0), self._reaches(assign, rank, 0), self._after(rank, 0)]
            if all(way is not None for way in ways):
                moves = self._together([before, *(way for way in ways if way is not None)])
                moves = self._then(self._then(moves, Move("open", rank.key)), Move("join", rank.key))
                self._have(rank.position, 0, moves)
        if self.made is None and self._admitted(manage, NEW_RANK, 0) and self._admitted(assign, NEW_RANK, 0):
            self.made = self._then(before, Move("make", NEW_RANK))
            self.grew = True

    def _stuff(self) -> None:
        """Let a rank that can be had carry, or be allowed, what one does not hold: where handing on takes nothing."""
        manage, overrides, assign = (self.rules.act(act) for act in ("manage", "overrides", "assign"))
        if manage.hand_on == "any" and self._can("manage", 0):
            self._grant(manage)
        if overrides.hand_on == "any":
            for place in self._where("overrides"):
                self._allow(overrides, place)
        if self.accomplice and assign.hand_on == "any" and self._can("assign", 0):
            for group, masks in self.ground.by_group.items():
                moves = self._then(self._how("assign", 0), Move("group", group))
                self._add(_Brought(0, masks, moves))

    def _grant(self, rule: ActRule) -> None:
        how = self._how("manage", 0)
        for position, place, moves in self._to_be_filled():
            rank = self.compiled.ranks[position]
            reaches = None if rank.kept_by else self._reaches(rule, rank, 0)
            if reaches is None:
                continue
            full = self.ground.full(position)
            before = self._together([how, reaches])
            self._fill(place, full, Move("grant", rank.key), self._together([before, moves]))
        if self.made is not None:
            made = self._together([how, self.made])
            self._fill(0, self.ground.made, Move("grant", NEW_RANK), self._then(made, Move("join", NEW_RANK)))

    def _to_be_filled(self) -> Iterator[tuple[int, int, Moves]]:
        """Yield the ranks that an edit might fill, each with its place and how it is had afterwards.

        Whoever holds a rank gains by no edit of it; so the one held at the start is given up first, and taken again.
        """
        assign = self.rules.act("assign")
        for (position, place), moves in sorted(self.had.items(), key=lambda each: len(each[1])):
            if moves or self.accomplice:
                yield position, place, moves
            elif self.rank.open or assign.oneself or (self._can("manage", 0) and self._can("assign", 0)):
                again = Move("join" if self.rank.open or not assign.oneself else "give", self.rank.key)
                opened = () if self.rank.open or assign.oneself else (Move("open", self.rank.key),)
                yield position, place, (Move("leave", self.rank.key), *opened, again)

    def _fill(self, place: int, full: list[int], last: Move, moves: Moves) -> None:
        """Note that a rank had at a place could hold ``full``; where words there may be edited too, everything."""
        everything = self.compiled.catalogue.everything
        if all(self.held[n] == everything for n in self.compiled.below[place]):
            return
        masks = list(full)
        for q in self._where("overrides"):
            for n in self.compiled.below[q]:
                masks[n] = everything
        self._add(_Brought(place, masks, self._before_last(moves, last), template=True))

    def _allow(self, rule: ActRule, place: int) -> None:
        how, key = self._how("overrides", place), self.compiled.places[place].key
        everything = self.compiled.catalogue.everything
        for position, where, moves in self._to_be_filled():
            rank = self.compiled.ranks[position]
            reaches = self._reaches(rule, rank, place)
            if reaches is None:
                continue
            before = self._together([how, reaches])
            last = Move("allow", rank.key, key)
            found = self._before_last(self._together([before, moves]), last)
            if place in self.compiled.chains[where] or where in self.compiled.chains[place]:
                deeper = max(place, where, key=lambda n: len(self.compiled.chains[n]))
                self._add(_Brought(deeper, everything, found, template=True))
        if self.made is not None:
            moves = self._then(self._together([how, self.made]), Move("join", NEW_RANK))
            found = self._before_last(moves, Move("allow", NEW_RANK, key))
            self._add(_Brought(place, everything, found, template=True))
        if self.accomplice:
            self._add(_Brought(place, everything, self._then(how, Move("except", place=key)), template=True))

    # -- lists of moves

    @staticmethod
    def _then(moves: Moves, last: Move) -> Moves:
        return moves if last in moves else (*moves, last)

    @staticmethod
    def _before_last(moves: Moves, edit: Move) -> Moves:
        """Put an edit before the rank that it fills is taken: whoever holds a rank gains by no edit of it."""
        at = next(
            (n for n, m in enumerate(moves) if m.rank == edit.rank and m.kind in ("join", "give", "receive")), None
        )
        return (*moves, edit) if at is None else (*moves[:at], edit, *moves[at:])

    @staticmethod
    def _together(lists: Iterable[Moves]) -> Moves:
        """Return all moves of several lists, each once, in their order."""
        return tuple(dict.fromkeys(move for moves in lists for move in moves))

    def _holding(self, place: int, bit: int) -> Moves:
        """Return the moves by which one capability comes to be held at a place."""
        name = self.compiled.catalogue.names(bit)
        for source in self._at(place):
            if source.at(place) & bit:
                return _named(source, tuple(name)) if source.template else source.moves
        return ()

    def _rests_without_turns(self, place: int, rests: int) -> bool:
        """Tell whether all that a capability rests on is held at a place without any detour there."""
        held = 0
        for source in self._at(place):
            held |= 0 if source.alone else source.at(place)
        return not rests & ~held

    def _at(self, place: int) -> Iterator[_Brought]:
        """Yield what brings something to a place, in the order in which it was found."""
        chain = self.compiled.chains[place]
        return (each for each in self.sources if each.place == place or (not each.alone and each.place in chain))

    def moves_to(self, place: int, capability: str) -> Moves:
        """Return the moves by which a capability comes to be usable at a place."""
        bit = self.compiled.catalogue.bit[capability]
        if place in self.free and not self.held[place] & bit:
            return self.free[place]
        through = [self._passing(n) or () for n in self.compiled.chains[place] if n in self.compiled.gated]
        rests = self.compiled.rests(capability, place)
        wanted = bit if self.turns[place] & bit and not self._rests_without_turns(place, rests) else rests
        found: list[Moves] = [*through]
        for source in self._at(place):
            served = source.at(place) & wanted
            wanted &= ~served
            if served and source.moves:
                names = tuple(self.compiled.catalogue.names(served))
                found.append(_named(source, names) if source.template else source.moves)
        return self._together(found)


def _named(source: _Brought, names: tuple[str, ...]) -> Moves:
    """Return the moves of a source with what is asked for in the edit that gives it."""
    return tuple(
        move._replace(names=names) if move.kind in ("grant", "allow", "except") and not move.names else move
        for move in source.moves
    )
