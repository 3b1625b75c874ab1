"""For each kind of answer the function that shows it; it is imported when something is first printed."""

from __future__ import annotations

import io
from collections.abc import Callable
from importlib import import_module
from typing import Any, Final

Shows = Callable[[Any, Any], None]
SHOWN_BY: Final = {
    "Answer": "answers:show_answer",
    "Community": "notebook:show_community",
    "Described": "notebook:show_described",
    "AdviceGiven": "check:show_advice",
    "Audit": "audit:show_audit",
    "Climbed": "climb:show_climb",
    "Comparison": "compare:show_comparison",
    "Cover": "cover:show_cover",
    "Fit": "fit:show_fit",
    "History": "history:show_history",
    "Impact": "impact:show_impact",
    "Plan": "plans:show_plan",
    "Proposal": "fit:show_proposal",
    "Roster": "roster:show_roster",
    "Tour": "tour:show_tour",
    "Ways": "answers:show_ways",
}
"""The module of this room and the function: called with a screen and the thing itself."""


def as_text(answer: object) -> str:
    """Return an answer as its command prints it: without colours, as wide as the terminal, 100 columns in a pipe."""
    from ask_above.show.screen import Screen, in_full

    out = io.StringIO()
    with in_full():
        _shown_by(answer)(Screen.plain(out), answer)
    return out.getvalue().strip("\n")


def as_html(answer: object) -> str:
    """Return an answer as a notebook shows it: HTML with all that its command prints, everything in it escaped."""
    from ask_above.show import notebook

    return notebook.as_html(_shown_by(answer), answer)


def as_report(*community: Any, **wanted: Any) -> str:
    """Return the report of a community."""
    from ask_above.show.report import report

    return report(*community, **wanted)


def _shown_by(answer: object) -> Shows:
    module, _, name = SHOWN_BY[type(answer).__name__].partition(":")
    found: Shows = getattr(import_module(f"ask_above.show.{module}"), name)
    return found
