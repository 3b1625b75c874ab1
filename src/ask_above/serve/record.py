"""What was asked and answered, as JSON lines in the columns that an audit reads; old files make room for new ones."""

from __future__ import annotations

import logging
import os
import sys
from collections.abc import Callable
from datetime import UTC, datetime
from logging.handlers import RotatingFileHandler
from pathlib import Path
from typing import Any

import msgspec

from ask_above.charter.rules import Act
from ask_above.files.writing import PRIVATE
from ask_above.serve.decisions import Decided

_MOST_BYTES = 50 * 1024 * 1024
_FILES = 10

log = logging.getLogger("ask_above.serve")


class _Handler(RotatingFileHandler):
    """Writes lines into files of a mode of their own; what cannot be written is counted and told once."""

    def __init__(self, file: Path, mode: int, most: int, files: int, dropped: Callable[[], object]) -> None:
        self.file_mode, self.dropped, self.failing = mode, dropped, False
        super().__init__(file, maxBytes=most, backupCount=files, encoding="utf-8", delay=True)

    def _open(self) -> Any:
        def opener(name: str, flags: int) -> int:
            return os.open(name, flags, self.file_mode)

        return open(self.baseFilename, self.mode, encoding=self.encoding, opener=opener)

    def emit(self, record: logging.LogRecord) -> None:
        """Write a line."""
        self._failed = False
        super().emit(record)
        if self.failing and not self._failed:
            self.failing = False
            log.info("decisions are recorded again")

    def handleError(self, record: logging.LogRecord) -> None:  # noqa: N802, ARG002 (the name and form of the library)
        """Count a line that was not written."""
        self._failed = True
        self.dropped()
        if not self.failing:
            self.failing = True
            log.error("a decision could not be recorded", extra={"fault": str(sys.exc_info()[1])})


class DecisionRecord:
    """A file that decisions are written to; with more than fifty megabytes a new one is begun, and ten are kept."""

    def __init__(
        self,
        file: Path,
        mode: int = PRIVATE,
        dropped: Callable[[], object] = lambda: None,
        most: int = _MOST_BYTES,
        files: int = _FILES,
    ) -> None:
        self.handler = _Handler(file, mode, most, files, dropped)

    @property
    def failing(self) -> bool:
        """Whether the last decision could not be recorded."""
        return self.handler.failing

    def write(self, one: Decided, request: str) -> None:
        """Write one decision; what could not be meant is not written."""
        asked = one.asked
        if asked is None:
            return
        when = asked.when or datetime.now(UTC)
        line: dict[str, Any] = {
            "member": asked.who,
            "action": asked.name,
            "place": asked.place,
            "when": when.isoformat(),
            "author": asked.author or "",
            "target": (asked.target or "")
            if asked.name == Act.MODERATE
            else (asked.target or "").removeprefix("rank:"),
            "to": asked.to or "",
            "of": asked.of or "",
            "using": asked.using or "",
            "decision": one.allowed,
            "request": request,
        }
        text = msgspec.json.encode(line).decode()
        self.handler.handle(logging.LogRecord("decisions", logging.INFO, "", 0, text, None, None))

    def close(self) -> None:
        """Close the file."""
        self.handler.close()
