"""What things are called makes no difference: keys may be words of the commands, of answers and of the charter."""

from __future__ import annotations

import inspect
import json
import re
from collections.abc import Mapping
from functools import partial
from pathlib import Path
from random import Random
from typing import Any

import pandas as pd
import pytest

from ask_above import Community, QuestionError
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


NAMED: dict[str, Any] = {
    **dict.fromkeys(("who", "actor", "one", "member", "name", "author", "to", "of"), "bram"),
    **dict.fromkeys(("what", "capability"), "post.write"),
    **{word: ["post.write"] for word in ("needs", "never", "duties")},
    "other": "dara",
    "viewer": "ada",
    "rank": "host",
    "at": "notices",
    "using": "member.mute",
    "act": "call",
    "target": "host",
    "when": "2026-01-01",
    "without": ["bram"],
}
OWN = {"place": {"key": "notices"}, "member": {"key": "bram"}, "rank": {"key": "host"}}
OWN["may_moderate"] = {"target": "rank:host"}
QUESTIONS = [name for name, _ in inspect.getmembers(Community, inspect.isfunction) if name[0] != "_"]
OTHERS = {"after", "as_of", "audit", "export_people", "impact", "may_many", "plan", "report", "shared_accounts", "undo"}
OTHERS |= {"table_blocks"}


@pytest.mark.parametrize("name", sorted({*QUESTIONS} - OTHERS))
def test_what_is_no_name_is_refused_in_words_by_every_question(name: str) -> None:
    """Whatever a program hands over in the place of a name or a moment: an error of ours, never a yes or a no."""
    ask, known = getattr(Community.demo(), name), inspect.signature(getattr(Community, name)).parameters
    named = {word: value for word, value in {**NAMED, **OWN.get(name, {})}.items() if word in known}
    needed = {word: value for word, value in named.items() if known[word].default is inspect.Parameter.empty}
    ask(**needed)
    for word, value in named.items():
        wrong = [3, b"x", object(), float("nan"), pd.NaT, *([] if isinstance(value, list) else [["x"], ("a", "b"), {}])]
        for each in wrong if known[word].default is None else [*wrong, None]:
            with pytest.raises(QuestionError):
                ask(**{**needed, word: each})


def test_what_belongs_to_another_act_is_refused_by_every_question_on_acts() -> None:
    asked, c = {"to": "assign", "of": "unassign", "using": "moderate"}, Community.demo()
    for word, act in asked.items():
        for what in ("moderate", "assign", "unassign", "manage", "call", "post.write"):
            more: dict[str, Any] = {word: NAMED[word], **({"of": "bram"} if what == "unassign" else {})}
            target = None if what == "post.write" else "rank:host" if what == "moderate" else "host"
            asking: list[Any] = [partial(c.who, what, target), partial(c.ways, "ada", what, target)]
            for ask in [*asking, partial(c.may_act, "ada", what, target)] if target else asking:
                if what == act:
                    ask(**more)
                else:
                    with pytest.raises(QuestionError, match=f"'{word}' goes with {act} alone"):
                        ask(**more)
    with pytest.raises(QuestionError, match="'target' goes with"):
        c.who("post.write", "host")


def test_a_rank_is_assigned_to_members_alone() -> None:
    c = Community.demo()
    for to in ("visitor", "rank:passer-by"):
        answer = c.may_assign("ines", "host", to=to)
        assert not answer
        assert "is not a member; only active, pending or invited members get ranks" in answer.reason
        assert c.who("assign", "host", to=to).empty
