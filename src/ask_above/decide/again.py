"""Answers kept for whoever asks again: the one place of the program that is written for speed alone.

A site asks the same few hundred questions at every click. An answer is kept under all that was asked, for as long as
nothing that it was made from can change: a community never changes, so what is left is time.
``benchmarks/questions.py`` holds a question asked again to a multiple of a bare look-up.
"""

from __future__ import annotations

from typing import Final, TypeAlias

from ask_above.decide.answer import Answer
from ask_above.decide.profile import Asked

Question: TypeAlias = tuple[str, str, str] | tuple[str, str, str, str]
"""Who, which capability, at which place, and whose the thing is where it is somebody's."""

MOST_KEPT: Final = 1 << 17
"""How many answers are kept: about 50 MB. The next one begins a new table."""
_ALWAYS: Final = float("inf")


class AnswersKept:
    """Answers that are all true from one moment until another, in seconds since 1970.

    ``stretch`` holds both moments and the answers. Its bounds never move: a table with other bounds is another table.
    So whoever has read the three of them may look up in the third, whatever another thread keeps meanwhile.
    """

    __slots__ = ("stretch",)

    def __init__(self) -> None:
        self.stretch: tuple[float, float, dict[Question, Answer]] = (-_ALWAYS, _ALWAYS, {})

    def __reduce__(self) -> tuple[type[AnswersKept], tuple[()]]:
        return AnswersKept, ()  # in another process every question is asked for the first time

    def keep(self, question: Question, answer: Answer, asked: Asked, seconds: float) -> None:
        """Keep an answer that holds for as long as whoever was asked about stays what they are."""
        since = -_ALWAYS if asked.since is None else asked.since / 1e6
        until = _ALWAYS if asked.until is None else asked.until / 1e6
        first, last, known = self.stretch
        if not first <= seconds < last:  # another time has begun
            first, last, known = -_ALWAYS, _ALWAYS, {}
        # never narrowed in place: another thread may be between reading the bounds and looking up
        if since > first or until < last or len(known) >= MOST_KEPT:
            first, last, known = max(since, first), min(until, last), {}
        known[question] = answer
        self.stretch = first, last, known
