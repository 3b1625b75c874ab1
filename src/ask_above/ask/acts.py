"""A question about an act, which can be put to any community in which its names are known (rule 6)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from ask_above.charter.expectations import ACT_WORDS
from ask_above.charter.moments import Instant
from ask_above.charter.names import SITE
from ask_above.decide.answer import Answer
from ask_above.decide.decider import Decider
from ask_above.decide.names import Names, Who
from ask_above.decide.profile import Asked
from ask_above.errors import QuestionError
from ask_above.people.register import Member

NAMES = ACT_WORDS
"""The acts that can be asked about."""


class Act(NamedTuple):
    """What is to be done: moderate ``target``; assign, unassign, manage or call on ``rank``.

    ``target`` is a member's key or ``rank:KEY``: who is moderated, or whom the rank is given to or taken from.
    ``using`` is a capability's full name.
    """

    name: str
    rank: str | None = None
    target: str | None = None
    place: str = SITE
    using: str | None = None

    def put(self, decider: Decider, actor: Asked, at: Instant) -> Answer:
        """Answer whether someone may do it."""
        place = decider.compiled.place_at[self.place]
        target = self.acted_on(decider, at)
        if self.name == "moderate" and target is not None:
            return decider.moderate(actor, target, place, at, self.using)
        rank = decider.compiled.charter.ranks[self.rank or ""]
        if self.name == "assign":
            return decider.assign(actor, rank, target, place, at)
        if self.name == "unassign" and target is not None:
            return decider.unassign(actor, rank, target, place, at)
        return decider.manage(actor, rank, at) if self.name == "manage" else decider.call(actor, rank, place, at)

    def acted_on(self, decider: Decider, at: Instant) -> Asked | None:
        """Return whom it is done to."""
        return None if self.target is None else decider.asked(self.target, at)


def who_may(decider: Decider, act: Act, at: Instant) -> Iterator[tuple[Asked, Answer]]:
    """Yield the members who may do it, each with their own answer; nobody like one who may not is asked about again."""
    refused: set[object] = set()
    for asked in decider.people.all(at):
        alike = (asked.profile, asked.owner, asked.status, asked.key == act.target)
        if alike in refused:
            continue
        answer = act.put(decider, asked, at)
        if answer:
            yield asked, answer
        else:
            refused.add(alike)


def act_of(
    names: Names,
    name: str,
    target: Who | None,
    *,
    at: str = SITE,
    to: str | Member | None = None,
    of: str | Member | None = None,
    using: str | None = None,
) -> Act:
    """Return an act with all its names found."""
    if target is None:
        raise QuestionError(f"'{name}' needs whom or which rank.")
    place = names.place(at).key
    if name == "moderate":
        return Act(name, None, names.who(target), place, names.using(using))
    rank = names.rank(target.key if isinstance(target, Member) else target).key
    other = to if name == "assign" else of if name == "unassign" else None
    if name == "unassign" and other is None:
        raise QuestionError("'unassign' needs from whom.")
    return Act(name, rank, None if other is None else names.who(other), place)
