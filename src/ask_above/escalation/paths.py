"""What a rank can climb to, told as paths: each played through, and what would cut it (rules 10.1 to 10.4)."""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

from ask_above.change.difference import Difference
from ask_above.change.parts import State
from ask_above.change.reach import Reach
from ask_above.charter import changes
from ask_above.charter.catalogue import RISKS
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import ALWAYS, Instant
from ask_above.charter.names import SITE, listed
from ask_above.charter.rules import Act, Over
from ask_above.decide.decider import Decider
from ask_above.escalation.climb import Climb, ClimbGain, climb
from ask_above.escalation.ground import Ground
from ask_above.escalation.moves import NEW_RANK, TAKING, Move, MoveKind, Moves
from ask_above.people.register import Assignment, Member
from ask_above.printing import prints

if TYPE_CHECKING:
    from pandas import DataFrame


COLUMNS = ("rank", "unbounded", "high", "medium", "low", "capabilities")
_HIGHEST_FIRST = RISKS[::-1]
_TEMPLATES = (MoveKind.GRANT, MoveKind.ALLOW, MoveKind.EXCEPT)
_TAKES = {"give": Act.ASSIGN, "receive": Act.ASSIGN, "open": Act.MANAGE, "make": Act.MANAGE, "grant": Act.MANAGE}
_TAKES |= {"allow": Act.OVERRIDES, "except": Act.OVERRIDES, "bot": Act.ACCOUNTS}
_ACT = {
    Act.ASSIGN: "assign ranks",
    Act.MANAGE: "manage ranks",
    Act.OVERRIDES: "manage places",
    Act.ACCOUNTS: "lock accounts",
}
__all__ = ["ClimbPath", "Climbed", "Player", "climbed", "edited", "folded"]


def rows(decider: Decider, *, place: int | None = None, accomplice: bool = False) -> list[tuple[object, ...]]:
    """Return a row for each rank, in the order of the ladder."""
    catalogue = decider.compiled.catalogue
    known = catalogue.capabilities
    risky = {risk: catalogue.mask(key for key, each in known.items() if each.risk == risk) for risk in _HIGHEST_FIRST}
    overview: list[tuple[object, ...]] = []
    for rank in decider.compiled.ranks:
        reached = climb(decider.compiled.keep(Ground), decider.reckoner, rank, accomplice=accomplice)
        masks = [last & ~first for first, last in zip(reached.start, reached.reach, strict=True)]
        masks = masks if place is None else [masks[place]]
        counts = [sum((mask & risky[risk]).bit_count() for mask in masks) for risk in _HIGHEST_FIRST]
        every = 0
        for mask in masks:
            every |= mask
        names = sorted(catalogue.names(every), key=lambda name: _HIGHEST_FIRST.index(known[name].risk))
        overview.append((rank.key, reached.free, *counts, " ".join(names)))
    return overview


def climbs(decider: Decider, *, place: int | None = None, accomplice: bool = False) -> DataFrame:
    """Return the table."""
    import pandas as pd

    return pd.DataFrame(rows(decider, place=place, accomplice=accomplice), columns=list(COLUMNS))


class ClimbPath(NamedTuple):
    """One way up: what it gives, where, by which moves.

    ``certain`` tells whether the moves were played through and led there; ``why`` says what failed where they did not.
    ``cuts`` are single settings that close the way, each tried.
    """

    capabilities: tuple[str, ...]
    places: tuple[str, ...]
    risk: str
    moves: Moves
    certain: bool
    why: str = ""
    cuts: tuple[str, ...] = ()


@prints
class Climbed(NamedTuple):
    """How far one rank can climb, as paths, the highest risk first; none where it is nothing beyond what they hold."""

    rank: str
    accomplice: bool
    free: bool
    paths: tuple[ClimbPath, ...]
    charter: Charter
    place: str | None = None

    def __repr__(self) -> str:
        return f"<Climbed: {self.rank}, {len(self.paths)} ways up>"


