"""All advice about a community, the gravest first, less what the charter silences."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from typing import TYPE_CHECKING, Final, NamedTuple

from ask_above.ask.advice import accounts, alike, catalogue, ladder, people, places
from ask_above.ask.advice.accounts import Beside, heirs_gone
from ask_above.ask.advice.ladder import taken_from_everybody
from ask_above.ask.advice.piece import WHY, Piece, Sight
from ask_above.charter.moments import Instant
from ask_above.charter.names import nearest
from ask_above.decide.decider import Decider
from ask_above.printing import prints

if TYPE_CHECKING:
    from ask_above.ask.impact.whole import Shift

LOOKS: Final[tuple[Callable[[Sight], Iterable[Piece]], ...]] = (
    ladder.still_carried,
    ladder.builds_on,
    ladder.moderating,
    ladder.badges,
    ladder.risky_by_default,
    ladder.detours,
    ladder.climbers,
    ladder.same_carried,
    ladder.everybodys_conditions,
    ladder.unheld,
    ladder.copies,
    catalogue.undecided,
    catalogue.meant_for_nobody,
    catalogue.needs_unmet,
    catalogue.wildcards,
    places.deny_reaches_up,
    places.without_effect,
    places.beats_exception,
    places.drifted,
    places.seeing_denied,
    places.gates,
    people.too_many,
    people.duties,
    people.over_limit,
    people.assignments,
    people.behind_gates,
    people.pending_worse,
    people.joined_without,
    people.doubles,
    people.exceptions_gone,
    alike.look_alikes,
    alike.title_twice,
    alike.unseen,
    alike.kinds,
    alike.colors,
)
"""Everything that is looked at."""


@prints
class AdviceGiven(NamedTuple):
    """The advice, and what the charter silences of it: pairs of a piece and the reason why it may stay."""

    pieces: tuple[Piece, ...]
    silenced: tuple[tuple[Piece, str], ...] = ()

    def __repr__(self) -> str:
        return f"<AdviceGiven: {len(self.pieces)} pieces, {len(self.silenced)} silenced>"


NOTHING: Final = Beside()
"""Nothing stands beside charter and register."""

_OF_NO_NEWS: Final = frozenset(
    {"unheld", "undecided", "ended", "same-carried", "uncovered", "only-one", "held-behind-gate"}
)
"""What is so of whatever is new, or is told by a plan in other words."""


def brought(
    before: Decider, after: Decider, at: Instant, beside: Beside = NOTHING, shifts: Iterable[Shift] = ()
) -> list[Piece]:
    """Return the advice that there is after a change and was not before, less what the charter silences.

    ``shifts`` are what the change makes of what people can use.
    """
    heirs, as_titled = [*heirs_gone(Sight(after, at), beside)], _as_titled(before, after)
    gone = {as_titled(piece.what) for piece in heirs_gone(Sight(before, at), beside)}
    touched: list[str] | None = None
    looks: Sequence[Callable[[Sight], Iterable[Piece]]] = LOOKS
    if before.compiled is after.compiled:
        touched = after.people.register.differing(before.people.register)
        looks = [*_of_people(Sight(after, at, touched), before, shifts)]
    # who is like whom is said by their records alone, and takes reading all of them
    names = before.people.register.members is not after.people.register.members
    same = [] if names else [people.doubles]
    given = [[rank.key for rank in side.compiled.ranks if rank.on_joining] for side in (before, after)]
    if before.people.register is after.people.register and given[0] == given[1]:
        same.append(people.joined_without)
    looks = [look for look in looks if look not in same]
    pieces = _pieces(Sight(before, at, touched, names=names), looks)
    known = Counter(_says(piece, as_titled) for piece in pieces)
    left_out = _OF_NO_NEWS | set(after.compiled.charter.rules.advice.silent)
    new = []
    for piece in _pieces(Sight(after, at, touched, names=names), looks):
        known[_says(piece)] -= 1
        if known[_says(piece)] < 0 and piece.code not in left_out:
            new.append(piece)
    taken = [*taken_from_everybody(before.compiled, after.compiled)]
    commands = {piece.commands for piece in taken}
    heirs = [piece for piece in heirs if piece.what not in gone]
    return [*heirs, *taken, *(piece for piece in new if piece.commands not in commands or not piece.commands)]


def _says(piece: Piece, as_titled: Callable[[str], str] = str) -> tuple[str, object]:
    """Return what a piece is known by: its sentence; where that counts those who have a rank, whom it concerns."""
    return piece.code, piece.concerned if piece.code == "below-everyone" else as_titled(piece.what)


def _as_titled(before: Decider, after: Decider) -> Callable[[str], str]:
    """Return what says a text with the titles and names of afterwards: what is called otherwise brings no advice."""
    titles: dict[str, str] = {}
    old, new = before.compiled.charter, after.compiled.charter
    if old is not new:
        for one, other in ((old.ranks, new.ranks), (old.groups, new.groups), (old.places, new.places)):
            titles |= {each.called: other[key].called for key, each in one.items() if key in other}
    here, there = before.people.register, after.people.register
    both = [key for key in there.differing(here) if key in here.members and key in there.members]
    titles |= {here.members[key].called: there.members[key].called for key in both}
    titles = {was: now for was, now in titles.items() if was != now}
    if not titles:
        return str
    pattern = re.compile(
        "|".join(rf"(?<!\w){re.escape(title)}(?!\w)" for title in sorted(titles, key=len, reverse=True))
    )
    return lambda text: pattern.sub(lambda found: titles[found[0]], text)


def _pieces(few: Sight, looks: Iterable[Callable[[Sight], Iterable[Piece]]]) -> Iterator[Piece]:
    """Yield what is found; what is told of each member by themselves, of those touched alone, where they are known."""
    whole = few if few.among is None else Sight(few.decider, few.at)
    for look in looks:
        yield from look(few if look is people.assignments else whole)


def _of_people(
    touched: Sight, before: Decider, shifts: Iterable[Shift]
) -> Iterator[Callable[[Sight], Iterable[Piece]]]:
    """Yield what to look at after a change of some members and their assignments alone; everybody only where it must.

    Whoever gets nothing that is counted adds nothing to a count.
    """
    ranks = [touched.compiled.ranks[each.rank] for asked, _ in touched.alike for each in asked.recorded]
    if any(rank.position in touched.compiled.unbounded for rank in ranks):
        yield people.too_many
    gained = {key for shift in shifts if shift.gains and shift.risk == "high" for key in shift.capabilities}
    if gained:
        yield partial(people.newly_able, before=before, members=touched.among or (), capabilities=gained)
    if any(rank.limit is not None for rank in ranks):
        yield people.over_limit
    yield people.assignments
    if not touched.compiled.exceptional.isdisjoint(touched.among or ()):
        yield people.exceptions_gone
    if touched.compiled.gated and _shut_out(touched, before):
        yield places.gates


def _shut_out(touched: Sight, before: Decider) -> bool:
    """Whether a gate no longer admits somebody who was changed; of very many who change alike one is looked at."""
    known, now = before.people.register.members, touched.decider
    there = [key for key in touched.among or () if key in known and key in touched.register.members]
    kinds = {(before.ready.class_of(key), now.ready.class_of(key)): key for key in there}
    return any(places.passed(before, key, touched.at) - places.passed(now, key, touched.at) for key in kinds.values())


def advise(
    decider: Decider, at: Instant, told: Callable[[int, int], None] | None = None, beside: Beside = NOTHING
) -> AdviceGiven:
    """Return the advice, the gravest first; ``told`` is called with how far it has come."""
    sight = Sight(decider, at)
    pieces: list[Piece] = []
    for n, look in enumerate(LOOKS):
        pieces += look(sight)
        if told:
            told(n + 1, len(LOOKS))
    for look_beside in accounts.LOOKS:
        pieces += look_beside(sight, beside)
    silent = decider.compiled.charter.rules.advice.silent
    pieces += _unknown(sight)
    order = list(dict.fromkeys(piece.where.file for piece in [*(Piece("ended", sight.file, "", ""),), *pieces]))
    gravity = {code: n for n, code in enumerate(WHY)}
    pieces.sort(key=lambda piece: (gravity[piece.code], order.index(piece.where.file), piece.where.line))
    return AdviceGiven(
        tuple(piece for piece in pieces if piece.code not in silent),
        tuple((piece, silent[piece.code]) for piece in pieces if piece.code in silent),
    )


def _unknown(sight: Sight) -> Iterator[Piece]:
    for code in sight.charter.rules.advice.silent:
        if code not in WHY:
            near = nearest(code, WHY)
            mend = f"write {near[0]}" if near else "remove it from rules.advice.silent"
            yield Piece(
                "silent-unknown", sight.file, f"rules.advice.silent names '{code}', but there is no such code", mend
            )
