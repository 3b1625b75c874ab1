"""The changes that give another answer, fewest side effects first, each carried out on the community before it is told.

What a change turns besides, and what it hands out, is read from the difference that it makes. The same search finds
what makes an expectation hold again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import combinations, islice
from typing import NamedTuple, TypeAlias

from ask_above.ask.expect import Unmet, full_name, unmet_one, wrong_answers
from ask_above.ask.impact.act_shifts import ActShifts
from ask_above.ask.ways.act_candidates import ActCandidates
from ask_above.ask.ways.candidates import Candidate, CapabilityCandidates
from ask_above.bulk.differences import Crowds, crowds, turned
from ask_above.change.difference import Difference
from ask_above.change.parts import State
from ask_above.change.reach import Conditions
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant
from ask_above.charter.names import as_rank, how_many, upper
from ask_above.charter.rules import Act
from ask_above.charter.where import Where
from ask_above.decide.acts import ActAsked
from ask_above.decide.answer import Answer
from ask_above.decide.classes import ClassState
from ask_above.decide.decider import VISITOR, Decider
from ask_above.decide.profile import Asked, Sort
from ask_above.people.register import Register
from ask_above.printing import Printed

Question: TypeAlias = Callable[[Decider], Answer]
"""Puts one and the same question to a community, changed or not."""

Told: TypeAlias = Callable[[int, int], None]
"""Called with how many changes have been tried, and how many there are."""

_MOST_IN_PAIRS = 90
ENOUGH = 5
"""How many ways are looked for, where not all are wanted."""

_MILDEST_FIRST = (
    "exception", "status", "assignment", "group", "override", "gate", "withhold", "grant", "set", "limit", "list",
    "order", "rule",
)  # fmt: skip
"""The kinds of changes, in the order in which they are tried: what concerns one person first, the rules last."""


class Harm(NamedTuple):
    """How much harm a change may do, for sorting: the worse is larger.

    ``unbounded``: somebody comes to hold everything. ``high``: something of high risk is gained besides. ``power``:
    somebody comes to have power over others. ``rule``: it is a rule for the whole site. ``members``: how many are
    concerned besides.
    """

    unbounded: bool
    high: bool
    power: bool
    rule: bool
    members: int


class Way(NamedTuple):
    """A change that gives the other answer.

    ``what`` says it in a sentence; ``command`` makes it; ``kinds`` are its kinds, one for each single change; ``where``
    is the spot of the first in the files; ``lines`` how many lines change. At the moment asked about it changes
    ``answers`` other answers (member, place, capability) of ``members`` members, and ``acts``: how many ranks more or
    fewer members may act on.
    ``charter`` and ``register`` are what they would be afterwards.
    """

    what: str
    kinds: tuple[str, ...]
    where: Where
    lines: int
    answers: int
    members: int
    charter: Charter
    register: Register
    command: str = ""
    acts: int = 0
    harm: Harm = Harm(unbounded=False, high=False, power=False, rule=False, members=0)

    def __str__(self) -> str:
        return f"{self.what} ({self.said_besides})"

    @property
    def said_besides(self) -> str:
        """What else it changes, in words."""
        if not self.answers and not self.acts:
            return "no other answer changes"
        parts = []
        if self.answers:
            people = how_many(self.members, "member")
            parts.append(f"also changes {how_many(self.answers, 'other answer')} ({people})")
        if self.acts:
            many = f"{how_many(self.acts, 'answer')} about whom members may act on"
            parts.append(many if parts else f"also changes {many}")
        said = " and ".join(parts)
        return f"{said}; it makes somebody unbounded" if self.harm.unbounded else said


class Ways(Printed, list[Way]):
    """Ways to turn an answer, the least harmful first; ``allowed`` is the answer that they turn."""

    def __init__(self, ways: Iterable[Way], *, allowed: bool) -> None:
        super().__init__(ways)
        self.allowed = allowed

    def __repr__(self) -> str:
        return f"<Ways: {len(self)} that change a {'yes' if self.allowed else 'no'}>"


def capability_ways(
    decider: Decider,
    who: str,
    capability: str,
    place: int,
    at: Instant,
    told: Told | None = None,
    *,
    every: bool = False,
) -> Ways:
    """Return the changes that change the answer whether someone may use a capability, by its full name, somewhere."""
    key = decider.compiled.places[place].key

    def put(changed: Decider) -> Answer:
        return changed.may(changed.asked(who, at), capability, changed.compiled.place_at[key])

    asked = decider.asked(who, at)
    about = CapabilityCandidates(decider, asked, capability, place, at)
    candidates = list(about.taking() if put(decider) else about.giving())
    own = (key, capability, asked.key) if asked.sort is Sort.MEMBER else None
    return Ways(_Trial(decider, put, at, own).ways(candidates, told, every=every), allowed=put(decider).allowed)


def act_ways(
    decider: Decider, who: str, act: ActAsked, at: Instant, told: Told | None = None, *, every: bool = False
) -> Ways:
    """Return the changes that change the answer whether someone may do something to somebody."""

    def put(changed: Decider) -> Answer:
        return act.put(changed, changed.asked(who, at), at)

    about = ActCandidates(decider, decider.asked(who, at), act, at)
    candidates = list(about.taking() if put(decider) else about.giving())
    return Ways(_Trial(decider, put, at, None).ways(candidates, told, every=every), allowed=put(decider).allowed)


class _Trial:
    """Tries changes on one question; ``own`` is the answer asked about, which does not count as another's."""

    def __init__(self, decider: Decider, put: Question, at: Instant, own: tuple[str, str, str | None] | None) -> None:
        self.decider, self.put, self.at, self.own = decider, put, at, own
        self.wanted = not put(decider).allowed
        self.charter, self.register = decider.compiled.charter, decider.people.register

    def ways(self, candidates: Sequence[Candidate], told: Told | None, *, every: bool = False) -> list[Way]:
        """Return the single changes that change the answer, fewest side effects first; where there is none, the pairs.

        They are tried in the order of harm until five stand; with ``every`` all of them are.
        """
        candidates = sorted(candidates, key=self._likely_harm)
        turning = self._some([(candidate,) for candidate in candidates], told, every=every)
        # two changes are proposed only where no single one will do
        if not turning:
            turning = self._some(list(combinations(candidates[:_MOST_IN_PAIRS], 2)), told, every=every)
        return sorted(turning, key=_least_harm_first)

    def _some(self, combined: list[tuple[Candidate, ...]], told: Told | None, *, every: bool) -> list[Way]:
        ways = self._tried(combined, told)
        return list(ways) if every else list(islice(ways, ENOUGH))

    def _likely_harm(self, candidate: Candidate) -> tuple[bool, int]:
        """Order candidates before they are tried; what makes somebody unbounded comes last."""
        words = candidate.command.split()
        rank = self.charter.ranks.get(words[2]) if words[1] == Act.ASSIGN else None
        return rank is not None and rank.unbounded, _MILDEST_FIRST.index(candidate.kind)

    def _tried(self, combined: list[tuple[Candidate, ...]], told: Told | None) -> Iterator[Way]:
        done: set[str] = set()
        commands: set[str] = set()
        for n, candidates in enumerate(combined):
            command = " && ".join(candidate.command for candidate in candidates)
            # two candidates may say the same, and a milder one may have done already
            if command in commands or any(candidate.unless in done for candidate in candidates):
                continue
            commands.add(command)
            charter, register = self.charter, self.register
            for candidate in candidates:
                charter, register = candidate.apply(charter, register)
            changed = self.decider.after(charter, register)
            if self.put(changed).allowed is self.wanted:
                difference = self._difference(charter, register)
                # what nobody may do, not even who keeps the files, is no way
                if not Conditions(difference, self.at).refusals:
                    done.update(candidate.what for candidate in candidates)
                    yield self._way(candidates, changed, command, difference)
            if told:
                told(n + 1, len(combined))

    def _difference(self, charter: Charter, register: Register) -> Difference:
        return Difference(State(self.charter, self.register), State(charter, register), self.at)

    def _way(self, candidates: tuple[Candidate, ...], changed: Decider, command: str, difference: Difference) -> Way:
        place, capability, member = self.own or ("", "", None)
        # who asks has a row of their own, so that their own answer is not told as a side effect
        compared = crowds(self.decider, changed, self.at, apart=member)
        mine = [] if member is None else compared.rows_of(member)
        turns = turned(self.decider, changed, compared, (place, capability, mine) if mine else None)
        members = compared.count(turns.rows)
        acts = ActShifts(self.decider, changed, difference, self.at)
        capabilities = changed.compiled.catalogue.capabilities
        harm = Harm(
            _frees(compared, self.decider, changed),
            any(capabilities[key].risk == "high" for key in turns.gained if key in capabilities),
            acts.gains_power,
            any(candidate.kind == "rule" for candidate in candidates),
            members,
        )
        what = ", and ".join(candidate.what for candidate in candidates)
        return Way(
            upper(what),
            tuple(candidate.kind for candidate in candidates),
            min((candidate.where for candidate in candidates), key=_in_file),
            sum(candidate.lines for candidate in candidates),
            turns.answers,
            members,
            changed.compiled.charter,
            changed.people.register,
            command,
            acts.count,
            harm,
        )


