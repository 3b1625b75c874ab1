"""The usual question, answered by two look-ups: the one place of the program that is written for speed alone.

Whoever was asked about before belongs to a class of members that answer alike, and what a class can use at a place is a
set of names that is kept. ``benchmarks/whole_platform.py`` holds this to a multiple of a bare look-up.
"""

from __future__ import annotations

from ask_above.charter.moments import Instant
from ask_above.decide.answer import Answer
from ask_above.decide.classes import MemberClass
from ask_above.decide.decider import Decider


class QuickAnswers:
    """Answers what was asked before about somebody at a place, and nothing else."""

    __slots__ = ("_account", "_classes", "_known", "_members", "_pairs", "_ready", "_renewed", "_usable")

    def __init__(self, decider: Decider) -> None:
        ready, catalogue = decider.ready, decider.compiled.catalogue
        self._account, self._ready, self._members = decider.account_of, ready, decider.people.register.members
        self._classes, self._renewed, self._usable = ready.classes, ready.renewed, ready.usable
        self._known, self._pairs = catalogue.bit, catalogue.pairs

    def answer(self, who: str, capability: str, at: str, author: str | None) -> Answer | None:
        """Return the answer where no moment matters; ``None`` where it is not at hand."""
        known = self.class_of(who) if self._renewed else self._classes.get(who)
        if known is None or known.only is None:
            return None
        names = self._usable[at].get(known.only) if at in self._usable else None
        if names is None:
            return None
        if author is not None or capability in self._pairs:
            pair = self._pairs.get(capability)
            if pair is not None:
                capability = pair[0] if author == who else pair[1]
            if author is not None and author not in self._members:
                return None
        if capability in names:
            return Answer(True, self._account, (who, capability, at, 0))
        if capability in self._known:
            return Answer(False, self._account, (who, capability, at, 0))
        return None

    def answer_at(self, who: str, capability: str, at: str, author: str | None, now: Instant) -> Answer | None:
        """Return the answer at a moment; ``None`` where it is not at hand."""
        known = self.class_of(who)
        names = None if known is None or at not in self._usable else self._usable[at].get(self._ready.at(known, now))
        if names is None or (author is not None and author not in self._members):
            return None
        pair = self._pairs.get(capability)
        full = capability if pair is None else pair[0] if author == who else pair[1]
        if full not in self._known:
            return None
        return Answer(full in names, self._account, (who, full, at, now))

    def class_of(self, who: str) -> MemberClass | None:
        """Return the class that somebody belongs to, where that is known."""
        return self._renewed[who] if who in self._renewed else self._classes.get(who)