def climbed(
    decider: Decider, rank: Rank, at: Instant, *, accomplice: bool = False, place: str | None = None, cuts: bool = True
) -> Climbed:
    """Work out how far a rank can climb: the paths, played through, and with ``cuts`` what would close each."""
    way = climb(decider.compiled.keep(Ground), decider.reckoner, rank, accomplice=accomplice)
    player = Player(decider, rank, at, accomplice=accomplice)
    paths = [path for gains in folded(way, decider, place) for path in player.paths(gains)]
    if cuts:
        cutter = _Cutter(decider, rank, accomplice=accomplice)
        paths = [climb_path._replace(cuts=tuple(cutter.cuts(climb_path))) for climb_path in paths]
    paths.sort(key=lambda climb_path: (-RISKS.index(climb_path.risk), not climb_path.certain, len(climb_path.moves)))
    return Climbed(rank.key, accomplice, way.free, tuple(paths), decider.compiled.charter, place)


def folded(found: Climb, decider: Decider, place: str | None = None) -> list[list[ClimbGain]]:
    """Fold together the gains that come by the same moves."""
    only = None if place is None else decider.compiled.place_at[place]
    by_moves: dict[Moves, list[ClimbGain]] = {}
    for gain in found.gains():
        if only is None or gain.place == only:
            here = decider.compiled.places[gain.place].key
            # a detour at the very place is the same way wherever that is
            moves = tuple(
                m._replace(place="") if m.kind == MoveKind.DETOUR and m.place == here else m for m in gain.moves
            )
            key = tuple(move._replace(names=()) if move.kind in _TEMPLATES else move for move in moves)
            by_moves.setdefault(key, []).append(gain._replace(moves=moves))
    return list(by_moves.values())


