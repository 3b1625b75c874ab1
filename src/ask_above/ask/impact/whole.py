"""What a change does: who gains and who loses what, where and when, between two communities (rules 5, 6, 8 and 9.6)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple

from ask_above.ask.expect import Broken, Unmet, broken
from ask_above.ask.impact.act_shifts import ActShift, ActShifts, PowerShift
from ask_above.bulk.differences import FOREVER, Crowds, Stretch, TableDifference, crowds, differences, rows_in
from ask_above.change.difference import Difference
from ask_above.change.parts import State
from ask_above.charter.catalogue import RISKS
from ask_above.charter.moments import Instant, written, written_end
from ask_above.decide.decider import VISITOR, Decider
from ask_above.printing import Printed

if TYPE_CHECKING:
    import pandas as pd

COLUMNS = ("change", "risk", "capability", "place", "who", "from", "until")
_FEW, _MOST_KEPT = 4, 64
"""Of no more kinds of people than these what they gain and lose is kept, and so many of these answers."""


class Shift(NamedTuple):
    """Equal changes folded together: all of ``who`` gain, or lose, all of ``capabilities`` in all of ``places``.

    ``members`` and ``ranks`` hold keys, in their order; ``visitor`` tells whether visitors are among them. A rank
    stands for someone asked as it (rule 4.9). ``risk`` is the highest risk among the capabilities. ``since`` and
    ``until`` are instants, ``None`` for from now on and for no end.
    """

    gains: bool
    risk: str
    capabilities: tuple[str, ...]
    places: tuple[str, ...]
    members: Sequence[str]
    ranks: tuple[str, ...]
    visitor: bool
    since: Instant | None = None
    until: Instant | None = None

    @property
    def answers(self) -> int:
        """How many answers it changes: members by places by capabilities."""
        return len(self.members) * len(self.places) * len(self.capabilities)


class TurnedExpectation(NamedTuple):
    """An expectation that holds now and did not before, or the other way round; ``unmet`` tells why it does not.

    ``since`` is the instant from which it is so, ``None`` for from now on.
    """

    text: str
    holds: bool
    unmet: Unmet
    since: Instant | None = None


class Impact(Printed):
    """All that differs between two communities, from a moment on.

    ``shifts`` are the differences of all answers on capabilities, folded, the riskiest gains first. What is not
    there on one side, be it a member, a rank, a place or a capability, counts as a no there; one thing that was only
    given another key is the same on both. ``powers`` is what differs between ranks, ``acts`` what members may do to
    others; ``may_differ`` says what acts were not looked at one by one and may differ as well, such as those of ranks
    where ranks times places are more than 60,000, or of members where kinds of them are. These, and ``turned``,
    are worked out when they are first read.
    """

    def __init__(self, old: Decider, new: Decider, at: Instant, shifts: list[Shift], difference: Difference) -> None:
        self.old, self.new, self.at, self.shifts, self.difference = old, new, at, shifts, difference

    def __repr__(self) -> str:
        return f"<Impact: {self.answers} answers differ>"

    def __bool__(self) -> bool:
        # what is assigned can be unassigned, which nobody needs to be told
        assigned = any(given.gained or given.lost for given in self.difference.given)
        return bool(assigned or self.shifts or self.turned or self.powers or self.acts or self.may_differ)

    @cached_property
    def _act_shifts(self) -> ActShifts:
        return ActShifts(self.old, self.new, self.difference, self.at)

    @property
    def answers(self) -> int:
        """How many answers differ: (member, place, capability), and acts of members on others."""
        return self.of_capabilities + self._act_shifts.count

    @property
    def of_capabilities(self) -> int:
        """How many answers on what members can use differ."""
        return sum(shift.answers for shift in self.shifts)

    @property
    def members(self) -> frozenset[str]:
        """The members who gain or lose anything."""
        found = {member for shift in self.shifts for member in shift.members}
        return frozenset(
            found | {actor for shift in self.acts for actor in shift.actors if not actor.startswith("rank:")}
        )

    @property
    def risky(self) -> list[Shift]:
        """What is gained of high risk."""
        return [shift for shift in self.shifts if shift.gains and shift.risk == "high"]

    @property
    def powers(self) -> list[PowerShift]:
        """What ranks may do to ranks that differs, everywhere."""
        return self._act_shifts.powers

    @property
    def acts(self) -> list[ActShift]:
        """What members may do to others that differs."""
        return self._act_shifts.acts

    @property
    def not_compared(self) -> str:
        """A sentence, where ranks and places are too many to compare power between ranks; else empty."""
        return self._act_shifts.not_compared

    @property
    def may_differ(self) -> list[str]:
        """What acts may differ without having been looked at one by one, in sentences."""
        return self._act_shifts.may_differ

    @cached_property
    def turned(self) -> list[TurnedExpectation]:
        """The expectations that change, now or later: of those that stand in both charters, or in the new one alone."""
        return [_turned(each) for each in broken(self.old, self.new, self.at)]

    @cached_property
    def recorded(self) -> dict[str, set[str]]:
        """For whom each rank is recorded, before or after; those who are alike are asked once."""
        recorded: dict[str, set[str]] = {}
        for decider in (self.new, self.old):
            for asked, alike in decider.alike(self.at):
                for rank in {holding.rank for holding in asked.recorded}:
                    recorded.setdefault(decider.compiled.ranks[rank].key, set()).update(alike)
        return recorded

    def table(self) -> pd.DataFrame:
        """Return the shifts as a table of text: change (gains, loses), risk, capability, place, who, from, until.

        ``who`` is a member's key, ``rank:KEY`` or ``visitor``: one row for each answer that differs. ``from`` and
        ``until`` are dates in the charter's time zone as a register has them, so ``until`` is the last day; empty for
        from now on and for no end.
        """
        import pandas as pd

        return pd.DataFrame(list(self.rows()), columns=list(COLUMNS), dtype=object)

    def rows(self) -> Iterator[tuple[str, ...]]:
        """Yield a row for each answer that differs."""
        for shift in self.shifts:
            verb = "gains" if shift.gains else "loses"
            people = [*(f"rank:{key}" for key in shift.ranks), *([VISITOR] if shift.visitor else []), *shift.members]
            when = self.day(shift.since), self.ends(shift.until)
            for capability in shift.capabilities:
                risk = risk_of(self.old, self.new, capability)
                for place in shift.places:
                    yield from ((verb, risk, capability, place, who, *when) for who in people)

    def day(self, at: Instant | None) -> str:
        """Write an instant as a date in the charter's time zone; nothing for none."""
        return "" if at is None else written(at, self.new.compiled.charter.zone)

    def ends(self, at: Instant | None) -> str:
        """Write an instant at which something ends as a register does; nothing for none."""
        return "" if at is None else written_end(at, self.new.compiled.charter.zone)


