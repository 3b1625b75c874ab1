"""The smallest changes that would turn an answer, each tried on the changed charter or register."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import combinations
from typing import NamedTuple, TypeAlias

from ask_above.ask.act_candidates import ActCandidates
from ask_above.ask.acts import Act
from ask_above.ask.candidates import Candidate, Capability
from ask_above.ask.differences import crowds, turned
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant
from ask_above.charter.where import Where
from ask_above.decide.answer import Answer
from ask_above.decide.may import Decider
from ask_above.people.register import Register

Question: TypeAlias = Callable[[Decider], Answer]
"""Puts one and the same question to a community, changed or not."""

Told: TypeAlias = Callable[[int, int], None]
"""Called with how many changes have been tried, and how many there are."""

_MOST_IN_PAIRS = 90


class Way(NamedTuple):
    """A change that turns the answer.

    ``what`` says it in a sentence; ``kinds`` are its kinds, one for each single change; ``where`` is the spot of the
    first in the files; ``lines`` how many lines change. It would turn ``answers`` other answers (member, place,
    capability) of ``members`` members. ``charter`` and ``register`` are what they would be afterwards.
    """

    what: str
    kinds: tuple[str, ...]
    where: Where
    lines: int
    answers: int
    members: int
    charter: Charter
    register: Register

    def __str__(self) -> str:
        return f"{self.what} ({self.said_besides})"

    @property
    def said_besides(self) -> str:
        """What else it would turn, in words."""
        if not self.answers:
            return "turns no other answer of anybody"
        people = f"{self.members} member{'' if self.members == 1 else 's'}"
        return f"turns {self.answers} other answer{'' if self.answers == 1 else 's'} of {people}"


def capability_ways(
    decider: Decider, who: str, capability: str, place: int, at: Instant, told: Told | None = None
) -> list[Way]:
    """Return the ways to turn the answer whether someone may use a capability, by its full name, at a place."""
    key = decider.frame.places[place].key

    def put(changed: Decider) -> Answer:
        return changed.may(changed.asked(who, at), capability, changed.frame.place_at[key])

    asked = decider.asked(who, at)
    about = Capability(decider, asked, capability, place, at)
    found = list(about.taking() if put(decider) else about.giving())
    own = (key, capability, asked.key) if asked.form == "member" else None
    return _Trial(decider, put, at, own).ways(found, told)


def act_ways(decider: Decider, who: str, act: Act, at: Instant, told: Told | None = None) -> list[Way]:
    """Return the ways to turn the answer whether someone may do something to somebody."""

    def put(changed: Decider) -> Answer:
        return act.put(changed, changed.asked(who, at), at)

    about = ActCandidates(decider, decider.asked(who, at), act, at)
    found = list(about.taking() if put(decider) else about.giving())
    return _Trial(decider, put, at, None).ways(found, told)


class _Trial:
    """Tries changes on one question; ``own`` is the answer asked about, which does not count as another's."""

    def __init__(self, decider: Decider, put: Question, at: Instant, own: tuple[str, str, str | None] | None) -> None:
        self.decider, self.put, self.at, self.own = decider, put, at, own
        self.wanted = not put(decider).allowed
        self.charter, self.register = decider.frame.charter, decider.people.register

    def ways(self, candidates: Sequence[Candidate], told: Told | None) -> list[Way]:
        """Return the single changes that turn the answer; where there is none, the pairs that do."""
        found = list(self._tried([(each,) for each in candidates], told))
        if not found:
            found = list(self._tried(list(combinations(candidates[:_MOST_IN_PAIRS], 2)), told))
        return sorted(found, key=_smallest_first)

    def _tried(self, combined: list[tuple[Candidate, ...]], told: Told | None) -> Iterator[Way]:
        done: set[str] = set()
        for n, candidates in enumerate(combined):
            if any(each.unless in done for each in candidates):
                continue
            charter, register = self.charter, self.register
            for each in candidates:
                charter, register = each.apply(charter, register)
            changed = self.decider.after(charter, register)
            if self.put(changed).allowed is self.wanted:
                done.update(each.what for each in candidates)
                yield self._way(candidates, changed)
            if told:
                told(n + 1, len(combined))

    def _way(self, candidates: tuple[Candidate, ...], changed: Decider) -> Way:
        answers, members = self._besides(changed)
        what = ", and ".join(each.what for each in candidates)
        return Way(
            f"{what[:1].upper()}{what[1:]}",
            tuple(each.kind for each in candidates),
            min((each.where for each in candidates), key=_in_file),
            sum(each.lines for each in candidates),
            answers,
            members,
            changed.frame.charter,
            changed.people.register,
        )

    def _besides(self, changed: Decider) -> tuple[int, int]:
        """Count the other answers that a change turns, and the members whose answers they are."""
        place, capability, member = self.own or ("", "", None)
        found = crowds(self.decider, changed, self.at, apart=member)
        mine = [] if member is None else found.rows_of(member)
        answers, rows = turned(self.decider, changed, found, (place, capability, mine) if mine else None)
        return answers, found.members(rows)


def _smallest_first(way: Way) -> tuple[object, ...]:
    return way.answers, way.lines, _in_file(way.where)


def _in_file(where: Where) -> tuple[bool, str, int]:
    """Order spots as they stand in the files; what has yet to be written comes last."""
    return not where.line, where.file, where.line
