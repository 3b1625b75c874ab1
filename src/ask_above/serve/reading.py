"""Read a community's charter in a process of its own: a large one would hold up what is asked meanwhile.

What comes back is the charter as it was read, as JSON, which is taken in a fraction of the time, and only for the very
texts that were read.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any, NamedTuple

from ask_above.errors import AskAboveError, FaultyFilesError
from ask_above.files.charter_json import dumped, key_of
from ask_above.workspace.home import Home

_REGISTER = "ASK_ABOVE_READING_REGISTER"
_LONGEST = 600
_BEHIND = 10


class ReadCharter(NamedTuple):
    """A charter that was read elsewhere: the digest of its texts, and what it is."""

    key: str
    content: bytes


class BrokenError(AskAboveError, ValueError):
    """What was read elsewhere cannot be meant; the message says the first that is wrong."""


def told(error: AskAboveError | OSError) -> str:
    """Say what is wrong without the way to a file, and of many faults the first."""
    if isinstance(error, FaultyFilesError) and error.faults:
        first = error.faults[0]
        more = f", and {len(error.faults) - 1} more" if len(error.faults) > 1 else ""
        return f"{Path(first.file).name} line {first.line}: {first.message}{more}"
    if isinstance(error, OSError) and not isinstance(error, AskAboveError):
        return f"{Path(error.filename or 'a file').name}: {error.strerror or type(error).__name__}"
    return str(error)


def read_elsewhere(home: Home) -> ReadCharter | None:
    """Return a folder's charter as another process reads it; ``None`` where that cannot be done.

    Raises :class:`BrokenError` where it cannot be meant.
    """
    command = [sys.executable, "-m", "ask_above.serve.reading", str(home.folder), home.name]
    env = {**os.environ, _REGISTER: home.register or ""}  # it may hold a password, which others must not see
    try:
        done = subprocess.run(command, capture_output=True, timeout=_LONGEST, env=env, check=True)  # noqa: S603 (itself)
        answer: dict[str, Any] = json.loads(done.stdout)
    except (OSError, subprocess.SubprocessError, ValueError):
        return None
    if "fault" in answer:
        raise BrokenError(str(answer["fault"]))
    return ReadCharter(str(answer["key"]), str(answer["charter"]).encode("utf-8"))


def main() -> None:
    """Read the folder that is named, and write what was found."""
    if hasattr(os, "nice"):
        os.nice(_BEHIND)  # those who ask go first
    try:
        home = Home(Path(sys.argv[1]), sys.argv[2], os.environ.get(_REGISTER) or None)
        charter, texts = home.read_charter()
        said = {"key": key_of(texts), "charter": dumped(charter).decode("utf-8")}
    except (AskAboveError, OSError) as error:
        said = {"fault": told(error)}
    sys.stdout.write(json.dumps(said))


if __name__ == "__main__":
    main()
