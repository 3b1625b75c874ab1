"""A question about an act, which can be put to any community in which its names are known (rule 6)."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, Final, NamedTuple

from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import SITE, listed
from ask_above.charter.rules import ACT_WORDS, BETWEEN_RANKS, Act
from ask_above.decide.answer import Account, Answer, Step
from ask_above.decide.decider import Decider
from ask_above.decide.names import Names, Who
from ask_above.decide.profile import Asked
from ask_above.decide.words import in_place
from ask_above.errors import QuestionError
from ask_above.people.register import Member

GOES_WITH: Final[Mapping[str, Act]] = {"to": Act.ASSIGN, "of": Act.UNASSIGN, "using": Act.MODERATE}
"""What belongs to one act alone: whom it is given to, whom it is taken from, with which capability."""


class ActAsked(NamedTuple):
    """What is to be done: moderate ``target``; assign, unassign, manage or call ``rank``.

    ``target`` is a member's key or ``rank:KEY``: who is moderated, or whom the rank is given to or taken from; nobody
    where anybody without other ranks is meant. ``using`` is a capability's full name; without it any will do.
    """

    name: Act
    rank: str | None = None
    target: str | None = None
    place: str = SITE
    using: str | None = None

    def put(self, decider: Decider, actor: Asked, at: Instant, *, enough: int | None = None) -> Answer:
        """Answer whether someone may do it; a no with so many reasons, or with all."""
        compiled, site = decider.compiled, self.name is Act.MANAGE
        place = 0 if site else compiled.place_at[self.place]
        rank, target = compiled.charter.ranks.get(self.rank or ""), self.acted_on(decider, at)
        case = decider.case(actor, place, at)
        case.enough = enough
        steps = case.put(self.name, rank, target, (self.using,) if self.using else ())
        allowed = not any(step.holds is False for step in steps)
        where = "" if site else f" {in_place(compiled.places[place].called, site=place == 0)}"
        may = f"{actor.label} {'may' if allowed else 'may not'} {self._doing(actor, rank, target)}{where}."
        return Answer(allowed, _teller(steps, f"{'Yes' if allowed else 'No'}: {may}", allowed=allowed))

    def acted_on(self, decider: Decider, at: Instant) -> Asked | None:
        """Return whom it is done to."""
        return None if self.target is None else decider.asked(self.target, at)

    def _doing(self, actor: Asked, rank: Rank | None, target: Asked | None) -> str:
        """Return what is done, after 'may'."""
        title, label = rank.called if rank else "", target.label if target else ""
        oneself = target is not None and target.member is not None and target.key == actor.key
        match self.name:
            case Act.MODERATE:
                return f"moderate {label}" + (f" using {self.using}" if self.using else "")
            case Act.ASSIGN:
                return f"assign {title}" + (f" to {'themselves' if oneself else label}" if target else "")
            case Act.UNASSIGN:
                return f"give up {title}" if oneself else f"unassign {title} from {label}"
            case Act.MANAGE:
                return f"manage {title}"
            case _:
                return f"call {title}"


def _teller(steps: list[Step], sentence: str, *, allowed: bool) -> Callable[[], Account]:
    """Return what tells how an answer came about, when somebody reads it."""

    def tell() -> Account:
        deciding = [step for step in steps if step.holds is allowed]
        reason = " ".join(step.text for step in (deciding[-1:] if allowed else deciding))
        return Account(sentence, reason or "Every condition is met.", tuple(steps))

    return tell


def who_may(decider: Decider, asked_for: ActAsked, at: Instant) -> Iterator[tuple[Asked, Answer]]:
    """Yield the members who may do it, each with their own answer; nobody like one who may not is asked about again."""
    refused: set[object] = set()
    for asked in decider.people.all(at):
        alike = (asked.profile, asked.owner, asked.status, asked.key == asked_for.target)
        if alike in refused:
            continue
        answer = asked_for.put(decider, asked, at, enough=1)  # why they may not nobody is told
        if answer:
            yield asked, answer
        else:
            refused.add(alike)


def act_named(act: str, known: Sequence[Act] = BETWEEN_RANKS) -> Act:
    """Return an act by its name; raises :class:`QuestionError` for what is none of the ones asked about."""
    if act not in known:
        raise QuestionError(f"'{act}' is none of the acts {', '.join(known)}.")
    return Act(act)


def act_of(
    names: Names,
    act: str,
    target: Who | None,
    *,
    at: str = SITE,
    to: str | Member | None = None,
    of: str | Member | None = None,
    using: str | None = None,
) -> ActAsked:
    """Return a question about an act with all its names found; raises for what belongs to another act."""
    act = act_named(act, ACT_WORDS)
    _check_goes_with(act, {"to": to, "of": of, "using": using})
    if target is None:
        raise QuestionError(f"'{act}' needs whom or which rank.")
    place = names.place(at).key
    if act == Act.MODERATE:
        return ActAsked(Act.MODERATE, None, names.who(target), place, names.using(using))
    rank = names.rank(target.key if isinstance(target, Member) else target).key
    other = to if act == Act.ASSIGN else of if act == Act.UNASSIGN else None
    if act == Act.UNASSIGN and other is None:
        raise QuestionError("'unassign' needs from whom.")
    return ActAsked(act, rank, None if other is None else names.who(other), place)


def asked_for(names: Names, what: str, target: Who | None, *, at: str, **more: Any) -> ActAsked | None:
    """Return the act that is asked about, ``None`` where it is a capability; ``more`` is as :func:`act_of` has it."""
    if what in ACT_WORDS:
        return act_of(names, what, target, at=at, **more)
    _check_goes_with(what, more)
    if target is not None:
        raise QuestionError(f"Nobody is acted on with a capability, so 'target' goes with {listed(ACT_WORDS, 'or')}.")
    return None


def _check_goes_with(act: str, more: Mapping[str, object]) -> None:
    for word, value in more.items():
        if value is not None and act != GOES_WITH[word]:
            raise QuestionError(f"'{word}' goes with {GOES_WITH[word]} alone.")