class Player:
    """Plays moves through on a community with one more member, or two: each move held to the rules."""

    def __init__(self, decider: Decider, rank: Rank, at: Instant, *, accomplice: bool) -> None:
        self.rank, self.at, self.decider = rank, at, decider
        known = decider.people.register.members
        self.me, self.other = (_unused(name, known) for name in ("someone", "accomplice"))
        keys = [self.me, self.other] if accomplice else [self.me]
        given = [] if rank.automatic or rank.entry else [rank.key]
        # the one who climbs is somebody new, so that nobody's own exceptions or groups help
        status = "pending" if rank.entry else "active"
        kind = "bot" if rank.held_by == "bots" else "person"
        register = decider.people.register.changed(
            {key: Member(key, name=key, kind=kind, status=status) for key in keys},
            {key: [Assignment(key, each, SITE, ALWAYS) for each in given] for key in keys},
        )
        self.first = decider.after(decider.compiled.charter, register)
        self.known: dict[Moves, tuple[Decider | None, str]] = {(): (self.first, "")}

    def paths(self, gains: Sequence[ClimbGain]) -> Iterator[ClimbPath]:
        """Yield the paths of gains that come by the same moves: those that are certain, and those that are a bound."""
        left, first = list(gains), ""
        moves = _with_all_names(gains)
        # the bound says that it might be; a way is certain only where the rules themselves have let each move pass
        for attempt in self._attempts(moves) if self._acts() else ():
            end, why = self.play(attempt)
            good = [gain for gain in left if end is not None and self._leads_to(end, attempt, [gain])]
            if good:
                yield from self._together(good, self._shortest(attempt, good))
                left = [gain for gain in left if gain not in good]
            first = first or why
            if not left:
                return
        why = first or ("the moves were played through and did not lead there" if self._acts() else "only members act")
        yield from self._together(left, moves, why)

    def _acts(self) -> bool:
        return self.rank.held_by not in ("anyone", "visitors")

    def _together(self, gains: Sequence[ClimbGain], moves: Moves, why: str = "") -> Iterator[ClimbPath]:
        """Yield paths, each of capabilities that are gained at the same places."""
        compiled = self.decider.compiled
        spots: dict[str, list[str]] = {}
        for gain in gains:
            spots.setdefault(gain.capability, []).append(compiled.places[gain.place].key)
        alike: dict[tuple[str, ...], list[str]] = {}
        for name, places in spots.items():
            alike.setdefault(tuple(places), []).append(name)
        for where, names in alike.items():
            risk = max((compiled.catalogue.capabilities[name].risk for name in names), key=RISKS.index)
            yield ClimbPath(tuple(names), where, risk, moves, certain=not why, why=why)

    def _attempts(self, moves: Moves) -> Iterator[Moves]:
        """Yield the moves as they are, and with the rank given up before."""
        yield moves
        if not self.rank.automatic and not self.rank.entry:
            leave = Move(MoveKind.LEAVE, self.rank.key)
            who_one_is = (*TAKING, MoveKind.EXCEPT, MoveKind.BOT)
            at = next((n for n, move in enumerate(moves) if move.kind in who_one_is), None)
            # just before the first move that asks who one is, at the very beginning, or at the end
            for n in dict.fromkeys((at, 0, len(moves))):
                if n is not None:
                    yield (*moves[:n], leave, *moves[n:])

    def _shortest(self, moves: Moves, gains: Sequence[ClimbGain]) -> Moves:
        """Leave out every move that is not needed."""
        for move in moves:
            less = tuple(each for each in moves if each != move)
            end, _ = self.play(less)
            if end is not None and self._leads_to(end, less, gains):
                moves = less
        return moves

    def _leads_to(self, end: Decider, moves: Moves, gains: Sequence[ClimbGain]) -> bool:
        someone = end.people.ask(self.me, self.at)
        detours = [move for move in moves if move.kind == MoveKind.DETOUR]
        for gain in gains:
            place = end.compiled.places[gain.place].key
            usable = end.usable(someone, gain.place) & end.compiled.catalogue.bit[gain.capability]
            if not usable and not any(
                gain.capability in move.names[1:] and self._holds(end, move, place)
                for move in detours
                if move.place in ("", place)
            ):
                return False
        return True

    def _holds(self, now: Decider, detour: Move, place: str) -> bool:
        """Whether what a detour begins with is held at a place."""
        someone, at = now.people.ask(self.me, self.at), now.compiled.place_at[place]
        held = now.reckoner.held(someone.profile, at).mask if someone.profile else 0
        return bool(held & now.compiled.catalogue.bit[detour.names[0]])

    def play(self, moves: Moves) -> tuple[Decider | None, str]:
        """Play moves through; return where they end, or ``None`` and why one of them failed."""
        known = self.known.get(moves)
        if known is None:
            before, why = self.play(moves[:-1])
            known = self.known[moves] = (None, why) if before is None else self._step(before, moves[-1])
        return known

    def _step(self, now: Decider, move: Move) -> tuple[Decider | None, str]:
        if move.kind == MoveKind.DETOUR:
            good = not move.place or self._holds(now, move, move.place)
            return (now, "") if good else (None, f"{move.names[0]} is not held there then")
        if move.kind in (*TAKING, MoveKind.LEAVE):
            return self._take(now, move)
        if move.kind in (MoveKind.GROUP, MoveKind.ENTER):
            return None, "being put into a group is not played through"
        return self._edit(now, move)

    def _take(self, now: Decider, move: Move) -> tuple[Decider | None, str]:
        """Take a rank, or give one up."""
        rank, place = now.compiled.charter.ranks.get(move.rank), now.compiled.place_at[move.place]
        if rank is None:
            return None, f"there is no {move.rank} then"
        me = now.people.ask(self.me, self.at)
        actor = now.people.ask(self.other, self.at) if move.kind == MoveKind.RECEIVE else me
        case = now.case(actor, place, self.at)
        steps = case.unassign(rank, me) if move.kind == MoveKind.LEAVE else case.assign(rank, me)
        wrong = [step.text for step in steps if step.holds is False]
        if wrong:
            return None, wrong[0]
        given = [
            assignment
            for assignment in now.people.register.of(self.me)
            if (assignment.rank, assignment.place) != (move.rank, move.place)
        ]
        if move.kind != MoveKind.LEAVE:
            given.append(Assignment(self.me, move.rank, move.place, ALWAYS))
        return now.after(now.compiled.charter, now.people.register.changed({}, {self.me: given})), ""

    def _edit(self, now: Decider, move: Move) -> tuple[Decider | None, str]:
        """Make an edit of the charter or of somebody's kind, within reach."""
        before = State(now.compiled.charter, now.people.register)
        is_bot, register = move.kind == MoveKind.BOT, before.register
        charter = before.charter if is_bot else edited(before.charter, move, self.me, self.rank.key)
        if charter is None:
            return None, f"there is no {move.rank} then"
        if is_bot:
            register = register.changed({self.me: register.members[self.me]._replace(kind="bot")}, {})
        later = now.after(charter, register)
        # nobody gains by an edit of their own, and what is automatic one has whoever edits it
        known = before.charter.ranks.get(move.rank)
        by_other = move.kind in (MoveKind.EXCEPT, MoveKind.BOT) or (known is not None and known.automatic)
        actor = self.other if by_other else self.me
        difference = Difference(before, State(charter, register), self.at)
        refusals = Reach(now, later, difference, self.at).refusals(actor)
        return (None, refusals[0].why) if refusals else (later, "")


