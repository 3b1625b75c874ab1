"""What is said at a place, in the order in which it counts, and whom a gate lets in: rules 5.3 and 5.4 as data.

There is one list of sayings for each place. A single answer goes through those of its holders, the table of everyone
makes an operation of each, climbing takes those of one rank, fitting reads them from the end. No other code knows which
word stands over which.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from enum import StrEnum
from typing import NamedTuple

from ask_above.charter.ladder import Rank
from ask_above.charter.places import Gate, GateTerm


class Word(NamedTuple):
    """What is said of capabilities: allowed, denied, barred."""

    allow: int = 0
    deny: int = 0
    bar: int = 0


class LayerName(StrEnum):
    """The layers of a place: automatic ranks, other ranks, groups, and the member's own exception (rule 5.4)."""

    AUTOMATIC = "a"
    RANK = "b"
    GROUP = "c"
    MEMBER = "d"


class Saying(NamedTuple):
    """What one rank, group or member allows or denies at its turn; each later saying overwrites those before it."""

    layer: LayerName
    holder: str
    allow: int
    deny: int


class Sayings(NamedTuple):
    """What is said for ranks and groups at a place, in the order in which it counts, the last word last.

    ``turns`` are the numbers of each holder's sayings in ``order``, ``bars`` what each is barred from.
    """

    order: tuple[Saying, ...]
    turns: Mapping[str, tuple[int, ...]]
    bars: Mapping[str, int]

    def of(self, holders: Iterable[str]) -> list[Saying]:
        """Return the sayings of some holders, in the order in which they count."""
        turns, order = self.turns, self.order
        numbers = [n for key in holders if key in turns for n in turns[key]]
        # hot: most profiles have one holder that speaks at a place
        if len(numbers) > 1:
            numbers.sort()
        return [order[n] for n in numbers]


NO_SAYINGS = Sayings((), {}, {})


def first_says(words: Iterable[Word]) -> Word:
    """Join words so that, capability by capability, the first that says something counts; bars add up (rule 5.4)."""
    allow = deny = bar = 0
    for word in words:
        settled = allow | deny
        allow |= word.allow & ~settled
        deny |= word.deny & ~settled
        bar |= word.bar
    return Word(allow, deny, bar)


def sayings(words: Mapping[str, Word], ranks: Mapping[str, Rank], disagreement: str) -> Sayings:
    """Put the words of ranks and groups at one place into the order in which they count (rule 5.4).

    First the automatic ranks, then the others, then groups. Among ranks ``disagreement`` says whose word stands: that
    of the topmost, or any allow, or any deny; among groups any deny stands.
    """
    if not words:
        return NO_SAYINGS
    # the topmost speaks last, so that overwriting is all that settling takes (5.4)
    lowest_first = sorted((key for key in words if key in ranks), key=lambda key: -ranks[key].position)
    order: list[Saying] = []
    for layer, automatic in ((LayerName.AUTOMATIC, True), (LayerName.RANK, False)):
        spoken = {key: words[key] for key in lowest_first if ranks[key].automatic is automatic}
        order += _in_turn(layer, spoken, disagreement)
    # groups have no order among themselves, so among them any deny stands (5.4c)
    order += _in_turn(LayerName.GROUP, {key: word for key, word in words.items() if key not in ranks}, "deny")
    turns: dict[str, tuple[int, ...]] = {}
    for n, saying in enumerate(order):
        turns[saying.holder] = (*turns.get(saying.holder, ()), n)
    return Sayings(tuple(order), turns, {key: word.bar for key, word in words.items() if word.bar})


def _in_turn(layer: LayerName, words: Mapping[str, Word], disagreement: str) -> list[Saying]:
    """Return the sayings of one layer, of ranks the lowest first."""
    # an entry that allows and denies the same denies it (2.5)
    if disagreement == "topmost":
        return [Saying(layer, key, word.allow & ~word.deny, word.deny) for key, word in words.items()]
    allows = [Saying(layer, key, word.allow, 0) for key, word in words.items() if word.allow]
    denies = [Saying(layer, key, 0, word.deny) for key, word in words.items() if word.deny]
    return [*denies, *allows] if disagreement == "allow" else [*allows, *denies]


def settled(said: Iterable[Saying]) -> tuple[int, int]:
    """Return what sayings allow and deny together: of each capability the last that speaks of it stands."""
    allow = deny = 0
    for _, _, gives, takes in said:
        allow = (allow | gives) & ~takes
        deny = (deny | takes) & ~gives
    return allow, deny


class Entrance(NamedTuple):
    """What a gate asks for: of each set in ``some`` one holder, of ``none`` no one (rule 5.3)."""

    some: tuple[frozenset[str], ...]
    none: frozenset[str]

    def lets_in(self, holders: frozenset[str]) -> bool:
        """Whether somebody who holds these ranks at the gate's place, and is in these groups, comes in."""
        return self.none.isdisjoint(holders) and not any(each.isdisjoint(holders) for each in self.some)


def meant_by(term: GateTerm, ranks: Mapping[str, Rank]) -> frozenset[str]:
    """Return the ranks or the group that one thing that a gate asks for stands for."""
    if term.above:
        return frozenset(key for key, rank in ranks.items() if rank.position <= ranks[term.key].position)
    return frozenset((term.key,))


def entrance(gate: Gate, ranks: Mapping[str, Rank]) -> Entrance:
    """Return what a gate asks for, with ``warden+`` spelled out."""
    some = [frozenset[str]().union(*(meant_by(term, ranks) for term in gate.any))] if gate.any else []
    some += [meant_by(term, ranks) for term in gate.all]
    return Entrance(tuple(some), frozenset[str]().union(*(meant_by(term, ranks) for term in gate.none)))
