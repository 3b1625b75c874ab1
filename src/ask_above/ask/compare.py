"""Two ranks or two people side by side: what only the one may, only the other, both, and what grants it."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from ask_above.ask.perks import in_words
from ask_above.ask.tables import sources
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import rank_named
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.explain import source_of
from ask_above.decide.names import Names, Who
from ask_above.decide.profile import Asked, How, ask_rank
from ask_above.decide.words import HELD_BY, in_file
from ask_above.printing import prints

ONE, OTHER, BOTH = "one", "other", "both"


class Compared(NamedTuple):
    """One capability of a comparison.

    ``who`` is one, other or both; ``places`` are the keys of the places where that is so, none where what ranks grant
    is compared. ``one`` and ``other`` say what gives it to each, in the first of those places.
    """

    capability: str
    who: str
    places: tuple[str, ...] = ()
    one: str = ""
    other: str = ""


@prints
class Comparison(NamedTuple):
    """Two side by side; ``how`` says what ties them together where that was the question: copied from, builds on.

    ``perks`` are those in which two ranks differ, in sentences.
    """

    one: str
    other: str
    rows: tuple[Compared, ...]
    how: str
    compiled: CompiledCharter
    perks: tuple[str, ...] = ()

    def __repr__(self) -> str:
        return f"<Comparison of {self.one} and {self.other}: {len(self.rows)} capabilities>"

    def of(self, who: str) -> tuple[Compared, ...]:
        """Return the rows of one, other or both."""
        return tuple(row for row in self.rows if row.who == who)


def carried(compiled: CompiledCharter, one: Rank, other: Rank, how: str = "") -> Comparison:
    """Compare what two ranks grant (rule 3.1), with what whoever holds them has by an automatic rank (rule 4.1)."""
    rows = []
    for key in compiled.catalogue.keys:
        said = [carrier(compiled, rank, key) for rank in (one, other)]
        if any(said):
            rows.append(Compared(key, BOTH if all(said) else ONE if said[0] else OTHER, (), *said))
    return Comparison(one.called, other.called, tuple(rows), how, compiled, _perks(compiled, one, other))


def _perks(compiled: CompiledCharter, one: Rank, other: Rank) -> tuple[str, ...]:
    """Say in which perks two ranks differ."""
    differing = []
    for key, perk in compiled.charter.perks.items():
        values = [rank.perks.get(key, perk.default) for rank in (one, other)]
        if values[0] != values[1]:
            differing.append(f"{perk.about or key}: {in_words(values[0])} and {in_words(values[1])}")
    return tuple(differing)


def carrier(compiled: CompiledCharter, rank: Rank, capability: str) -> str:
    """Say what gives a capability to whoever holds a rank; nothing where nothing does."""
    if rank.unbounded:
        return "unbounded"
    bit = compiled.catalogue.bit[capability]
    if compiled.granted(rank) & bit:
        where, how = source_of(compiled, rank, capability)
        return f"{how.removeprefix(', ') or 'granted'}{in_file(where)}"
    for holding in ask_rank(compiled, rank).holdings:
        automatic = compiled.ranks[holding.rank]
        if holding.how is How.AUTOMATIC and compiled.carried[holding.rank] & bit:
            return f"comes with {automatic.called}, automatic for {HELD_BY[automatic.held_by or 'members']}"
    return ""


def related(compiled: CompiledCharter, rank: Rank) -> list[Comparison]:
    """Compare a rank with the one it was copied from, and with those that it builds on."""
    comparisons = []
    if rank.copied_from:
        comparisons.append(carried(compiled, rank, compiled.charter.ranks[rank.copied_from], "copied from"))
    comparisons += [carried(compiled, rank, compiled.charter.ranks[key], "builds on") for key in rank.builds_on]
    return comparisons


def usable(decider: Decider, one: Asked, other: Asked, places: list[int]) -> Comparison:
    """Compare what two can use at these places, capability by capability (rule 5)."""
    compiled = decider.compiled
    masks = [(n, decider.usable(one, n), decider.usable(other, n)) for n in places]
    tests: tuple[tuple[str, Callable[[int, int], int]], ...] = (
        (ONE, lambda first, second: first & ~second),
        (OTHER, lambda first, second: second & ~first),
        (BOTH, lambda first, second: first & second),
    )
    rows = []
    for key, bit in compiled.catalogue.bit.items():
        for who, test in tests:
            where = [n for n, first, second in masks if test(first, second) & bit]
            if where:
                compared = [
                    _through(decider, each, key, where[0]) if who in (side, BOTH) else ""
                    for side, each in ((ONE, one), (OTHER, other))
                ]
                rows.append(Compared(key, who, tuple(compiled.places[n].key for n in where), *compared))
    return Comparison(one.label, other.label, tuple(rows), "", decider.compiled)


def _through(decider: Decider, asked: Asked, capability: str, place: int) -> str:
    answer = decider.may(asked, capability, place)
    return "; ".join(sources(answer, capability)) or answer.reason.rstrip(".")


def between(names: Names, one: Who, other: Who, at: str | None, now: Instant) -> Comparison:
    """Lay two ranks or people side by side: ranks without a place by what they grant, all else by what is usable."""
    first, second = names.asked(one, now), names.asked(other, now)
    ranks = [rank_named(names.who(each)) for each in (one, other)]
    compiled = names.decider.compiled
    if at is None and ranks[0] is not None and ranks[1] is not None:
        return carried(compiled, names.rank(ranks[0]), names.rank(ranks[1]))
    places = list(range(len(compiled.places))) if at is None else [names.place_number(at)]
    return usable(names.decider, first, second, places)
