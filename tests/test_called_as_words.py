"""What things are called makes no difference: keys may be words of the commands, of answers and of the charter."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from pathlib import Path
from random import Random
from typing import Any

import pytest

from commands import run
from generated import generate
from seeds import seeds

WORDS = (
    "owner", "place", "none", "rank", "member", "everyone", "all", "any", "group", "members", "anyone", "true", "null",
    "1", "0", "keeper", "nobody", "heading", "title", "key", "keep", "remove", "whole", "the", "x", "charter", "git",
    "json", "up", "top", "and", "or", "with", "at", "as", "until", "from", "into", "above", "for", "because", "who",
    "what", "can", "is", "it", "self", "active", "retired", "person", "entry", "allow", "deny", "gate", "moderate",
    "assign", "unassign", "manage", "call", "2027-01-01", "1e9", "nan",
)  # fmt: skip
_KEY = re.compile(r"(?<![\w-])(r\d|g[01]|p\d|m\d)(?![\w-])")
_COMMANDS = """who a.one --at p0 --through|who assign r0|where rank:r0 a.one|tour @m0|describe rank:r0|describe place:p0
may @m0 assign r0 --to m0|may @m0 moderate rank:r1|member show m0|member list --holding r0|compare rank:r0 rank:r1
check|ladder|grid --at p0|roster|group list|place list|powers --at p0|cover --at p0|climb r0|who --risk high
rank rename r0 --key r9 --plan|rank remove r1 --none --plan|rank move r0 --above r1 --plan|member lock m0 --plan
place override p0 r0 --deny a.one --plan|place except p0 m0 --allow a.one --plan|unassign r0 m0 --plan
member put m0 into g0 --plan|member put m0 g0 --plan
assign r1 m0 --at p0 --yes|place rename p0 --key p9 --yes|impact 0|undo last --plan"""


def renamed(text: str, words: Mapping[str, str]) -> str:
    return _KEY.sub(lambda key: words[key[1]], text)


def shape(data: Any) -> Any:
    """What an answer says, but for what things are called."""
    if isinstance(data, dict | list):
        return type(data), sorted(repr(shape(item)) for item in (data.values() if isinstance(data, dict) else data))
    return "" if isinstance(data, str) else data


@pytest.mark.slow
@pytest.mark.parametrize("seed", seeds(4))
def test_keys_that_are_words_of_the_language_are_answered_as_any_other(seed: int, tmp_path: Path) -> None:
    rng = Random(seed)
    made = generate(rng).texts()
    made["charter.yaml"] += "expectations: [r0 may moderate r1 in p0, every r0 may a.one, no r1 may b.one in p0]\n"
    kinds = {"r": "0123459", "g": "01", "p": "01239", "m": "01234"}
    keys = [f"{kind}{n}" for kind, numbers in kinds.items() for n in numbers]
    called = dict(zip(keys, rng.sample(WORDS, len(keys)), strict=True))
    for folder, words in (("plain", {key: key for key in keys}), ("words", called)):
        (tmp_path / folder).mkdir()
        for name, text in made.items():
            (tmp_path / folder / name).write_text(renamed(text, words))
    for command in re.split(r"[|\n]", _COMMANDS):
        args = [*command.split(), *([] if "--plan" in command or "--yes" in command else ["--format", "json"])]
        one = run(*args, cwd=tmp_path / "plain")
        two = run(*(renamed(word, called) for word in args), cwd=tmp_path / "words")
        assert one.returncode == two.returncode, (command, called, one.stderr, two.stderr)
        if "json" in args and one.returncode < 2:
            assert shape(json.loads(one.stdout)) == shape(json.loads(two.stdout)), (command, called)
