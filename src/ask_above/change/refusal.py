"""Why a change may not be made."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from ask_above.decide.answer import Step


class Refusal(NamedTuple):
    """Why a part of a change is out of somebody's reach.

    ``rule`` is the one that says so; ``spoke`` tells whether an act (giving a rank, say) or an edit stands against it.
    ``passable`` marks what the keeper of the files may pass by, with a reason.
    """

    rule: str
    why: str
    spoke: str = "edit"
    passable: bool = False

    def __str__(self) -> str:
        return f"{self.why} [{self.spoke}, {self.rule}]"


def failing(steps: Iterable[Step], spoke: str) -> Iterator[Refusal]:
    """Yield a refusal for each step that stands against it."""
    return (Refusal(step.rule, step.text, spoke) for step in steps if step.holds is False)
