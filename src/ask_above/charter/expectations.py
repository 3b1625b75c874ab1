"""The small language in which a charter says what must stay true (rules 8.1 to 8.4).

::

    expectation = subject ("may" | "may" "not") what {condition}
                | (RANK | RANK "+") "can" "never" "reach" CAPABILITY ["in" PLACE]
    subject     = RANK | RANK "+" | "@" MEMBER | "visitor" | "every" RANK | "no" RANK
    what        = CAPABILITY
                | "moderate" (RANK | "@" MEMBER) ["using" CAPABILITY]
                | "assign" RANK ["to" "@" MEMBER]
                | "unassign" RANK "of" "@" MEMBER
                | "manage" RANK
                | "call" RANK
    condition   = "in" PLACE | "by" "@" MEMBER | "on" DATE
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from ask_above.charter.moments import HOW_TO_WRITE, parse
from ask_above.charter.names import SITE, is_key
from ask_above.charter.rules import ACT_WORDS, Act
from ask_above.charter.where import NOWHERE, Where

CONDITIONS = ("in", "by", "on")


class Subject(NamedTuple):
    """Who an expectation speaks of; ``form`` is rank, above, member, visitor, every or no."""

    form: str
    key: str = ""


class Expectation(NamedTuple):
    """One sentence that must stay true.

    ``target`` is the rank acted on; ``member`` the member acted on, given the rank, or losing it. ``never`` marks one
    that says how far a rank can climb: ``can never reach``.
    """

    text: str
    subject: Subject
    allowed: bool
    act: Act | None = None
    capability: str | None = None
    target: str | None = None
    member: str | None = None
    place: str = SITE
    author: str | None = None
    on: str | None = None
    where: Where = NOWHERE
    never: bool = False

    def __str__(self) -> str:
        return self.text


class ExpectationError(ValueError):
    """A sentence that is none; ``offset`` counts characters from 0."""

    def __init__(self, offset: int, message: str, kind: str = "", name: str = "") -> None:
        super().__init__(message)
        self.offset, self.kind, self.name = offset, kind, name


Check = Callable[[str, str], None]
"""Called with what a name should be (rank, place, capability, using) and the name; raises ``LookupError``."""


def parse_expectation(text: str, known: Check, where: Where = NOWHERE) -> Expectation:
    """Read one expectation, or raise :class:`ExpectationError` with the place in the text.

    >>> parse_expectation("surveyor may post.write in readings", lambda kind, name: None).place
    'readings'
    """
    reader = _Reader(text, known)
    subject = reader.subject()
    expectation = reader.verdict(subject)._replace(where=where)
    if expectation.never:
        return reader.reach(expectation)
    return reader.conditions(reader.what(expectation))


class _Reader:
    def __init__(self, text: str, known: Check) -> None:
        self.text, self.known = text, known
        self.words: list[tuple[int, str]] = []
        at = 0
        for word in text.split():
            # where each word begins, so that a fault names its column
            at = text.index(word, at)
            self.words.append((at, word))
            at += len(word)
        self.next = 0

    def fail(self, message: str, back: int = 0) -> ExpectationError:
        at = self.next - back
        offset = self.words[at][0] if at < len(self.words) else len(self.text)
        return ExpectationError(offset, message)

    def peek(self) -> str:
        return self.words[self.next][1] if self.next < len(self.words) else ""

    def take(self, expected: str) -> str:
        if not self.peek():
            raise self.fail(f"the sentence ends where {expected} belongs")
        self.next += 1
        return self.words[self.next - 1][1]

    def name(self, kind: str, word: str | None = None) -> str:
        taken = self.take(f"a {kind}") if word is None else word
        try:
            self.known(kind, taken)
        except LookupError as unknown:
            raise ExpectationError(self.words[self.next - 1][0], str(unknown), kind, taken) from None
        return taken

    def member(self) -> str:
        word = self.take("a member, written @KEY,")
        if not word.startswith("@") or not is_key(word[1:]):
            raise self.fail(f"'{word}' stands where a member belongs; write it as @KEY, such as @petra", 1)
        return word[1:]

    def subject(self) -> Subject:
        word = self.peek()
        if word.startswith("@"):
            return Subject("member", self.member())
        word = self.take("who it speaks of (a rank, RANK+, @MEMBER, visitor, every RANK, no RANK)")
        if word == "visitor":
            return Subject("visitor")
        if word in ("every", "no"):
            return Subject(word, self.name("rank"))
        if word.endswith("+"):
            return Subject("above", self.name("rank", word[:-1]))
        return Subject("rank", self.name("rank", word))

    def verdict(self, subject: Subject) -> Expectation:
        word = self.take("'may' or 'may not'")
        if word == "can":
            return self._never(subject)
        if word != "may":
            raise self.fail(f"'{word}' stands where 'may', 'may not' or 'can never reach' belongs", 1)
        allowed = self.peek() != "not"
        # "every host may not" could be read as none or as not all, so it is not read at all
        if not allowed:
            if subject.form in ("every", "no"):
                other = "no" if subject.form == "every" else "every"
                raise self.fail(f"'{subject.form}' goes with 'may' alone; say '{other} {subject.key} may ...'")
            self.next += 1
        return Expectation(self.text, subject, allowed)

    def _never(self, subject: Subject) -> Expectation:
        if subject.form not in ("rank", "above"):
            raise self.fail("'can never reach' speaks of a rank, or of RANK+", 1)
        for expected in ("never", "reach"):
            word = self.take(f"'{expected}'")
            if word != expected:
                raise self.fail(f"'{word}' stands where '{expected}' belongs: RANK can never reach CAPABILITY", 1)
        return Expectation(self.text, subject, allowed=False, never=True)

    def reach(self, so_far: Expectation) -> Expectation:
        """Read what can never be reached; without a place it is meant anywhere."""
        # an empty place means anywhere: a climb is bad wherever it ends
        result = so_far._replace(capability=self.name("capability"), place="")
        if self.peek():
            word = self.take("")
            if word != "in":
                raise self.fail(f"'{word}' is not expected here; 'in PLACE' may follow", 1)
            result = result._replace(place=self.name("place"))
        if self.peek():
            raise self.fail(f"'{self.peek()}' is not expected here; the sentence is at its end")
        return result

    def what(self, so_far: Expectation) -> Expectation:
        word = self.take("a capability or an act")
        if word not in ACT_WORDS:
            return so_far._replace(capability=self.name("capability", word))
        result = so_far._replace(act=Act(word))
        # a member or a rank may be moderated; the other acts are on ranks
        if word == Act.MODERATE and self.peek().startswith("@"):
            result = result._replace(member=self.member())
        else:
            result = result._replace(target=self.name("rank"))
        if word == Act.MODERATE and self.peek() == "using":
            self.next += 1
            return result._replace(capability=self.name("using"))
        if word == Act.ASSIGN and self.peek() == "to":
            self.next += 1
            return result._replace(member=self.member())
        if word == Act.UNASSIGN:
            if self.peek() != "of":
                raise self.fail("'unassign' says of whom: unassign RANK of @MEMBER")
            self.next += 1
            return result._replace(member=self.member())
        return result

    def conditions(self, result: Expectation) -> Expectation:
        seen: set[str] = set()
        while self.peek():
            word = self.take("")
            if word not in CONDITIONS:
                raise self.fail(f"'{word}' is not expected here; 'in PLACE', 'by @MEMBER' or 'on DATE' may follow", 1)
            if word in seen:
                raise self.fail(f"'{word}' stands twice", 1)
            seen.add(word)
            if word == "in":
                result = result._replace(place=self.name("place"))
            elif word == "on":
                result = result._replace(on=self.moment())
            elif result.act:
                raise self.fail("'by' names the author of something; an act has none", 1)
            else:
                result = result._replace(author=self.member())
        return result

    def moment(self) -> str:
        word = self.take("a date")
        try:
            parse(word)
        except ValueError:
            raise self.fail(f"'{word}' is no date; write {HOW_TO_WRITE}", 1) from None
        return word
