"""What a call returns can be imported, is one short line in a console, and prints as its command does."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import pytest

import ask_above
from ask_above import Community
from ask_above.change import Assign, Grant
from commands import run
from conftest import Place

DEMO = Path(ask_above.__file__).parent / "demo" / "wren-valley"
_BUILT_ON = {"None", "Iterator", "Sequence", "DataFrame", "Series", "Decider", "Home"}


@pytest.fixture(scope="module")
def community() -> Community:
    return Community.demo()


@pytest.mark.parametrize(
    ("typed", "asked"),
    [
        ("tour bram", lambda c: c.tour("bram")),
        ("tour rank:host", lambda c: c.tour("rank:host")),
        ("tour visitor", lambda c: c.tour("visitor")),
        ("compare bram freya", lambda c: c.compare("bram", "freya")),
        (
            "compare rank:editor rank:warden --at notices",
            lambda c: c.compare("rank:editor", "rank:warden", at="notices"),
        ),
        ("climb warden", lambda c: c.climb("warden")),
        ("climb host --with-accomplice --at river-talk", lambda c: c.climb("host", accomplice=True, at="river-talk")),
        ("cover", lambda c: c.cover()),
        ("cover post.publish --without kofi", lambda c: c.cover(["post.publish"], without=["kofi"])),
        ("roster", lambda c: c.roster()),
        ("may petra reading.certify --at upper-gauges", lambda c: c.may("petra", "reading.certify", at="upper-gauges")),
        ("fit reading.post in upper-gauges --limit 5000", lambda c: c.fit([("reading.post", "upper-gauges")])),
        ("check --advice", lambda c: c.advice()),
        ("describe volunteer", lambda c: c.describe("volunteer")),
        ("describe bram", lambda c: c.describe("bram")),
        ("describe notices", lambda c: c.describe("notices")),
    ],
)
def test_print_of_an_answer_is_the_text_of_its_command(
    community: Community, typed: str, asked: Callable[[Community], object], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.delenv("COLUMNS", raising=False)
    full = [] if typed.startswith("may") else ["--full"]
    shown = run(*typed.split(), *full, "--community", str(DEMO)).stdout
    answer = asked(community)
    assert "\n" not in repr(answer)
    assert len(repr(answer)) < 200 or typed.startswith("may")
    assert _folded(str(answer)) == _folded(shown)


def _folded(text: str) -> str:
    """An answer to ``may`` is folded on the screen, and not in the text of the answer."""
    return re.sub(r"\s+", " ", text).strip()


@pytest.mark.slow
def test_ways_and_what_a_change_does_print_as_their_commands(community: Community, tmp_path: Path) -> None:
    said = run(
        *["may", "otto", "post.write", "--at", "river-talk", "--ways", "--full", "--community"], str(DEMO)
    ).stdout
    assert _folded(str(community.ways("otto", "post.write", at="river-talk"))) in _folded(said)
    run("demo", str(tmp_path / "wren"))
    planned = run(
        *["rank", "grant", "host", "kit.lend", "--plan", "--full", "--community"], str(tmp_path / "wren")
    ).stdout
    plan = Community.open(tmp_path / "wren").plan(Grant("host", ["kit.lend"]))
    assert repr(plan) == "<Plan: grant kit.lend to Board host>"
    assert _folded(str(plan)) in _folded(planned)
    assert _folded(str(plan.effect)) in _folded(planned)


def test_every_type_that_a_call_returns_can_be_imported() -> None:
    assert sorted(ask_above.__all__) == sorted(set(ask_above.__all__))
    for name in ask_above.__all__:
        assert getattr(ask_above, name) is not None
    returned = {
        word
        for name, each in vars(Community).items()
        if not name.startswith("_") and hasattr(each, "__annotations__")
        for word in re.findall(r"[A-Z]\w+", str(each.__annotations__.get("return", "")))
    }
    assert {"Answer", "Tour", "Plan"} < returned
    assert returned - _BUILT_ON <= set(ask_above.__all__)


def test_print_of_a_history_or_a_plan_is_the_text_of_its_command(brook: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("COLUMNS", raising=False)
    here = brook.folder
    run("assign", "host", "tove", "--as", "ines", "--yes", cwd=here)
    c = Community.open(here)
    shown = run("history", "tove", "--full", cwd=here).stdout
    assert _folded(str(c.history("tove"))) == _folded(shown)
    planned = run("assign", "host", "rosa", "--plan", "--full", cwd=here).stdout
    assert _folded(planned) == f"{_folded(str(c.plan(Assign('rosa', 'host'))))} Plan only: nothing was changed."
