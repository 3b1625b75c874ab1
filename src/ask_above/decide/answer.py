"""An answer, and the steps that led to it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

from ask_above.decide.words import say
from ask_above.printing import in_notebook
from ask_above.visible import visible


class Step(NamedTuple):
    """One step on the way to an answer.

    ``rule`` cites the rule that the step follows. ``gives`` and ``takes`` are the capabilities that the step adds to
    what is held or removes from it, of those that the question rests on. ``holds`` is ``False`` for a step that makes
    the answer a no, ``True`` for a condition that is met or that makes it a yes, ``None`` for one that does neither.
    """

    rule: str
    code: str
    words: Mapping[str, object]
    gives: frozenset[str] = frozenset()
    takes: frozenset[str] = frozenset()
    holds: bool | None = None

    @property
    def text(self) -> str:
        """The step in words."""
        return say(self.code, self.words)

    @property
    def mark(self) -> str:
        """``+`` for what gives or is met, ``-`` for what takes or is not, else a blank."""
        if self.takes or self.holds is False:
            return "-"
        return "+" if self.gives or self.holds else " "

    @property
    def short(self) -> str:
        """The step in a few words, for tables."""
        return say(f"{self.code}/short", self.words)

    def __str__(self) -> str:
        return f"{self.text} [{self.rule}]"


class Account(NamedTuple):
    """How an answer came about: the question, the verdict in a sentence, its reason, and the steps."""

    sentence: str
    reason: str
    steps: tuple[Step, ...]
    notes: tuple[str, ...] = ()
    rests: frozenset[str] = frozenset()


class Answer:
    """A yes or a no that can say how it came about.

    True or false like a bool. The account is made when it is first read: asking costs no more than the answer.

    >>> from ask_above import Community
    >>> answer = Community.demo().may("rank:member", "post.write", at="notices")
    >>> bool(answer), answer.allowed
    (False, False)
    >>> answer.reason
    'The place Notices denies post.write to Member (charter.yaml line ...).'
    """

    __slots__ = ("_account", "_tell", "_what", "allowed")

    def __init__(self, allowed: bool, tell: Callable[..., Account], what: tuple[Any, ...] = ()) -> None:
        self.allowed, self._tell, self._what = allowed, tell, what
        self._account: Account | None = None

    def __bool__(self) -> bool:
        return self.allowed

    @property
    def account(self) -> Account:
        """How the answer came about."""
        if self._account is None:
            self._account = self._tell(*self._what)
        return self._account

    @property
    def reason(self) -> str:
        """The last step that decided, in a sentence; for an act every reason why not."""
        return self.account.reason

    @property
    def steps(self) -> tuple[Step, ...]:
        """The steps that led to the answer, in order, each with the rule it follows."""
        return self.account.steps

    @property
    def notes(self) -> tuple[str, ...]:
        """What one should know besides, such as whom a capability may be used on."""
        return self.account.notes

    def __repr__(self) -> str:
        return f"Answer({self.allowed}, {self.reason!r})"

    def __str__(self) -> str:
        account = self.account
        lines = [account.sentence, f"Because: {account.reason}", "", "Explanation:"]
        lines += [f"  {step.mark} {step}" for step in account.steps]
        lines += [f"Note: {note}" for note in account.notes]
        return "\n".join(map(visible, lines))

    def _repr_html_(self) -> str:
        return in_notebook(self)

    def as_data(self) -> dict[str, Any]:
        """Return the answer as plain data, as ``--format json`` prints it."""
        return {
            "allowed": self.allowed,
            "question": self.account.sentence,
            "reason": self.reason,
            "steps": [
                {
                    "rule": step.rule,
                    "code": step.code,
                    "text": step.text,
                    "gives": sorted(step.gives),
                    "takes": sorted(step.takes),
                    "holds": step.holds,
                }
                for step in self.steps
            ],
            "notes": list(self.notes),
        }