def edited(charter: Charter, move: Move, me: str, below: str) -> Charter | None:
    """Return a charter after an edit; a rank is made directly below another. ``None`` where a rank is not there."""
    if move.kind == MoveKind.MAKE:
        keys = list(charter.ranks)
        at = keys.index(below) + 1
        made = charter._replace(ranks={**charter.ranks, NEW_RANK: Rank(NEW_RANK, 0, title="a new rank", open=True)})
        return changes.in_order(made, [*keys[:at], NEW_RANK, *keys[at:]])
    if move.kind == MoveKind.EXCEPT:
        return changes.saying(charter, move.place, me, "allow", move.names, member=True)
    rank = charter.ranks.get(move.rank)
    if rank is None:
        return None
    if move.kind == MoveKind.OPEN:
        return changes.with_rank(charter, rank._replace(open=True))
    if move.kind == MoveKind.GRANT:
        return changes.granting(charter, rank.key, move.names)
    return changes.saying(charter, move.place, rank.key, "allow", move.names)


def _with_all_names(gains: Sequence[ClimbGain]) -> Moves:
    """Return the moves of gains, where an edit names all that any of them asks for."""
    moves = gains[0].moves
    for n, move in enumerate(moves):
        if move.kind in _TEMPLATES:
            names = tuple(dict.fromkeys(name for gain in gains for name in gain.moves[n].names))
            moves = (*moves[:n], move._replace(names=names), *moves[n + 1 :])
    return moves


def _unused(name: str, known: Container[str]) -> str:
    key, n = name, 1
    while key in known:
        n += 1
        key = f"{name}-{n}"
    return key


# -- what would cut a path


class _Cutter:
    """Tries single settings that might close a path; many paths ask for the same ones, and each is tried once."""

    def __init__(self, decider: Decider, rank: Rank, *, accomplice: bool) -> None:
        self.decider, self.rank, self.accomplice = decider, rank, accomplice
        self.known: dict[str, Climb] = {}

    def cuts(self, path: ClimbPath) -> Iterator[str]:
        """Yield the settings that close a path."""
        compiled = self.decider.compiled
        mask, places = compiled.catalogue.mask(path.capabilities), [compiled.place_at[place] for place in path.places]
        for what, charter in dict(_candidates(compiled.charter, self.rank, path.moves)).items():
            # a setting that cuts one path is asked about again for the next
            if what not in self.known:
                changed = Decider(charter, self.decider.people.register)
                rank = charter.ranks[self.rank.key]
                self.known[what] = climb(
                    changed.compiled.keep(Ground), changed.reckoner, rank, accomplice=self.accomplice
                )
            if not any(self.known[what].reach[place] & mask for place in places):
                yield what


def _candidates(charter: Charter, rank: Rank, moves: Moves) -> Iterator[tuple[str, Charter]]:
    rules = charter.rules
    for move in moves:
        other = charter.ranks.get(move.rank)
        if move.kind == MoveKind.JOIN and other is not None and other.open:
            yield f"make {other.called} not open", changes.with_rank(charter, other._replace(open=False))
        if move.kind == MoveKind.DETOUR and not rank.unbounded:
            yield (
                f"withhold {move.names[0]} from {rank.called}",
                changes.withholding(charter, rank.key, move.names[:1]),
            )
        if move.kind not in _TAKES:
            continue
        rule = rules.act(_TAKES[move.kind])
        if rule.oneself and rule.act == Act.ASSIGN:
            yield (
                "do not let members assign ranks to themselves",
                changes.with_act(charter, rule._replace(oneself=False)),
            )
        if rule.hand_on == "any":
            what = f"let members who may {_ACT[rule.act]} hand on only what they may use"
            yield what, changes.with_act(charter, rule._replace(hand_on="held"))
        if rule.over is not Over.BELOW:
            what = f"let members who may {_ACT[rule.act]} act only on those below"
            yield what, changes.with_act(charter, rule._replace(over=Over.BELOW))
        if not rank.unbounded:
            yield (
                f"withhold {listed(rule.using, 'or')} from {rank.called}",
                changes.withholding(charter, rank.key, rule.using),
            )
