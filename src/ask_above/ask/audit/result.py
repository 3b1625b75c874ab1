"""What an audit comes to: what was not allowed, what has turned since, what nothing has a name for, what is used.

And what less would do: the capabilities of ranks that nobody used.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import timedelta
from functools import cached_property
from typing import TYPE_CHECKING, Final, NamedTuple, TypeVar

from ask_above.ask.audit.judge import Deed, Judge, Judged
from ask_above.ask.audit.states import States
from ask_above.charter.catalogue import RISKS
from ask_above.charter.changes import withholding
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant
from ask_above.charter.rules import ACT_WORDS, Act
from ask_above.decide.compiled import CompiledCharter, carried_sets
from ask_above.decide.names import Names
from ask_above.decide.profile import Asked
from ask_above.decide.walk import ranks_at
from ask_above.errors import AskAboveError
from ask_above.people.register import Assignment
from ask_above.printing import Printed

if TYPE_CHECKING:
    import pandas as pd

    from ask_above.ask.audit.judge import Use

_GRAVE: Final[dict[str, str]] = {**dict.fromkeys(ACT_WORDS, "high"), Act.MODERATE: "medium", Act.CALL: "medium"}
_LONG = timedelta(days=90)
"""A log of fewer days says nothing about what is never used."""


class Unused(NamedTuple):
    """A capability that a rank grants and that no holder used in all the time of the log."""

    rank: str
    capability: str
    holders: int
    command: str


class Least(NamedTuple):
    """What a rank grants and did not need, and the command that withholds it."""

    rank: str
    capabilities: tuple[str, ...]
    command: str


def unused(judge: Judge, judged: Sequence[Judged], span: tuple[Instant, Instant]) -> list[Unused]:
    """Return what ranks that somebody active held at some time of a log grant, and nobody used through them.

    What is told can be taken: nothing that was allowed then, or is now, rests on it, through this rank or one that
    builds on it. What is of high risk is kept for the day, and what every member has comes from elsewhere.
    """
    names = judge.states.now.names
    compiled, charter = names.decider.compiled, names.charter
    needed = _needed(judge, judged)
    holders = _holders(judge.states, span)
    common = 0
    for rank in compiled.ranks:
        common |= compiled.granted(rank) if rank.automatic else 0
    unuseds = []
    for rank in compiled.ranks:
        if rank.automatic or rank.unbounded or rank.kept_by or rank.key not in holders:
            continue
        own = compiled.granted(rank) & ~common
        for base in rank.builds_on:
            own &= ~compiled.granted(base)
        for key in compiled.catalogue.names(own):
            lost = _lost(compiled, withholding(charter, rank.key, [key]))
            free = all(not mask & needed.get(compiled.ranks[n].key, 0) for n, mask in lost.items())
            if free and charter.catalogue.capabilities[key].risk != "high":
                command = f"ask-above rank withhold {rank.key} {key} --plan"
                unuseds.append(Unused(rank.key, key, len(holders[rank.key]), command))
    return unuseds


def _needed(judge: Judge, judged: Sequence[Judged]) -> dict[str, int]:
    """Return what was used through each rank, then or by what is allowed now, as bits.

    Where there were acts also all that acts take, as it decides whose list counts (rule 6.4).
    """
    names, last = judge.states.now.names, len(judge.states.states) - 1
    catalogue = names.charter.catalogue
    used: dict[str, int] = {}
    uses = {use for each in judged for use in each.uses}
    for deed in dict.fromkeys(each.deed for each in judged if each.now):
        uses |= judge.uses(deed, last, judge.now)
    for use in uses:
        used[use.through] = used.get(use.through, 0) | catalogue.bit.get(use.capability, 0)
    if any(each.deed.action in ACT_WORDS for each in judged if each.allowed):
        acting = catalogue.mask(key for rule in names.charter.rules.acts.values() for key in rule.using)
        used |= {key: used.get(key, 0) | acting for key in names.charter.ranks}
    return used


def _lost(compiled: CompiledCharter, charter: Charter) -> dict[int, int]:
    """Return what ranks, by their positions, no longer grant under another charter."""
    after = carried_sets([charter.ranks[rank.key] for rank in compiled.ranks], charter.catalogue)
    lost = ((n, had & ~has) for n, (had, has) in enumerate(zip(compiled.carried, after, strict=True)))
    return {n: mask for n, mask in lost if mask}


def _holders(states: States, span: tuple[Instant, Instant]) -> dict[str, set[str]]:
    """Return who, by their keys, held each rank at some time of a span, by assignment or group, while active."""
    holders: dict[str, set[str]] = {}
    before: Names | None = None
    for n in range(states.position(span[0]), states.position(span[1]) + 1):
        names = states.states[n].names
        start = max(span[0], states.states[n].since) if n else span[0]
        end = min(span[1], states.states[n + 1].since - 1 if n + 1 < len(states.states) else span[1])
        some: Iterable[str] = names.register.members
        if before is not None and names.charter is before.charter:
            some = [key for key in names.register.differing(before.register) if key in names.register.members]
        for key in some:
            at: Instant | None = start
            while at is not None and at <= end:
                asked = names.decider.people.ask(key, at)
                if asked.is_active:
                    for holding in asked.holdings:
                        holders.setdefault(names.decider.compiled.ranks[holding.rank].key, set()).add(key)
                at = asked.until
        before = names
    return holders


def least(judge: Judge, deeds: Iterable[Deed]) -> list[Least]:
    """Return what could be withheld from each rank, so that all these deeds, which are allowed now, still are.

    A year is no proof that nothing else is needed: what is rare, and kept for the day, is among what comes back.
    """
    return _Search(judge, deeds).found()


class _Case(NamedTuple):
    """Something that is to stay allowed: the ranks whose grants it may hang on, and which of them; acts on any."""

    deed: Deed
    ranks: frozenset[int]
    mask: int


class _Search:
    """Takes one after the other what can be taken: what is of high risk first, then in the ladder's order."""

    def __init__(self, judge: Judge, deeds: Iterable[Deed]) -> None:
        self.judge, self.names = judge, judge.states.now.names
        self.compiled = self.names.decider.compiled
        self.cases = self._cases(deeds)
        self.taken: set[tuple[str, str]] = set()

    def found(self) -> list[Least]:
        """Return what was taken from each rank: from what is left nothing can be, one by one."""
        left, count = self._in_order(), -1
        while count != len(self.taken):
            count = len(self.taken)
            self._take(left)
            left = [each for each in left if each not in self.taken]
        by_rank: dict[str, list[str]] = {}
        for rank in self.compiled.ranks:
            for name in self.compiled.catalogue.names(self.compiled.granted(rank)):
                if (rank.key, name) in self.taken:
                    by_rank.setdefault(rank.key, []).append(name)
        return [
            Least(key, tuple(some), f"ask-above rank withhold {key} {' '.join(some)}") for key, some in by_rank.items()
        ]

    def _in_order(self) -> list[tuple[str, str]]:
        catalogue = self.compiled.catalogue
        ordered = [
            (rank.key, name)
            for rank in self.compiled.ranks
            if not rank.unbounded and not rank.kept_by
            for name in catalogue.names(self.compiled.granted(rank))
        ]
        return sorted(ordered, key=lambda each: -RISKS.index(catalogue.capabilities[each[1]].risk))

    def _take(self, some: Sequence[tuple[str, str]]) -> None:
        """Take all of these where that does no harm, else half by half."""
        if not some:
            return
        if self._harmless({*self.taken, *some}):
            self.taken.update(some)
        elif len(some) > 1:
            middle = len(some) // 2
            self._take(some[:middle])
            self._take(some[middle:])

    def _harmless(self, taken: set[tuple[str, str]]) -> bool:
        by_rank: dict[str, list[str]] = {}
        for key, name in taken:
            by_rank.setdefault(key, []).append(name)
        charter = self.names.charter
        for key, some in by_rank.items():
            charter = withholding(charter, key, some)
        lost = _lost(self.compiled, charter)
        cases = [case for case in self.cases if any(lost.get(rank, 0) & case.mask for rank in case.ranks)]
        if not cases:
            return True
        after = Judge(States([self.judge.states.now._replace(names=self.names.after(charter=charter))]), self.judge.now)
        return all(self._allowed(after, case.deed) for case in cases)

    @staticmethod
    def _allowed(judge: Judge, deed: Deed) -> bool:
        try:
            return bool(judge.answer(deed, 0, judge.now))
        except AskAboveError:
            return False

    def _cases(self, deeds: Iterable[Deed]) -> list[_Case]:
        """Return what is to stay allowed, each once that comes to the same."""
        state, cases = len(self.judge.states.states) - 1, dict[object, _Case]()
        for deed in deeds:
            parties = [*self.judge.parties(deed, state, self.judge.now)]
            if deed.action in ACT_WORDS:
                cases[deed] = _Case(deed, frozenset(range(len(self.compiled.ranks))), -1)
                continue
            asked: Asked = parties[0]
            place = self.names.place_number(deed.place)
            capability = self.names.capability(deed.action, asked, deed.author or None)
            alike = asked.profile, asked.owner, asked.status, capability, place
            ranks = frozenset(ranks_at(self.compiled, asked.profile, place) if asked.profile else ())
            cases.setdefault(alike, _Case(deed, ranks, self.compiled.rests(capability, place)))
        return list(cases.values())


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
