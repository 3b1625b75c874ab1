"""What stands on a terminal: it fits at every usual width, and without colours nothing of it is missing."""

from __future__ import annotations

import os
import pty
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

from commands import PLAIN, run
from test_cli import demo

__all__ = ["demo"]

VIEWS = (
    "check",
    "ladder",
    "grid",
    "grid --at lower-gauges",
    "powers",
    "may dara reading.post --at lower-gauges --ways",
    "may bram moderate dara --at river-talk",
    "who photo.upload --at photo-wall --through",
    "where petra reading.certify",
    "describe warden tomas landowners",
    "tour bram",
    "tour bram --beside petra",
    "climb",
    "climb warden",
    "compare rank:volunteer rank:surveyor",
    "impact .",
    "fit reading.post in upper-gauges",
    "cover --without ada --without ines",
    "cover --at river-talk",
    "roster",
    "roster --soon 400",
    "place list",
    "member list",
    "rank move host --above founding-friend --plan",
    "member retire ada --plan",
)


@pytest.mark.parametrize("width", [80, 100, 160])
@pytest.mark.parametrize("view", VIEWS)
@pytest.mark.slow
def test_no_line_is_wider_than_the_terminal(demo: Path, view: str, width: int) -> None:
    done = run(*shlex.split(view), cwd=demo, COLUMNS=str(width))
    assert done.returncode in (0, 1), done.stderr
    # a command stays in one piece, to be copied
    wide = [line for line in done.stdout.splitlines() if len(line) > width and "→ ask-above" not in line]
    assert wide == []
    # nothing is cut for want of room, either
    assert "…" not in done.stdout


@pytest.mark.parametrize(
    "view", ["check", "grid --at lower-gauges", "powers moderate", "tour bram", "cover", "climb warden"]
)
@pytest.mark.slow
def test_colours_add_nothing_that_is_not_there_without_them(demo: Path, view: str) -> None:
    master, slave = pty.openpty()
    command = [sys.executable, "-m", "ask_above", *shlex.split(view)]
    env = PLAIN | {"COLUMNS": "100", "TERM": "xterm-256color"}
    with subprocess.Popen(command, stdout=slave, stderr=subprocess.DEVNULL, cwd=demo, env=env) as done:
        os.close(slave)
        said = b""
        while True:
            try:
                part = os.read(master, 65536)
            except OSError:
                break
            if not part:
                break
            said += part
        done.wait()
    os.close(master)
    coloured = said.decode("utf-8").replace("\r\n", "\n")
    assert "\x1b[" in coloured
    bare = re.sub(r"\x1b\[[0-9;]*m", "", coloured)
    plain = run(*shlex.split(view), cwd=demo, COLUMNS="100").stdout
    assert [line.rstrip() for line in bare.splitlines()] == [line.rstrip() for line in plain.splitlines()]


def test_marks_mean_the_same_everywhere(demo: Path) -> None:
    legends = {view: run(*shlex.split(view), cwd=demo).stdout for view in ("grid --at lower-gauges", "cover", "powers")}
    assert "/ does not apply in a place of this kind" in legends["grid --at lower-gauges"]
    assert "/ does not apply in a place of this kind" in legends["cover"]
    assert "● yes" in legends["grid --at lower-gauges"]
    assert "● may" in run("powers", "moderate", cwd=demo).stdout
