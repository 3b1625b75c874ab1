"""What was asked and answered, as JSON lines in the columns that an audit reads; old files make room for new ones."""

from __future__ import annotations

import logging
from datetime import UTC, datetime
from logging.handlers import RotatingFileHandler
from pathlib import Path

import msgspec

from ask_above.serve.decisions import Decided

_MOST_BYTES = 50 * 1024 * 1024
_FILES = 10


class DecisionRecord:
    """A file that decisions are written to; with more than fifty megabytes a new one is begun, and ten are kept."""

    def __init__(self, file: Path, most: int = _MOST_BYTES, files: int = _FILES) -> None:
        self.handler = RotatingFileHandler(file, maxBytes=most, backupCount=files, encoding="utf-8", delay=True)

    def write(self, one: Decided, request: str) -> None:
        """Write one decision; what could not be meant is not written."""
        asked = one.asked
        if asked is None:
            return
        when = asked.when or datetime.now(UTC)
        line = {
            "member": asked.who,
            "action": asked.name,
            "place": asked.place,
            "when": when.isoformat(),
            "author": asked.author or "",
            "target": (asked.target or "") if asked.name == "moderate" else (asked.target or "").removeprefix("rank:"),
            "to": asked.to or "",
            "of": asked.of or "",
            "using": asked.using or "",
            "decision": one.allowed,
            "request": request,
        }
        text = msgspec.json.encode(line).decode()
        self.handler.emit(logging.LogRecord("decisions", logging.INFO, "", 0, text, None, None))

    def close(self) -> None:
        """Close the file."""
        self.handler.close()