def impact(old: Decider, new: Decider, at: Instant, told: Callable[[int, int], None] | None = None) -> Impact:
    """Compare all answers of two communities from a moment on; ``told`` hears how many places are done, of how many."""
    sides = [State(decider.compiled.charter, decider.people.register) for decider in (old, new)]
    difference = Difference(sides[0], sides[1], at)
    return effect_of(difference, difference.in_new_keys(old), new, told)


def effect_of(
    difference: Difference, old: Decider, new: Decider, told: Callable[[int, int], None] | None = None
) -> Impact:
    """Return the impact of a difference; ``old`` answers for the community before in the keys of the one after."""
    at = difference.now
    compared = crowds(old, new, at)
    places = list(dict.fromkeys((*new.compiled.place_at, *old.compiled.place_at)))
    order = {key: n for n, key in enumerate((*new.compiled.catalogue.keys, *old.compiled.catalogue.keys))}
    shifts = [
        shift
        for fold in _folds(old, new, compared, places, told)
        for shift in _shifts((old, new), compared, fold, at, order)
    ]
    return Impact(old, new, at, sorted(shifts, key=_riskiest_first), difference)


def risk_of(old: Decider, new: Decider, capability: str) -> str:
    """Return a capability's risk, by the new charter where it is there."""
    known = new.compiled.catalogue.capabilities.get(capability) or old.compiled.catalogue.capabilities[capability]
    return known.risk


