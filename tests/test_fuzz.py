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
