"""Everything that Ask Above raises, in one tree.

::

    AskAboveError
    ├── FaultyFilesError (ValueError)         the files cannot be meant as they stand; lists every fault
    ├── MissingFileError (FileNotFoundError)  there is no charter where one was looked for
    ├── StoreError (OSError)                  the register's database is gone, or cannot be read or written
    ├── UnknownNameError (LookupError)        a member, rank, place or capability that does not exist
    └── QuestionError (ValueError)            a question that has no meaning
        ├── LogFaultError                     a row of a log that cannot be meant
        └── MomentError                       a moment without a time zone, or none at all
"""

from __future__ import annotations

from collections.abc import Iterable
from itertools import islice
from typing import NamedTuple

from ask_above.visible import visible


class AskAboveError(Exception):
    """The base of all errors of this package; its text is meant for the administrator."""

    def __str__(self) -> str:
        return visible(str(self.args[0])) if self.args else ""


class Fault(NamedTuple):
    """One thing that is wrong in a file, and where.

    ``line`` and ``column`` count from 1 and are 0 where there is no such place (a file that is missing).
    ``path`` is the way to the spot in the words of the file: ``ranks › warden › grants``.
    """

    file: str
    line: int
    column: int
    path: str
    code: str
    message: str
    expected: str = ""
    found: str = ""
    nearest: tuple[str, ...] = ()
    source: str = ""

    def __str__(self) -> str:
        spot = f"{self.file}, line {self.line}, column {self.column}" if self.line else self.file
        lines = [f"{spot} · {self.path}" if self.path else spot, f"  {self.message}"]
        if self.expected:
            lines.append(f"  expected: {self.expected}")
        if self.nearest:
            lines.append(f"  nearest:  {', '.join(self.nearest)}")
        lines += [f"  {line}" for line in self.snippet()]
        return "\n".join(map(visible, lines))

    def snippet(self, width: int = 96) -> list[str]:
        """Return the source line with a caret under the spot, cut to ``width`` around it."""
        if not self.source.strip():
            return []
        text, at = self.source.replace("\t", " "), self.column - 1
        start = max(0, at - width + 24) if len(text) > width else 0
        shown = ("…" if start else "") + text[start : start + width]
        if start + width < len(text):
            shown += "…"
        label = str(self.line)
        caret = " " * (at - start + bool(start)) + "^"
        return [f"{label} | {shown}", f"{' ' * len(label)} | {caret}"]


MOST_FAULTS = 500
"""How many faults of one file are listed; a file with more is of another kind, or was made by a program."""


class Faults(list[Fault]):
    """The faults of one file; raises :class:`FaultyFilesError` with the first of them where there are too many."""

    def append(self, fault: Fault) -> None:
        """Note a fault."""
        super().append(fault)
        if len(self) >= MOST_FAULTS:
            message = f"there are more than {MOST_FAULTS} faults in this file; these are the first"
            super().append(Fault(fault.file, 0, 0, "", "too-many-faults", message, "mend these, and look again"))
            raise FaultyFilesError(self)


class FaultyFilesError(AskAboveError, ValueError):
    """The charter or the register cannot be meant as written; ``faults`` lists all that is wrong.

    ``way_back`` names the command that goes back to the last state that was well formed, where there is one.
    """

    def __init__(self, faults: list[Fault]) -> None:
        self.faults: tuple[Fault, ...] = tuple(faults)
        self.way_back = ""
        super().__init__(str(self))

    def __str__(self) -> str:
        count = len(self.faults)
        head = "1 fault" if count == 1 else f"{count} faults"
        back = f" {self.way_back}" if self.way_back else ""
        return "\n\n".join([*map(str, self.faults), f"{head}; nothing was read.{back}"])


class MissingFileError(AskAboveError, FileNotFoundError):
    """There is no charter where one was looked for."""


class StoreError(AskAboveError, OSError):
    """The register's database is gone, cannot be read or written, or is not this folder's; and what to do."""


_FEW = 9
_LISTED_BY = {"rank": "ladder", "place": "place list", "group": "group list", "capability": "grid"}


class UnknownNameError(AskAboveError, LookupError):
    """A name that nothing has; ``nearest`` holds the known names that are most like it.

    Where none is, and there are few, ``known`` are all of them.
    """

    def __init__(
        self, what: str, name: str, nearest: tuple[str, ...] = (), hint: str = "", known: Iterable[str] = ()
    ) -> None:
        self.what, self.name, self.nearest, self.hint = what, name, nearest, hint
        here = [] if nearest or hint else list(islice(known, _FEW + 1))
        self.known = tuple(here) if len(here) <= _FEW else ()
        super().__init__(str(self))

    def __str__(self) -> str:
        text = f"There is no {self.what} '{self.name}'."
        if self.nearest:
            text += f" Nearest: {', '.join(self.nearest)}."
        elif self.known:
            text += f" There {'is' if len(self.known) == 1 else 'are'}: {', '.join(self.known)}."
        elif not self.hint and self.what in _LISTED_BY:
            text += f" All of them: ask-above {_LISTED_BY[self.what]}."
        return visible(f"{text} {self.hint}" if self.hint else text)


class QuestionError(AskAboveError, ValueError):
    """A question that has no meaning as it was put."""


class AmbiguousNameError(QuestionError):
    """A name that several of one kind have; ``meant`` are they, each by its key."""

    def __init__(self, what: str, name: str, meant: tuple[str, ...]) -> None:
        self.what, self.name, self.meant = what, name, meant
        super().__init__(visible(f"'{name}' is the name of more than one {what}: {', '.join(meant)}. Say the key."))


class LogFaultError(QuestionError):
    """A row of a log that cannot be meant; ``row`` counts from 0 in the part that was read."""

    def __init__(self, row: int, why: str, where: str = "") -> None:
        self.row, self.why = row, why
        super().__init__(f"{where or f'Row {row + 1} of the log'}: {why}")

    def __reduce__(self) -> tuple[type[LogFaultError], tuple[int, str]]:
        """Return how another process has it."""
        return LogFaultError, (self.row, self.why)


class MomentError(QuestionError):
    """A moment that is none, or that has no time zone."""