def _turned(each: Broken) -> TurnedExpectation:
    return TurnedExpectation(each.unmet.expectation.text, not each.breaks, each.unmet, each.since)


class _Fold(NamedTuple):
    gains: bool
    rows: Any
    places: tuple[str, ...]
    capabilities: tuple[str, ...]


class _TurnsOfFew:
    """What few kinds of people gain and lose under one charter, by what they come down to before and after.

    A service that lets people in and out asks for the same turns day after day.
    """

    def __init__(self, _: object) -> None:
        self.known: dict[tuple[object, ...], list[_Fold]] = {}

    def after(self, _: object) -> None:
        """Keep nothing under another charter."""


def _folds(
    old: Decider, new: Decider, found: Crowds, places: Sequence[str], told: Callable[[int, int], None] | None
) -> list[_Fold]:
    """Return what differs, folded; of few kinds of people under the same charter it is kept."""

    def work() -> list[_Fold]:
        return _folded(differences(old, new, found, places, told), len(found.old))

    if old.compiled is not new.compiled or len(found.old) > _FEW:
        return work()
    known = new.compiled.keep(_TurnsOfFew).known
    kinds = tuple((state.profile, state.owner) for state in (*found.old, *found.new))
    if kinds not in known:
        if len(known) >= _MOST_KEPT:
            known.clear()
        known[kinds] = work()
    return known[kinds]


def _folded(found: Iterable[TableDifference], rows: int) -> list[_Fold]:
    """Fold together what the same people gain or lose: first over places, then over capabilities."""
    by_people: dict[tuple[bool, str, bytes], list[str]] = {}
    for turn in found:
        by_people.setdefault((turn.gains, turn.capability, turn.bits), []).extend(turn.places)
    by_places: dict[tuple[bool, bytes, tuple[str, ...]], list[str]] = {}
    for (gains, capability, people), places in by_people.items():
        by_places.setdefault((gains, people, tuple(places)), []).append(capability)
    return [
        _Fold(gains, rows_in(people, rows), places, tuple(capabilities))
        for (gains, people, places), capabilities in by_places.items()
    ]


def _shifts(
    sides: tuple[Decider, Decider], found: Crowds, fold: _Fold, at: Instant, order: Mapping[str, int]
) -> Iterator[Shift]:
    """Yield a fold as shifts, one for each stretch of time; ranks and visitors stand with what is so from now on.

    ``order`` is the catalogue's.
    """
    old, new = sides
    others = found.ranks.within(fold.rows)
    known = {**old.compiled.rank_at, **new.compiled.rank_at}
    by_time: dict[Stretch, Sequence[str]] = {(at, FOREVER): ()} if others else {}
    for (since, until), members in {**by_time, **found.people(fold.rows)}.items():
        always = (since, until) == (at, FOREVER)
        ranks = [who.removeprefix("rank:") for who in others if who != VISITOR] if always else []
        yield Shift(
            fold.gains,
            max((risk_of(old, new, key) for key in fold.capabilities), key=RISKS.index),
            tuple(sorted(fold.capabilities, key=order.__getitem__)),
            fold.places,
            members,
            tuple(sorted(ranks, key=known.__getitem__)),
            always and VISITOR in others,
            None if since == at else since,
            None if until == FOREVER else until,
        )


def _riskiest_first(shift: Shift) -> tuple[object, ...]:
    people = len(shift.members) + len(shift.ranks) + shift.visitor
    when = (shift.since or 0, shift.until or 0)
    return -RISKS.index(shift.risk), not shift.gains, -people, shift.capabilities, shift.places, when
