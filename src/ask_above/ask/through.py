"""Where a right comes from, and where it reaches (rules 3 to 5)."""

from __future__ import annotations

from ask_above.decide.answer import Answer
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Asked


def through(answer: Answer, capability: str) -> list[str]:
    """Return what gives someone a capability that they may use: each thing that would have to go for them to lose it.

    These are the gates that let them in, and the steps that give it after the last one that took it: ranks that grant
    it, places that allow it.
    """
    sources: list[str] = []
    gates = [step.text.rstrip(".") for step in answer.steps if step.code == "gate-open"]
    for step in answer.steps:
        if capability in step.takes:
            sources.clear()
        elif capability in step.gives:
            if step.words.get("against"):
                sources.clear()  # without this word another one of the same place would take it
            sources.append(step.text.rstrip("."))
    return [*sources, *gates]


def where(decider: Decider, asked: Asked, capability: str) -> list[str]:
    """Return the keys of all places where someone may use a capability, given by its full name, in their order."""
    compiled = decider.compiled
    bit = compiled.catalogue.bit[capability]
    return [place.key for n, place in enumerate(compiled.places) if decider.usable(asked, n) & bit]
