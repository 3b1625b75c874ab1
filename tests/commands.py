"""Run a command of the program: within this process, which is quick, or as a process of its own."""

from __future__ import annotations

import io
import os
import shutil
import subprocess
import sys
from contextlib import chdir, redirect_stderr, redirect_stdout
from pathlib import Path
from unittest.mock import patch

from ask_above.cli.main import run as program

PLAIN = {key: value for key, value in os.environ.items() if key not in ("COLUMNS", "ASK_ABOVE_COMMUNITY", "NO_COLOR")}

Done = subprocess.CompletedProcess[str]


def as_process(*args: str, cwd: Path | None = None, **env: str) -> Done:
    """Run a command as people do; what it prints goes into a pipe."""
    command = [sys.executable, "-m", "ask_above", *args]
    return subprocess.run(
        command, capture_output=True, text=True, check=False, cwd=cwd, env=PLAIN | env, encoding="utf-8"
    )


def run(*args: str, cwd: Path | None = None, **env: str) -> Done:
    """Run a command in this process, in the folder and the environment that it would have as one of its own."""
    out, err = io.StringIO(), io.StringIO()
    with (
        patch.dict(os.environ, PLAIN | env, clear=True),
        patch.object(sys, "argv", ["ask-above", *args]),
        patch.object(sys, "stdin", io.StringIO()),
        chdir(cwd or Path.cwd()),
        redirect_stdout(out),
        redirect_stderr(err),
    ):
        try:
            program()
            status = 0
        except SystemExit as end:
            status = end.code if isinstance(end.code, int) else 0
    return subprocess.CompletedProcess(args, status, out.getvalue(), err.getvalue())


def git(folder: Path, *words: str) -> str:
    """Run git in a folder, in the name of a made-up person and whatever this machine's settings are."""
    who = {"GIT_CONFIG_GLOBAL": os.devnull, "GIT_CONFIG_SYSTEM": os.devnull}
    for role in ("AUTHOR", "COMMITTER"):
        who |= {f"GIT_{role}_NAME": "Ines Moor", f"GIT_{role}_EMAIL": "ines@river.example"}
    done = subprocess.run(
        [shutil.which("git") or "git", "-C", str(folder), *words],
        capture_output=True,
        text=True,
        check=True,
        env=os.environ | who,
    )
    return done.stdout
