"""What advice says to type can be typed, and mends what it is about."""

from __future__ import annotations

import shlex
import shutil
from collections import Counter
from pathlib import Path
from random import Random

import pytest

from ask_above import Community
from ask_above.ask.advice.piece import Piece
from ask_above.charter.catalogue import RISKS
from commands import run
from conftest import DEMO
from generated import generate
from seeds import seeds

SEVERAL = {"moderates-nobody", "over-limit"}
"""One step may not be enough where several ranks stand in the way, or the same advice comes with another number."""


def advice_in(folder: Path) -> list[Piece]:
    return list(Community.open(folder).advice().pieces)


def mended(folder: Path, spare: Path, piece: Piece) -> bool | None:
    """Type what a piece of advice says in a copy; ``None`` where that is refused, for what else must be so."""
    shutil.rmtree(spare, ignore_errors=True)
    shutil.copytree(folder, spare)
    for command in piece.commands:
        program, *words = shlex.split(command)
        assert program == "ask-above"
        done = run(*words, "--yes", cwd=spare)
        if "No such option '--yes'" in done.stderr:  # it is to be looked at before something is changed
            done = run(*words, cwd=spare)
        # something else may have to be changed first, and then it says what
        assert done.returncode in (0, 1) or " first" in done.stderr, (command, done.stderr)
        if done.returncode:
            return None
    assert not riskier(folder, spare, piece), piece
    before, after = (Counter((each.code, each.what) for each in advice_in(where)) for where in (folder, spare))
    return after[piece.code, piece.what] < before[piece.code, piece.what]


def riskier(folder: Path, spare: Path, piece: Piece) -> list[str]:
    """What of higher risk than the piece is about somebody gains by what it says to type."""
    before, after = (Community.open(where) for where in (folder, spare))
    catalogue = before.charter.catalogue.capabilities
    named = [key for key in catalogue if key in f"{piece.what} {' '.join(piece.commands)}"]
    most = max((RISKS.index(catalogue[key].risk) for key in named), default=0)
    gains = [shift for shift in before.impact(after).shifts if shift.gains]
    return [key for shift in gains for key in shift.capabilities if RISKS.index(catalogue[key].risk) > most]


@pytest.fixture(scope="module")
def told() -> Counter[str]:
    return Counter()


@pytest.mark.slow
@pytest.mark.parametrize("seed", seeds(10))
def test_what_advice_says_to_type_mends_it(tmp_path: Path, seed: int, told: Counter[str]) -> None:
    folder = tmp_path / "here"
    if seed:
        folder.mkdir()
        for name, text in generate(Random(seed)).texts().items():
            (folder / name).write_text(text)
    else:
        shutil.copytree(DEMO, folder)
    for piece in advice_in(folder):
        if piece.commands and told[piece.code] < 3:
            well = mended(folder, tmp_path / "spare", piece)
            told[piece.code] += well is not None
            assert well is not False or piece.code in SEVERAL, piece
