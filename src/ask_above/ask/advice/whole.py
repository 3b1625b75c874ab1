"""All advice about a community, in the order of its files, less what the charter silences."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from typing import Final, NamedTuple

from ask_above.ask.advice import alike, catalogue, colors, ladder, people, places
from ask_above.ask.advice.ladder import taken_from_everybody
from ask_above.ask.advice.piece import WHY, Piece, Sight
from ask_above.charter.moments import Instant
from ask_above.charter.names import nearest
from ask_above.decide.decider import Decider
from ask_above.printing import prints

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
    alike.unseen,
    alike.kinds,
    colors.colors,
)
"""Everything that is looked at."""


@prints
class AdviceGiven(NamedTuple):
    """The advice, and what the charter silences of it: pairs of a piece and the reason why it may stay."""

    pieces: tuple[Piece, ...]
    silenced: tuple[tuple[Piece, str], ...] = ()

    def __repr__(self) -> str:
        return f"<AdviceGiven: {len(self.pieces)} pieces, {len(self.silenced)} silenced>"


OF_PEOPLE: Final = (people.too_many, people.duties, people.over_limit, people.assignments, people.behind_gates)
"""What a change of members and assignments alone can bring about."""

_OF_NO_NEWS: Final = frozenset(
    {"unheld", "undecided", "ended", "same-carried", "uncovered", "only-one", "held-behind-gate"}
)
"""What is so of whatever is new, or is told by a plan in other words."""


def brought(before: Decider, after: Decider, at: Instant) -> list[Piece]:
    """Return the advice that there is after a change and was not before, less what the charter silences."""
    looks = OF_PEOPLE if before.compiled is after.compiled else LOOKS
    known = Counter((piece.code, piece.what) for look in looks for piece in look(Sight(before, at)))
    left_out = _OF_NO_NEWS | set(after.compiled.charter.rules.advice.silent)
    found = []
    for piece in (piece for look in looks for piece in look(Sight(after, at))):
        known[piece.code, piece.what] -= 1
        if known[piece.code, piece.what] < 0 and piece.code not in left_out:
            found.append(piece)
    taken = [*taken_from_everybody(before.compiled, after.compiled)]
    commands = {piece.commands for piece in taken}
    return [*taken, *(piece for piece in found if piece.commands not in commands or not piece.commands)]


def advise(decider: Decider, at: Instant, told: Callable[[int, int], None] | None = None) -> AdviceGiven:
    """Return what a careful administrator would look at again; ``told`` is called with how far it has come."""
    sight = Sight(decider, at)
    pieces: list[Piece] = []
    for n, look in enumerate(LOOKS):
        pieces += look(sight)
        if told:
            told(n + 1, len(LOOKS))
    silent = decider.compiled.charter.rules.advice.silent
    pieces += _unknown(sight)
    order = list(dict.fromkeys(piece.where.file for piece in [*(Piece("ended", sight.file, "", ""),), *pieces]))
    pieces.sort(key=lambda piece: (order.index(piece.where.file), piece.where.line))
    return AdviceGiven(
        tuple(piece for piece in pieces if piece.code not in silent),
        tuple((piece, silent[piece.code]) for piece in pieces if piece.code in silent),
    )


def _unknown(sight: Sight) -> Iterator[Piece]:
    for code in sight.charter.rules.advice.silent:
        if code not in WHY:
            near = nearest(code, WHY)
            mend = f"write {near[0]}" if near else "take it out of rules.advice.silent"
            yield Piece(
                "silent-unknown", sight.file, f"rules.advice.silent names '{code}', and there is no such code", mend
            )
