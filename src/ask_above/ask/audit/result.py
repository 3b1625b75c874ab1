"""What an audit comes to: what was not allowed, what has turned since, what nothing has a name for, what is used."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import timedelta
from functools import cached_property
from typing import TYPE_CHECKING, Final, NamedTuple, TypeVar

from ask_above.ask.audit.judge import Deed, Judge, Judged
from ask_above.ask.audit.states import States
from ask_above.charter.catalogue import RISKS
from ask_above.charter.moments import Instant
from ask_above.charter.rules import ACT_WORDS, Act
from ask_above.people.register import Assignment
from ask_above.printing import Printed

if TYPE_CHECKING:
    import pandas as pd

    from ask_above.ask.audit.least import Least, Unused
    from ask_above.ask.audit.through import Use

_GRAVE: Final[dict[str, str]] = {**dict.fromkeys(ACT_WORDS, "high"), Act.MODERATE: "medium", Act.CALL: "medium"}
_LONG = timedelta(days=90)
"""A log of fewer days says nothing about what is never used."""


class NotAllowed(NamedTuple):
    """Something that was done and was not allowed then, folded by who did what where, and why not.

    It was allowed until ``until``, where it ever was. ``since`` is the number of the change that took the right away,
    ``ended`` the assignment whose end did, ``began`` the one whose beginning did; ``None`` where there is none such.
    ``now`` tells whether it is allowed now.
    """

    deed: Deed
    times: int
    first: Instant
    last: Instant
    risk: str
    reason: str
    state: int
    since: int | None
    ended: Assignment | None
    now: bool
    began: Assignment | None = None
    until: Instant | None = None


class TurnedSince(NamedTuple):
    """Something that was allowed when it was done and is not now."""

    deed: Deed
    times: int
    first: Instant
    last: Instant
    risk: str
    reason: str


CountedT = TypeVar("CountedT", NotAllowed, TurnedSince)


class UnknownName(NamedTuple):
    """A name in the log that nothing had then: what it was to be, how often it stands there."""

    what: str
    name: str
    times: int


class Used(NamedTuple):
    """What the holders of a rank used through it: how often, by how many, when last.

    ``rank`` is a rank's key, ``exception in PLACE``, ``group KEY in PLACE``, ``override RANK in PLACE`` or ``owner``.
    """

    rank: str
    capability: str
    times: int
    members: int
    last: Instant


class Audit(Printed):
    """What members did, held against what was allowed then.

    ``rows`` were looked at, ``refused`` had been refused and were not done. Of ``not_allowed`` what is of high risk
    stands first. ``before_journal`` counts the rows that are older than what the journal knows: they are judged by the
    oldest state known.
    """

    def __init__(self, judged: Iterable[Judged], judge: Judge, refused: int = 0) -> None:
        self.judged = list(judged)
        self.judge, self.refused = judge, refused
        self.states: States = judge.states

    def __repr__(self) -> str:
        return f"<Audit: {self.rows} rows, {sum(deed.times for deed in self.not_allowed)} not allowed>"

    def __bool__(self) -> bool:
        """Whether nothing was done that was not allowed."""
        return not self.not_allowed

    @property
    def rows(self) -> int:
        """How many rows were judged."""
        return sum(deed.times for deed in self.judged)

    @property
    def span(self) -> tuple[Instant, Instant] | None:
        """The first moment and the last."""
        if not self.judged:
            return None
        return min(deed.first for deed in self.judged), max(deed.last for deed in self.judged)

    @property
    def before_journal(self) -> int:
        """How many rows are judged by the oldest state known, as they are older."""
        known = self.states.known_since
        return 0 if known is None else sum(deed.times for deed in self.judged if deed.first < known)

    def risk(self, deed: Deed) -> str:
        """Return how much harm a deed can do."""
        if deed.action in ACT_WORDS:
            return _GRAVE[deed.action]
        catalogue = self.states.now.names.charter.catalogue
        keys = catalogue.pairs.get(deed.action, (deed.action,))
        return max(
            (catalogue.capabilities[k].risk for k in keys if k in catalogue.capabilities),
            key=RISKS.index,
            default="low",
        )

    @cached_property
    def not_allowed(self) -> list[NotAllowed]:
        """What was not allowed when it was done, the gravest and most frequent first."""
        deeds: dict[tuple[Deed, str, Instant | None], NotAllowed] = {}
        for deed in self.judged:
            if deed.allowed is not False:
                continue
            reason = self.judge.answer(deed.deed, deed.state, deed.first).reason
            turn = self.judge.turn(deed.deed, deed.first)
            since, ended, began, until = turn or (None, None, None, None)
            key = deed.deed, reason, until
            known = deeds.get(key)
            number = self.states.states[deed.state].number
            risk, now = self.risk(deed.deed), bool(deed.now)
            seen = deed.deed, deed.times, deed.first, deed.last
            one = NotAllowed(*seen, risk, reason, number, since, ended, now, began, until)
            deeds[key] = one if known is None else _added(known, one)
        return sorted(deeds.values(), key=lambda e: (-RISKS.index(e.risk), -e.times, e.first, e.deed))

    @cached_property
    def no_longer(self) -> list[TurnedSince]:
        """What was allowed when it was done and is not any more."""
        return self._turned(was=True)

    @cached_property
    def since_allowed(self) -> list[TurnedSince]:
        """What was not allowed when it was done and is now."""
        return self._turned(was=False)

    def _turned(self, *, was: bool) -> list[TurnedSince]:
        turneds: dict[Deed, TurnedSince] = {}
        last = len(self.states.states) - 1
        for deed in self.judged:
            if deed.allowed is not was or deed.now is not (not was):
                continue
            known = turneds.get(deed.deed)
            if known is None:
                reason = self.judge.answer(deed.deed, last, self.judge.now).reason
                turneds[deed.deed] = TurnedSince(
                    deed.deed, deed.times, deed.first, deed.last, self.risk(deed.deed), reason
                )
            else:
                turneds[deed.deed] = _added(known, deed)
        return sorted(turneds.values(), key=lambda e: (-RISKS.index(e.risk), -e.times, e.first, e.deed))

    @cached_property
    def unknown(self) -> list[UnknownName]:
        """The names in the log that nothing had then, the most frequent first."""
        counts: dict[tuple[str, str], int] = {}
        for deed in self.judged:
            if deed.unknown is not None:
                counts[deed.unknown] = counts.get(deed.unknown, 0) + deed.times
        return sorted((UnknownName(*key, times) for key, times in counts.items()), key=lambda e: (-e.times, e.name))

    # -- what is used

    @cached_property
    def used(self) -> list[Used]:
        """What was used through each rank, in the charter's order; then through exceptions, groups and overrides.

        A capability was used where something that was allowed rested on it, through everything that sufficed for it
        (rule 11.2).
        """
        by_use: dict[Use, list[Judged]] = {}
        for deed in self.judged:
            for use in deed.uses:
                by_use.setdefault(use, []).append(deed)
        order = {key: n for n, key in enumerate(self.states.now.names.charter.ranks)}
        rows = [
            Used(*use, sum(e.times for e in some), len({e.deed.member for e in some}), max(e.last for e in some))
            for use, some in by_use.items()
        ]
        return sorted(rows, key=lambda e: (order.get(e.rank, len(order)), e.rank, -e.times, e.capability))

    @property
    def days(self) -> int:
        """How many days the log covers."""
        span = self.span
        return 0 if span is None else (span[1] - span[0]) // (24 * 3600 * 1_000_000)

    @cached_property
    def unused(self) -> list[Unused]:
        """What a rank grants, that was held, and that nobody used through it in all the time of the log (rule 11.3).

        Nothing where the log is shorter than ninety days, of high risk, or kept for the day by ``rules.advice.silent``.
        Automatic and unbounded ranks are left out, and what every member has anyway.
        """
        from ask_above.ask.audit.least import unused

        span = self.span
        silent = "unused" in self.states.now.names.charter.rules.advice.silent
        return (
            unused(self.judge, self.judged, span) if span and not silent and timedelta(days=self.days) >= _LONG else []
        )

    def used_by(self, rank: str) -> list[tuple[str, str]]:
        """Return what was used through a rank as pairs of capability and place: needs for ``Community.fit``."""
        return sorted({(use.capability, e.deed.place) for e in self.judged for use in e.uses if use.through == rank})

    def least(self) -> list[Least]:
        """Return what each rank could do without: all that was done, and is allowed now, would still be allowed.

        From what is left nothing more could be taken; what is of high risk is taken first (rule 11.4).
        """
        from ask_above.ask.audit.least import least

        return least(self.judge, dict.fromkeys(deed.deed for deed in self.judged if deed.now))

    # -- as a table

    def table(self) -> pd.DataFrame:
        """Return one row for each deed in each stretch of time: the deed's columns, times, first, last, state, allowed.

        ``first`` and ``last`` are moments in UTC, ``state`` is the number of a change, ``allowed`` and ``now`` are
        nullable booleans, ``by`` is what it was done through, in alphabetical order.
        """
        import pandas as pd

        rows = [
            (*e.deed, e.times, e.first, e.last, self.states.states[e.state].number, e.allowed, e.now, _by(e.uses))
            for e in self.judged
        ]
        columns = [*Deed._fields, "times", "first", "last", "state", "allowed", "now", "by"]
        table = pd.DataFrame(rows, columns=columns)
        for name in ("first", "last"):
            table[name] = pd.to_datetime(table[name], unit="us", utc=True)
        return table.astype({"allowed": "boolean", "now": "boolean"})


def _added(known: CountedT, more: NotAllowed | Judged) -> CountedT:
    """Return what was counted with more of the same deed."""
    return known._replace(
        times=known.times + more.times, first=min(known.first, more.first), last=max(known.last, more.last)
    )


def _by(uses: Iterable[Use]) -> str:
    return ", ".join(sorted({use.through for use in uses}))
