"""What a change does: who gains and who loses what, where, between two communities (rules 5, 6.13 and 8)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from ask_above.ask.differences import Crowds, Difference, crowds, differences
from ask_above.ask.expect import Unmet, unmet
from ask_above.ask.tables import allowed_powers
from ask_above.charter.catalogue import RISKS
from ask_above.charter.moments import Instant
from ask_above.charter.rules import ACTS
from ask_above.decide.may import VISITOR, Decider

if TYPE_CHECKING:
    import pandas as pd

COLUMNS = ("change", "risk", "capability", "place", "who")


class Shift(NamedTuple):
    """Equal changes folded together: all of ``who`` gain, or lose, all of ``capabilities`` in all of ``places``.

    ``members`` and ``ranks`` hold keys, in their order; ``visitor`` tells whether visitors are among them. A rank
    stands for someone asked as it (rule 4.9). ``risk`` is the highest risk among the capabilities.
    """

    gains: bool
    risk: str
    capabilities: tuple[str, ...]
    places: tuple[str, ...]
    members: tuple[str, ...]
    ranks: tuple[str, ...]
    visitor: bool

    @property
    def answers(self) -> int:
        """How many answers about members it turns: members by places by capabilities."""
        return len(self.members) * len(self.places) * len(self.capabilities)


class PowerShift(NamedTuple):
    """Between two ranks an act became possible, or is no longer."""

    gains: bool
    act: str
    actor: str
    target: str
    place: str


class Turned(NamedTuple):
    """An expectation that holds now and did not before, or the other way round; ``unmet`` tells why it does not."""

    text: str
    holds: bool
    unmet: Unmet


class Impact:
    """All that differs between two communities at a moment.

    ``shifts`` are the differences of all answers, folded, the riskiest gains first. What is not there on one side, be
    it a member, a rank, a place or a capability, counts as a no there. ``powers`` and ``turned`` are worked out when
    they are first read.
    """

    def __init__(self, old: Decider, new: Decider, at: Instant, shifts: list[Shift]) -> None:
        self.old, self.new, self.at, self.shifts = old, new, at, shifts
        self._powers: list[PowerShift] | None = None
        self._turned: list[Turned] | None = None

    def __bool__(self) -> bool:
        return bool(self.shifts or self.turned or self.powers)

    @property
    def answers(self) -> int:
        """How many answers about members differ: (member, place, capability)."""
        return sum(shift.answers for shift in self.shifts)

    @property
    def members(self) -> frozenset[str]:
        """The members who gain or lose anything."""
        return frozenset(member for shift in self.shifts for member in shift.members)

    @property
    def risky(self) -> list[Shift]:
        """What is gained of high risk."""
        return [shift for shift in self.shifts if shift.gains and shift.risk == "high"]

    @property
    def powers(self) -> list[PowerShift]:
        """What ranks may do to ranks that differs, on the whole site and where what ranks can use differs."""
        if self._powers is None:
            self._powers = list(self._find_powers())
        return self._powers

    @property
    def turned(self) -> list[Turned]:
        """The expectations that turn; of those that stand in both charters, word for word, or in the new one alone."""
        if self._turned is None:
            self._turned = list(self._find_turned())
        return self._turned

    def table(self) -> pd.DataFrame:
        """Return the shifts as a table of text: change (gains, loses), risk, capability, place, who.

        ``who`` is a member's key, ``rank:KEY`` or ``visitor``: one row for each answer that differs.
        """
        import pandas as pd

        return pd.DataFrame(list(self.rows()), columns=list(COLUMNS), dtype=object)

    def rows(self) -> Iterator[tuple[str, str, str, str, str]]:
        """Yield a row for each answer that differs."""
        for shift in self.shifts:
            said = "gains" if shift.gains else "loses"
            people = [*(f"rank:{key}" for key in shift.ranks), *([VISITOR] if shift.visitor else []), *shift.members]
            for capability in shift.capabilities:
                risk = risk_of(self.old, self.new, capability)
                for place in shift.places:
                    yield from ((said, risk, capability, place, who) for who in people)

    def _find_powers(self) -> Iterator[PowerShift]:
        if self.old.frame is self.new.frame:
            return
        where = ["site", *(place for shift in self.shifts if shift.ranks for place in shift.places)]
        for place in dict.fromkeys(where):
            for act in ACTS if place == "site" else ("moderate", "assign"):
                before, after = (self._pairs(decider, act, place) for decider in (self.old, self.new))
                for gains, pairs in ((True, after - before), (False, before - after)):
                    for actor, target in sorted(pairs, key=self._in_order):
                        yield PowerShift(gains, act, actor, target, place)

    def _pairs(self, decider: Decider, act: str, place: str) -> set[tuple[str, str]]:
        number = decider.frame.place_at.get(place)
        return set() if number is None else set(allowed_powers(decider, act, number, self.at))

    def _in_order(self, pair: tuple[str, str]) -> tuple[int, int]:
        last = len(self.new.frame.ranks)
        return self.new.frame.rank_at.get(pair[0], last), self.new.frame.rank_at.get(pair[1], last)

    def _find_turned(self) -> Iterator[Turned]:
        before = {each.expectation.text: each for each in unmet(self.old, self.at)}
        after = {each.expectation.text: each for each in unmet(self.new, self.at)}
        old = [each.text for each in self.old.frame.charter.expectations]
        new = [each.text for each in self.new.frame.charter.expectations]
        # where there are as many, one that only names something by another name is the same one
        was = dict(zip(new, old, strict=True)) if len(new) == len(old) else {text: text for text in new if text in old}
        for text in new:
            if text in after and was.get(text) not in before:
                yield Turned(text, holds=False, unmet=after[text])
            elif text not in after and was.get(text, "") in before:
                yield Turned(text, holds=True, unmet=before[was[text]])


def impact(old: Decider, new: Decider, at: Instant, told: Callable[[int, int], None] | None = None) -> Impact:
    """Compare all answers of two communities at a moment; ``told`` hears how many places are done, and of how many."""
    found = crowds(old, new, at)
    places = list(dict.fromkeys((*new.frame.place_at, *old.frame.place_at)))
    shifts = [_shift(old, new, found, each) for each in _folded(differences(old, new, found, places, told))]
    return Impact(old, new, at, sorted(shifts, key=_riskiest_first))


def risk_of(old: Decider, new: Decider, capability: str) -> str:
    """Return a capability's risk, by the new charter where it is there."""
    known = new.frame.catalogue.capabilities.get(capability) or old.frame.catalogue.capabilities[capability]
    return known.risk