def _frees(found: Crowds, old: Decider, new: Decider) -> bool:
    """Whether anybody comes to hold an unbounded rank."""
    for before, after in zip(found.old, found.new, strict=True):
        if _is_free(new, after) and not _is_free(old, before):
            return True
    return False


def _is_free(decider: Decider, state: ClassState) -> bool:
    if state.profile is None:
        return False
    ranks = {*state.profile.automatic, *(rank for rank, _ in state.profile.placed)}
    return not decider.compiled.unbounded.isdisjoint(ranks)


def _least_harm_first(way: Way) -> tuple[object, ...]:
    return way.harm, way.answers + way.acts, way.lines, _in_file(way.where)


def _in_file(where: Where) -> tuple[bool, str, int]:
    """Order spots as they stand in the files; what has yet to be written comes last."""
    return not where.line, where.file, where.line


def mending(decider: Decider, unmet: Unmet, at: Instant) -> str:
    """Return the command that makes an expectation hold, the least harmful of those tried; empty where none does.

    Of one that speaks of many the first is looked at for whom it does not hold; afterwards it has to hold for all.
    """
    expectation = unmet.expectation
    if expectation.never or expectation.on is not None:
        return ""
    wrong = next(iter(wrong_answers(decider, expectation, at)), None)
    if wrong is None:
        return ""
    ways = _ways(decider, unmet, wrong, at)
    holds = (way for way in ways if unmet_one(decider.after(way.charter, way.register), expectation, at) is None)
    return next((each.command for each in holds), "")


def _ways(decider: Decider, unmet: Unmet, asked: Asked, at: Instant) -> Ways:
    expectation, who = unmet.expectation, _named(asked)
    if expectation.act is None:
        full = full_name(decider, expectation.capability or "", asked, expectation.author)
        return capability_ways(decider, who, full, decider.compiled.place_at[expectation.place], at)
    using = full_name(decider, expectation.capability, asked, None) if expectation.capability else None
    rank, target = expectation.target, expectation.member
    if expectation.act == Act.MODERATE and target is None:
        rank, target = None, as_rank(rank or "")
    return act_ways(decider, who, ActAsked(expectation.act, rank, target, expectation.place, using), at)


def _named(asked: Asked) -> str:
    if asked.sort is Sort.MEMBER:
        return asked.key or ""
    return VISITOR if asked.key is None else as_rank(asked.key)
