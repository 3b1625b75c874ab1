"""Cells that no spreadsheet runs: guarded when they are written, and the same again when they are read."""

from __future__ import annotations

import re

_RUN = re.compile(r"'*[=+\-@\t\r]")
_GUARDED = re.compile(r"'+[=+\-@\t\r]")


def any_guarded(text: str) -> bool:
    """Whether some cell of a whole file may be guarded: of most files none is, and none needs a look."""
    return _GUARDED.search(text) is not None


def guarded(text: str) -> str:
    """Return a cell that no spreadsheet runs as a formula.

    >>> guarded("=1+1"), guarded("'=1"), guarded("river")
    ("'=1+1", "''=1", 'river')
    """
    return f"'{text}" if _RUN.match(text) else text


def unguarded(text: str) -> str:
    """Return what a guarded cell says; any other is as it is.

    >>> unguarded("'=1+1"), unguarded("''=1"), unguarded("'tis"), unguarded("=1+1")
    ('=1+1', "'=1", "'tis", '=1+1')
    """
    return text[1:] if _GUARDED.match(text) else text
