"""The tutorial, typed along: every block is written, every command run, and what it shows is looked for."""

from __future__ import annotations

import shlex
from pathlib import Path

import pytest

from commands import run

TUTORIAL = Path(__file__).parent.parent / "docs" / "tutorial.md"


def blocks() -> list[tuple[str, str]]:
    """The fenced blocks, each with what it is: yaml, or nothing for commands."""
    parts = TUTORIAL.read_text("utf-8").split("```")[1::2]
    return [(part.partition("\n")[0], part.partition("\n")[2]) for part in parts]


@pytest.mark.slow
def test_typed_along_it_does_what_it_says(tmp_path: Path) -> None:
    charter, commands = tmp_path / "charter.yaml", 0
    for kind, text in blocks():
        if kind == "yaml":
            before = charter.read_text("utf-8") + "\n" if charter.exists() else ""
            charter.write_text(before + text, "utf-8")
            continue
        for shown in text.split("$ ")[1:]:
            command, *wanted = shown.strip().splitlines()
            done = run(*shlex.split(command)[1:], cwd=tmp_path)
            said = " ".join((done.stdout + done.stderr).split())
            assert done.returncode in (0, 1), f"{command}\n{said}"
            for line in wanted:
                assert " ".join(line.split()) in said, f"{command}\n{line}\n{said}"
            commands += 1
    assert commands > 20