class _Fold(NamedTuple):
    gains: bool
    rows: Any
    places: tuple[str, ...]
    capabilities: tuple[str, ...]


def _folded(found: Iterable[Difference]) -> list[_Fold]:
    """Fold together what the same people gain or lose: first over places, then over capabilities."""
    by_people: dict[tuple[bool, str, bytes], tuple[Any, list[str]]] = {}
    for each in found:
        key = (each.gains, each.capability, np.packbits(each.rows).tobytes())
        by_people.setdefault(key, (each.rows, []))[1].append(each.place)
    by_places: dict[tuple[bool, bytes, tuple[str, ...]], tuple[Any, list[str]]] = {}
    for (gains, capability, people), (rows, places) in by_people.items():
        by_places.setdefault((gains, people, tuple(places)), (rows, []))[1].append(capability)
    return [
        _Fold(gains, rows, places, tuple(capabilities))
        for (gains, _, places), (rows, capabilities) in by_places.items()
    ]


def _shift(old: Decider, new: Decider, found: Crowds, fold: _Fold) -> Shift:
    order = {key: n for n, key in enumerate((*new.frame.catalogue.keys, *old.frame.catalogue.keys))}
    members = found.people(fold.rows)
    others = [who for row in np.flatnonzero(fold.rows).tolist() for who in found.ranks[row]]
    ranks = [who.removeprefix("rank:") for who in others if who != VISITOR]
    at = {**old.frame.rank_at, **new.frame.rank_at}
    return Shift(
        fold.gains,
        max((risk_of(old, new, key) for key in fold.capabilities), key=RISKS.index),
        tuple(sorted(fold.capabilities, key=order.__getitem__)),
        fold.places,
        tuple(members),
        tuple(sorted(ranks, key=at.__getitem__)),
        VISITOR in others,
    )


def _riskiest_first(shift: Shift) -> tuple[Any, ...]:
    people = len(shift.members) + len(shift.ranks) + shift.visitor
    return -RISKS.index(shift.risk), not shift.gains, -people, shift.capabilities, shift.places
