"""What ``print`` shows of an answer: the text of the command that gives it, drawn by the room that draws.

An answer knows nothing of how it looks. Here stands, for each kind of answer, the function that shows it; it is
imported when something is first printed.
"""

from __future__ import annotations

import io
from importlib import import_module
from typing import Final

SHOWN_BY: Final = {
    "Answer": "ask_above.show.answers:show_answer",
    "Community": "ask_above.show.notebook:show_community",
    "Described": "ask_above.show.notebook:show_described",
    "AdviceGiven": "ask_above.show.check:show_advice",
    "Audit": "ask_above.show.audit:show_audit",
    "Climbed": "ask_above.show.climb:show_climb",
    "Comparison": "ask_above.show.compare:show_comparison",
    "Cover": "ask_above.show.cover:show_cover",
    "Fit": "ask_above.show.fit:show_fit",
    "Impact": "ask_above.show.impact:show_impact",
    "Plan": "ask_above.show.plans:show_plan",
    "Proposal": "ask_above.show.fit:show_proposal",
    "Roster": "ask_above.show.roster:show_roster",
    "Tour": "ask_above.show.tour:show_tour",
    "Ways": "ask_above.show.ways:show_ways",
}
"""For each class the function that shows it: called with a screen and the thing itself."""


def printed(answer: object) -> str:
    """Return an answer as its command prints it: without colours, as wide as the terminal, 100 columns in a pipe."""
    module, _, name = SHOWN_BY[type(answer).__name__].partition(":")
    out = io.StringIO()
    plain = import_module("ask_above.show.screen").Screen.plain(out)
    getattr(import_module(module), name)(plain, answer)
    return out.getvalue().strip("\n")


def in_notebook(answer: object) -> str:
    """Return an answer as a notebook shows it: HTML with all that its command prints, everything in it escaped."""
    module, _, name = SHOWN_BY[type(answer).__name__].partition(":")
    found: str = import_module("ask_above.show.notebook").as_html(getattr(import_module(module), name), answer)
    return found


class Printed:
    """A mixin for what is printed as its command prints it, in a notebook too."""

    def __str__(self) -> str:
        return printed(self)

    def _repr_html_(self) -> str:
        return in_notebook(self)
