"""What stands in a file counts, exactly as it stands: the folder answers as its files, read alone."""

from __future__ import annotations

from pathlib import Path

import pytest

from hand_edits import play
from seeds import seeds


@pytest.mark.parametrize("seed", seeds(12))
def test_after_any_commands_and_any_edits_by_hand_the_folder_answers_as_its_files_alone(
    tmp_path: Path, seed: int
) -> None:
    assert "same" in play(tmp_path, seed, 10)


@pytest.mark.slow
@pytest.mark.parametrize("seed", seeds(48))
def test_the_same_for_longer_sequences(tmp_path: Path, seed: int) -> None:
    assert play(tmp_path, 1_000 + seed)
