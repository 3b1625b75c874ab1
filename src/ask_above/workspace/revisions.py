"""A community's files as a git repository has them at a revision."""

from __future__ import annotations

import os
import subprocess
from functools import partial
from pathlib import Path
from typing import Final

from ask_above.errors import QuestionError
from ask_above.files.folder import Files, read_files
from ask_above.files.writing import ASSIGNMENTS, MEMBERS
from ask_above.people.register import Register

GIT: Final = "git:"
"""What a revision is said with: ``git:main``."""


def at_revision(folder: Path, name: str, revision: str, register: Register) -> Files:
    """Return charter and register as they are at a revision of the git repository that the folder lies in.

    Where the repository keeps no members, as addresses seldom belong there, the register is the one given: what
    differs then is what the charter says. Raises :class:`QuestionError` where there is no such revision or no charter
    in it, and :class:`FaultyFilesError` where what stands there is not well formed.
    """
    found = _git(folder, "rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}")
    if found is None:
        raise QuestionError(f"The git repository of '{folder}' has no revision '{revision}'.")
    commit = found.decode().strip()
    shown = partial(_shown, folder, commit)
    if shown(name) is None:
        raise QuestionError(f"There is no {name} at '{revision}' in '{folder}'.")
    charter, there = read_files(shown, name)
    return Files(charter, there if shown(MEMBERS) is not None or shown(ASSIGNMENTS) is not None else register)


def _shown(folder: Path, commit: str, name: str) -> bytes | None:
    return _git(folder, "show", f"{commit}:./{name}")


def _git(folder: Path, *words: str) -> bytes | None:
    """Return what git says; ``None`` where it says that there is no such thing."""
    command = ["git", "-C", str(folder), *words]
    try:  # what it says is read below, in English
        done = subprocess.run(command, capture_output=True, check=False, env={**os.environ, "LC_ALL": "C"})  # noqa: S603
    except FileNotFoundError:
        raise QuestionError("git is not installed here, so no revision can be read.") from None
    if b"not a git repository" in done.stderr or b"dubious ownership" in done.stderr:
        raise QuestionError(f"'{folder}' lies in no git repository that can be read here.")
    return done.stdout if done.returncode == 0 else None
