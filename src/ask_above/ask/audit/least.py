"""What ranks grant beyond what was done: what nobody used (rule 11.3), and the least that would do (rule 11.4)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from ask_above.ask.audit.judge import Deed, Judge, Judged
from ask_above.ask.audit.states import States
from ask_above.charter.catalogue import RISKS
from ask_above.charter.changes import withholding
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant
from ask_above.charter.rules import ACT_WORDS
from ask_above.decide.compiled import CompiledCharter, carried_sets
from ask_above.decide.names import Names
from ask_above.decide.profile import Asked
from ask_above.decide.walk import ranks_at
from ask_above.errors import AskAboveError


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
