"""The usual question, answered by a few look-ups: the one place of the program that is written for speed alone.

Whoever was asked about before belongs to a class of members that answer alike, and what a class can use at a place is a
set of names that is kept. ``benchmarks/whole_platform.py`` holds this to a multiple of a bare look-up.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeAlias

from ask_above.charter.moments import Instant
from ask_above.decide.answer import Answer
from ask_above.decide.classes import MemberClass
from ask_above.decide.decider import Decider

Clock: TypeAlias = Callable[[], int]
"""Gives the nanoseconds since 1970."""


class QuickAnswers:
    """Answers what was asked before about somebody at a place, and nothing else.

    ``answer(who, capability, at, author, now)`` returns the answer at a moment, given in nanoseconds since 1970, and
    without one at that of the clock; ``None`` where it is not at hand.
    """

    __slots__ = ("_made_of", "answer", "class_of")

    def __init__(self, decider: Decider, clock: Clock) -> None:
        self._made_of = decider, clock
        ready = decider.ready
        classes, renewed = ready.classes, ready.renewed

        def renewed_first(who: str) -> MemberClass | None:
            return renewed[who] if who in renewed else classes.get(who)

        self.class_of: Callable[[str], MemberClass | None] = renewed_first if renewed else classes.get
        self.answer = _answering(decider, clock, self.class_of)

    def __reduce__(self) -> tuple[type[QuickAnswers], tuple[Decider, Clock]]:
        return QuickAnswers, self._made_of  # what answers is made anew where a community goes to another process

    def is_always_so(self, who: str) -> bool:
        """Tell whether no moment matters for somebody."""
        known = self.class_of(who)
        return known is not None and known.only is not None


def _answering(
    decider: Decider, clock: Clock, class_of: Callable[[str], MemberClass | None]
) -> Callable[[str, str, str, str | None, int | None], Answer | None]:
    """Return what answers: a function over what it looks up, as that is reached faster than what an object has."""
    ready, catalogue, members = decider.ready, decider.compiled.catalogue, decider.people.register.members
    usable_at, state_at = ready.usable.get, ready.at
    known, pairs, account = catalogue.bit, catalogue.pairs, decider.account_at

    def answer(who: str, capability: str, at: str, author: str | None, now: int | None) -> Answer | None:
        member_class, usable = class_of(who), usable_at(at)
        if member_class is None or usable is None:
            return None
        state = member_class.only
        if state is None:
            if now is None:
                now = clock()
            # most have begun long ago: then the last state is the one
            state = member_class.states[-1] if member_class.last_edge <= now else None
            if state is None:
                state = state_at(member_class, now // 1000)
        names = usable.get(state)
        if names is None or (author is not None and author not in members):
            return None
        if capability not in known:
            if capability not in pairs:
                return None
            own, everybody = pairs[capability]
            capability = own if author == who else everybody
        return Answer(capability in names, account, (who, capability, at, now or 0))

    return answer


def nanoseconds(instant: Instant) -> int:
    """Return an instant as what an answer at a moment takes."""
    return instant * 1000
