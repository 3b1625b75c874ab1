"""What stands on a terminal: it fits at every usual width, and without colours nothing of it is missing."""

from __future__ import annotations

import json
import os
import pty
import re
import shlex
import subprocess
import sys
from collections import Counter
from pathlib import Path

import pytest
from rich.cells import cell_len

from ask_above.ask.advice.piece import WHY
from commands import PLAIN, run
from small import rank, texts
from standard import Size, in_folder
from test_cli import demo

__all__ = ["demo"]

VIEWS = (
    "check", "ladder", "grid", "grid --at lower-gauges", "powers", "may dara reading.post --at lower-gauges --ways",
    "may bram moderate dara --at river-talk", "who photo.upload --at photo-wall --through",
    "where petra reading.certify", "describe warden tomas landowners", "tour bram", "tour bram --beside petra",
    "climb", "climb warden", "compare rank:volunteer rank:surveyor", "impact .", "fit reading.post in upper-gauges",
    "cover --without ada --without ines", "cover --at river-talk", "roster", "roster --soon 400", "place list",
    "member list", "rank move host --above founding-friend --plan", "member retire ada --plan",
)  # fmt: skip


@pytest.mark.parametrize("width", [60, 80, 100, 160])
@pytest.mark.parametrize("view", VIEWS)
@pytest.mark.slow
def test_no_line_is_wider_than_the_terminal(demo: Path, view: str, width: int) -> None:
    done = run(*shlex.split(view), cwd=demo, COLUMNS=str(width))
    assert done.returncode in (0, 1), done.stderr
    # a command stays in one piece, to be copied
    wide = [line for line in done.stdout.splitlines() if len(line) > width and "→ ask-above" not in line]
    assert wide == []
    # nothing is cut for want of room, either; of members each has a line
    assert "…" not in done.stdout or (view == "member list" and width == 60 and "--full" in done.stdout)


def on_a_terminal(view: str, folder: Path) -> str:
    """What a command writes where a terminal reads it."""
    master, slave = pty.openpty()
    command = [sys.executable, "-m", "ask_above", *shlex.split(view)]
    env = PLAIN | {"COLUMNS": "100", "TERM": "xterm-256color"}
    with subprocess.Popen(command, stdout=slave, stderr=subprocess.DEVNULL, cwd=folder, env=env) as done:
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
    return said.decode("utf-8").replace("\r\n", "\n")


@pytest.mark.parametrize(
    "view", ["check", "grid --at lower-gauges", "powers moderate", "tour bram", "cover", "climb warden"]
)
@pytest.mark.slow
def test_colours_add_nothing_that_is_not_there_without_them(demo: Path, view: str) -> None:
    coloured = on_a_terminal(view, demo)
    assert "\x1b[" in coloured
    bare = re.sub(r"\x1b\[[0-9;]*m", "", coloured)
    plain = run(*shlex.split(view), cwd=demo, COLUMNS="100").stdout
    assert [line.rstrip() for line in bare.splitlines()] == [line.rstrip() for line in plain.splitlines()]


@pytest.mark.slow
def test_marks_mean_the_same_everywhere(demo: Path) -> None:
    legends = {view: run(*shlex.split(view), cwd=demo).stdout for view in ("grid --at lower-gauges", "cover", "powers")}
    assert "/ does not apply in a place of this kind" in legends["grid --at lower-gauges"]
    assert "/ does not apply in a place of this kind" in legends["cover"]
    assert "● yes" in legends["grid --at lower-gauges"]
    assert "● may" in run("powers", "moderate", cwd=demo).stdout


@pytest.fixture(scope="module")
def large(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A platform of eighty ranks and three hundred places."""
    size = Size(ranks=80, capabilities=80, places=300, overrides=900, members=600, profiles=200)
    return in_folder(tmp_path_factory.mktemp("large") / "platform", size)


@pytest.mark.slow
class TestEightyRanksAndThreeHundredPlaces:
    """What is long is folded, or ends on a terminal with how to see the rest; a program gets all of it."""

    def test_advice_is_folded_by_kind_and_the_gravest_stands_first(self, large: Path) -> None:
        lines = run("check", cwd=large).stdout.splitlines()
        assert len(lines) <= 100
        kinds = Counter(found[1] for line in lines if (found := re.search(r"\[([a-z-]+)\]$", line)))
        assert max(kinds.values()) <= 4  # three, and how many more
        grave = [*WHY]
        order = [grave.index(code) for code in kinds]
        assert order == sorted(order)
        whole = Counter(
            piece["code"] for piece in json.loads(run("check", "--format", "json", cwd=large).stdout)["advice"]
        )
        assert {code for code, count in whole.items() if count > 3} <= set(kinds)

    @pytest.mark.parametrize("view", ["member list", "roster", "place list", "who place.see", "ladder", "tour m7"])
    def test_a_long_list_ends_on_a_terminal_with_how_to_see_the_rest(self, large: Path, view: str) -> None:
        seen = re.sub(r"\x1b\[[0-9;]*m", "", on_a_terminal(view, large)).splitlines()
        piped = run(*shlex.split(view), cwd=large).stdout.splitlines()
        assert len(piped) > 75
        assert len(seen) <= 70  # fifty lines and what is folded in them
        assert "--full" in "\n".join(seen[-3:])
        assert len(on_a_terminal(f"{view} --full", large).splitlines()) >= len(piped)

    @pytest.mark.parametrize("view", ["describe m7", "powers moderate", "may m7 place.see", "tour m7 --at place-7"])
    @pytest.mark.parametrize("width", [60, 100])
    def test_an_answer_fits_the_width(self, large: Path, view: str, width: int) -> None:
        done = run(*shlex.split(view), cwd=large, COLUMNS=str(width))
        assert done.returncode in (0, 1), done.stderr
        assert [line for line in done.stdout.splitlines() if len(line) > width] == []


def test_marks_stand_under_their_rank_whatever_the_letters_are(tmp_path: Path) -> None:
    text = texts(rank("top", "post.write") | {"title": "管理者"}, rank("low", "post.pin") | {"title": "Low"})
    for name, said in text.items():
        (tmp_path / name).write_text(said)
    lines = run("grid", cwd=tmp_path).stdout.splitlines()
    head = next(line for line in lines if "管理者" in line)
    row = next(line for line in lines if "post.pin" in line)
    # 管理者 is six columns wide
    assert row.index("●") == cell_len(head[: head.index("Low")]) + 1
