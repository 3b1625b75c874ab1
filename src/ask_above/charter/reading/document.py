"""A file that was read: plain data, where each piece of it stands, and the faults found in it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple, TypeAlias

from ask_above.charter.where import NOWHERE, Where
from ask_above.errors import Fault, Faults

_LONGEST = 60

Path: TypeAlias = tuple[str | int, ...]


class Position(NamedTuple):
    """Where a value stands, where the key before it stands, and whether it is in quotes; counted from 1."""

    line: int
    column: int
    key_line: int
    key_column: int
    quoted: bool = False


class Document:
    """The plain data of one file: mappings, lists and texts, ``None`` where nothing was written.

    ``marks`` may be empty, for data that never was a file.
    """

    def __init__(
        self, name: str, data: Any, marks: Mapping[Path, Position] | None = None, lines: Sequence[str] = ()
    ) -> None:
        self.name, self.data, self.lines = name, data, lines
        self.marks: Mapping[Path, Position] = {} if marks is None else marks
        self.faults: list[Fault] = Faults()

    def where(self, path: Path, *, on_key: bool = False) -> Where:
        """Return where something stands: its value, or the key before it."""
        mark = self.marks.get(path)
        if mark is None:
            return NOWHERE
        return Where(self.name, *((mark.key_line, mark.key_column) if on_key else (mark.line, mark.column)))

    def fault(
        self,
        path: Path,
        code: str,
        message: str,
        *,
        expected: str = "",
        nearest: tuple[str, ...] = (),
        on_key: bool = False,
        offset: int = 0,
    ) -> None:
        """Note a fault at ``path``; ``offset`` counts characters into the text that stands there."""
        mark = self.marks.get(path) or Position(0, 0, 0, 0)
        line, column = (mark.key_line, mark.key_column) if on_key else (mark.line, mark.column)
        if offset and column:
            # the text begins behind the quote
            column += offset + mark.quoted
        source = self.lines[line - 1] if 0 < line <= len(self.lines) else ""
        found = self._found(path) if not on_key else str(path[-1])
        self.faults.append(
            Fault(self.name, line, column, self.spell(path), code, message, expected, found, nearest, source)
        )

    def _found(self, path: Path) -> str:
        data = self.data
        for step in path:
            try:
                data = data[step]
            except (KeyError, IndexError, TypeError):
                return "nothing"
        return describe(data)

    def spell(self, path: Path) -> str:
        """Return a path as a person reads it: ``ranks › warden › grants › 2nd``."""
        spelled, data = [], self.data
        for step in path:
            try:
                data = data[step]
            except (KeyError, IndexError, TypeError):
                data = None
            if isinstance(step, int):
                key = data.get("key") if isinstance(data, dict) else None
                spelled.append(key if isinstance(key, str) and key else ordinal(step + 1))
            else:
                spelled.append(step)
        return " › ".join(spelled)


def ordinal(number: int) -> str:
    """Return ``1st``, ``2nd``, ``3rd`` and so on."""
    if number % 100 in (11, 12, 13):
        return f"{number}th"
    return f"{number}{ {1: 'st', 2: 'nd', 3: 'rd'}.get(number % 10, 'th') }"


def describe(data: Any) -> str:
    """Say in a few words what was found."""
    if data is None:
        return "nothing"
    if isinstance(data, dict):
        return "a mapping (key: value)"
    if isinstance(data, list):
        return "a list"
    text = str(data)
    return f"'{text}'" if len(text) <= _LONGEST else f"'{text[: _LONGEST - 3]}...'"
