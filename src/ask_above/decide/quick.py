"""The usual question, answered by two look-ups: the one place of the program that is written for speed alone.

Whoever was asked about before belongs to a class of members that answer alike, and what a class can use at a place is a
set of names that is kept. ``benchmarks/whole_platform.py`` holds this to a multiple of a bare look-up.
"""

from __future__ import annotations

from collections.abc import Callable

from ask_above.charter.moments import Instant
from ask_above.decide.answer import Answer
from ask_above.decide.classes import MemberClass
from ask_above.decide.decider import Decider


class QuickAnswers:
    """Answers what was asked before about somebody at a place, and nothing else."""

    __slots__ = ("_account", "_classes", "_clock", "_known", "_members", "_pairs", "_renewed", "_state_at", "_usable")

    def __init__(self, decider: Decider, clock: Callable[[], Instant]) -> None:
        self._clock = clock
        ready, catalogue = decider.ready, decider.compiled.catalogue
        self._account, self._state_at, self._members = decider.account_of, ready.at, decider.people.register.members
        self._classes, self._renewed, self._usable = ready.classes, ready.renewed, ready.usable
        self._known, self._pairs = catalogue.bit, catalogue.pairs

    def answer(
        self, who: str, capability: str, at: str, author: str | None, now: Instant | None = None
    ) -> Answer | None:
        """Return the answer at a moment, without one that of the clock; ``None`` where it is not at hand."""
        known = self.class_of(who) if self._renewed else self._classes.get(who)
        usable = self._usable.get(at)
        if known is None or usable is None:
            return None
        state = known.only
        if state is None:
            now = self._clock() if now is None else now
            # most have begun long ago: then the last state is the one
            state = (known.states[-1] if known.last_edge <= now else None) or self._state_at(known, now)
        names = usable.get(state)
        if names is None or (author is not None and author not in self._members):
            return None
        if capability in self._pairs:
            own, everybody = self._pairs[capability]
            capability = own if author == who else everybody
        if capability in names:
            return Answer(True, self._account, (who, capability, at, now or 0))
        if capability in self._known:
            return Answer(False, self._account, (who, capability, at, now or 0))
        return None

    def is_always_so(self, who: str) -> bool:
        """Tell whether no moment matters for somebody."""
        known = self.class_of(who)
        return known is not None and known.only is not None

    def class_of(self, who: str) -> MemberClass | None:
        """Return the class that somebody belongs to, where that is known."""
        return self._renewed[who] if who in self._renewed else self._classes.get(who)
