"""Mutated files are read or refused with a located message; nothing else happens."""

from __future__ import annotations

from random import Random

import pytest

from fuzzing import SEEDS, mutate, try_to_open

pytestmark = pytest.mark.slow


def test_mutated_files_are_read_or_refused_with_a_message() -> None:
    rng = Random(20261125)
    outcomes = [try_to_open(mutate(rng, SEEDS)) for _ in range(200)]
    assert 20 < sum(outcomes) < 480
