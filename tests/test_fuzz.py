"""Whatever stands in files and whatever is asked is answered, or refused with a message; nothing else happens."""

from __future__ import annotations

import shutil
from contextlib import suppress
from itertools import islice
from pathlib import Path
from random import Random

import pytest

from ask_above import AskAboveError, Community
from commands import run
from fuzzing import FOLDER, SEEDS, command_lines, mutate, questions, try_to_open

pytestmark = pytest.mark.slow


def test_mutated_files_are_read_or_refused_with_a_message() -> None:
    rng = Random(20261125)
    outcomes = [try_to_open(mutate(rng, SEEDS)) for _ in range(200)]
    assert 20 < sum(outcomes) < 480


def test_any_words_in_a_question_are_answered_or_refused_with_a_message() -> None:
    community = Community.demo()
    for name, asked in islice(questions(Random(7), community), 300):
        with suppress(AskAboveError):
            assert str(getattr(community, name)(**asked)), (name, asked)


def test_any_words_on_the_command_line_are_answered_or_refused_with_a_message(tmp_path: Path) -> None:
    shutil.copytree(FOLDER, tmp_path / "river")
    for line in islice(command_lines(Random(7)), 150):
        done = run(*line, cwd=tmp_path / "river")
        assert "in Ask Above itself" not in done.stderr, (line, done.stderr)
        assert done.returncode in (0, 1, 2), (line, done.stderr)


@pytest.mark.parametrize(
    "held", [b"\xff\xfek\0", b"Stra\xdfe=name", b"a\0b", b"PK\3\4", b"[" * 100_000, b'{"a":' * 50_000, b"null", b""]
)
def test_whatever_a_file_holds_a_command_reads_it_or_says_what_is_wrong(tmp_path: Path, held: bytes) -> None:
    shutil.copytree(FOLDER, tmp_path, dirs_exist_ok=True)
    (tmp_path / "people.csv").write_text("name\nIda\n")
    for ending in ("txt", "yaml", "ldif", "jsonl", "xlsx", "ods"):
        (tmp_path / f"any.{ending}").write_bytes(held)
    for kind in ("ldif", "jsonl"):
        mapping = f"name: sisters\ndirectory: any.{kind}\npeople: {{number: employeeNumber}}\n"
        (tmp_path / f"{kind}.yaml").write_text(mapping)
    lines = ["sync any.yaml", "sync ldif.yaml", "sync jsonl.yaml", "import people.csv --map any.txt"]
    lines += [f"{command} any.{end}" for end in ("xlsx", "ods") for command in ("import", "audit", "grid --take")]
    for line in (*lines, "member lock --list any.txt", "serve --certificate any.txt --key any.txt"):
        done = run(*line.split(), *(() if line.startswith(("serve", "audit")) else ("--plan",)), cwd=tmp_path)
        assert "in Ask Above itself" not in done.stderr, (line, done.stderr)
