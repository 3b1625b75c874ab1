"""What would make an expectation hold again: the least harmful change that turns its answer, and lets it hold whole."""

from __future__ import annotations

from ask_above.ask.expect import Unmet, full_name, unmet_one, wrong_answers
from ask_above.ask.ways.search import Ways, act_ways, capability_ways
from ask_above.charter.moments import Instant
from ask_above.charter.names import as_rank
from ask_above.charter.rules import Act
from ask_above.decide.acts import ActAsked
from ask_above.decide.decider import VISITOR, Decider
from ask_above.decide.profile import Asked, Sort


def mending(decider: Decider, unmet: Unmet, at: Instant) -> str:
    """Return the command that makes an expectation hold, the least harmful of those tried; empty where none does.

    Of one that speaks of many the first is looked at for whom it does not hold; afterwards it has to hold for all.
    """
    expectation = unmet.expectation
    if expectation.never or expectation.on is not None:
        return ""
    wrong = next(iter(wrong_answers(decider, expectation, at)), None)
    if wrong is None:
        return ""
    ways = _ways(decider, unmet, wrong, at)
    holds = (way for way in ways if unmet_one(decider.after(way.charter, way.register), expectation, at) is None)
    return next((each.command for each in holds), "")


def _ways(decider: Decider, unmet: Unmet, asked: Asked, at: Instant) -> Ways:
    expectation, who = unmet.expectation, _named(asked)
    if expectation.act is None:
        full = full_name(decider, expectation.capability or "", asked, expectation.author)
        return capability_ways(decider, who, full, decider.compiled.place_at[expectation.place], at)
    using = full_name(decider, expectation.capability, asked, None) if expectation.capability else None
    rank, target = expectation.target, expectation.member
    if expectation.act == Act.MODERATE and target is None:
        rank, target = None, as_rank(rank or "")
    return act_ways(decider, who, ActAsked(expectation.act, rank, target, expectation.place, using), at)


def _named(asked: Asked) -> str:
    if asked.sort is Sort.MEMBER:
        return asked.key or ""
    return VISITOR if asked.key is None else as_rank(asked.key)
