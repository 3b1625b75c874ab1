"""What ``print`` shows of an answer: the text of the command that gives it.

An answer knows nothing of how it looks, and nothing here does: who draws says so when the package is imported.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar, cast

Draw = Callable[..., str]
KindT = TypeVar("KindT", bound=type)
_drawn: dict[str, Draw] = {}


def draw_with(*, text: Draw, html: Draw, report: Draw) -> None:
    """Take what makes text of an answer, what makes HTML of it, and what makes the report of a community."""
    _drawn.update(text=text, html=html, report=report)


def printed(answer: object) -> str:
    """Return an answer as its command prints it: without colours, as wide as the terminal, 100 columns in a pipe."""
    return _drawn["text"](answer)


def in_notebook(answer: object) -> str:
    """Return an answer as a notebook shows it: HTML with all that its command prints, everything in it escaped."""
    return _drawn["html"](answer)


def reported(*community: object, **wanted: object) -> str:
    """Return the report of a community."""
    return _drawn["report"](*community, **wanted)


class Printed:
    """A mixin for what is printed as its command prints it, in a notebook too."""

    def __str__(self) -> str:
        return printed(self)

    def _repr_html_(self) -> str:
        return in_notebook(self)


def prints(kind: KindT) -> KindT:
    """Let a class print as :class:`Printed` does, where it can have no mixin, as a named tuple cannot."""
    changed = cast("Any", kind)
    changed.__str__, changed._repr_html_ = printed, in_notebook
    return kind
