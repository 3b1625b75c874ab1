"""What docs/architecture.md says to write is written, in a copy of the package, and does what it says."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import ask_above
from conftest import DEMO

ROOT = Path(__file__).parent.parent
STEP = re.compile(
    r"In `(?P<file>[^`]+)`, (?P<how>new|at the end|in the place of `(?P<old>[^\n]+)`):\n\n```\w+\n(?P<text>.*?)```",
    re.DOTALL,
)


@pytest.fixture(scope="module")
def copied(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A copy of the package and of its pages in which everything was done."""
    folder = tmp_path_factory.mktemp("worked")
    shutil.copytree(
        Path(ask_above.__file__).parent, folder / "src" / "ask_above", ignore=shutil.ignore_patterns("__pycache__")
    )
    shutil.copytree(ROOT / "docs", folder / "docs", ignore=shutil.ignore_patterns("screenshots"))
    steps = list(STEP.finditer((ROOT / "docs" / "architecture.md").read_text("utf-8")))
    assert len(steps) == 6
    for step in steps:
        file, text = folder / step["file"], step["text"]
        if step["how"] == "new":
            assert not file.exists()
            file.write_text(text, "utf-8")
        elif step["old"] is None:
            file.write_text(file.read_text("utf-8") + text, "utf-8")
        else:
            before = file.read_text("utf-8")
            assert before.count(step["old"]) == 1, step["old"]
            file.write_text(before.replace(step["old"], text.rstrip("\n")), "utf-8")
    return folder


def said(copied: Path, *words: str) -> str:
    env = {**os.environ, "PYTHONPATH": str(copied / "src")}
    done = subprocess.run(
        [sys.executable, "-m", "ask_above", *words], capture_output=True, text=True, check=False, env=env
    )
    assert done.returncode in (0, 1), done.stderr
    return done.stdout


@pytest.mark.slow
def test_the_command_answers(copied: Path) -> None:
    rows = said(copied, "kinds", "--format", "csv", "--community", str(DEMO)).splitlines()
    c = ask_above.Community.demo()
    kinds = sorted({place.kind for place in c.charter.places.values() if place.parent is not None})
    assert rows == ["kind,places", *(f"{k},{sum(p.kind == k for p in c.charter.places.values())}" for k in kinds)]
    assert "ladder, kinds" in said(copied, "--help")


@pytest.mark.slow
def test_the_advice_is_told_and_gone_once_the_title_is_shorter(copied: Path, tmp_path: Path) -> None:
    shutil.copytree(DEMO, tmp_path / "river")
    charter = tmp_path / "river" / "charter.yaml"
    assert "long-title" not in said(copied, "check", "--advice", "--community", str(charter.parent))
    charter.write_text(charter.read_text().replace("title: Board host", f"title: {'Board host of ' * 4}"))
    assert "[long-title]" in said(copied, "check", "--advice", "--community", str(charter.parent))
    assert "`long-title`" in (copied / "docs" / "advice.md").read_text()
