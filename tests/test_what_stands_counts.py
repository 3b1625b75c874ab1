"""What stands in a file counts, exactly as it stands: the folder answers as its files, read alone."""

from __future__ import annotations

from pathlib import Path

import pytest

from databases import fresh_database
from hand_edits import play, play_two
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


@pytest.mark.parametrize("seed", seeds(4))
def test_of_two_folders_on_one_database_the_newest_state_answers_in_both(
    tmp_path: Path, postgresql: str, seed: int
) -> None:
    url = f"sqlite:///{tmp_path}/shared.db" if seed % 2 else fresh_database(postgresql, f"two{seed}")
    found = play_two(tmp_path, url, seed)
    assert found["command"] + found["counts"]
