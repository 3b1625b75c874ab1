"""Where something was written, and what stands for nothing written at all."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final, NamedTuple


class Where(NamedTuple):
    """A spot in a file; line and column count from 1, and are 0 where nothing was read from a file."""

    file: str
    line: int
    column: int

    def __str__(self) -> str:
        return f"{self.file} line {self.line}" if self.line else self.file


NOWHERE = Where("", 0, 0)

NOTHING: Final[Mapping[Any, Any]] = {}
"""A mapping with nothing in it, for fields that were left out."""
