"""Whatever is asked of a change, it is planned or refused in words; nothing in it makes the program fall over."""

from __future__ import annotations

import datetime as dt
import random
from typing import Any, cast, get_type_hints

import pytest

from ask_above import AskAboveError, Community, EditError, change
from commands import run
from conftest import Place
from seeds import seeds

_NAMED = [getattr(change, name) for name in change.__all__]  # by name, as they are imported when they are asked for
_EDITS: list[Any] = [each for each in _NAMED if hasattr(each, "on") and hasattr(each, "_fields")]
_TEXTS = [
    "", "x", "site", "host", "true", "2020-13-01", "9999-12-31", "\n", "\x00", '"', "[", "a,b", "=1+1", "*", "gone",
]  # fmt: skip
_OTHERS = [None, 5, True, float("nan"), [], {}, {"a": 1}, [[1]], b"x", object(), dt.date(2027, 1, 1), {"any": [1]}]
_FIELDS = ["title", "grants", "open", "limit", "after", "assigns", "perks", "email", "kind", "joined", "groups", "nope"]


class _AtRandom:
    """Draws edits of all classes, with what is there, what is not, and what nobody would write."""

    def __init__(self, community: Community, seed: int) -> None:
        self.drawn, charter = random.Random(seed), community.charter
        self.names = [*charter.ranks, *charter.places, *list(community.register.members)[:20], "post.write", *_TEXTS]
        self.paths = [f"ranks.{key}.grants.1" for key in charter.ranks]
        self.paths += [f"places.{key}.title" for key in charter.places]
        self.paths += ["rules.seeing.x", "capabilities.a.b.c", "a..b", ".", "bundles.calming.1", "expectations.99"]

    def edit(self) -> Any:
        kind = self.drawn.choice(_EDITS)
        hints = {name: str(hint) for name, hint in get_type_hints(kind).items() if name in kind._fields}
        return kind(**{name: self._value(name, hint) for name, hint in hints.items()})

    def _value(self, name: str, hint: str) -> Any:
        if self.drawn.random() < 0.1:
            return self.drawn.choice(_OTHERS)
        if "bool" in hint:
            return self.drawn.random() < 0.5
        if "Sequence" in hint:
            return self.drawn.choices(self.names, k=2)
        if "Mapping" in hint:
            return {self.drawn.choice(_FIELDS): self._value("", "Any") for _ in range(2)}
        if "Any" in hint:
            return self.drawn.choice([*_TEXTS, *_OTHERS])
        return self.drawn.choice(self.paths if name == "path" else self.names)


@pytest.mark.parametrize("seed", seeds(4))
def test_every_edit_is_planned_or_refused_in_words(brook: Place, seed: int) -> None:
    community = brook.open()
    drawn = _AtRandom(community, seed)
    refused = [said for said in (_refused(community, drawn) for _ in range(150)) if said is not None]
    assert refused
    assert all(said.strip() for said in refused)


def _refused(community: Community, drawn: _AtRandom) -> str | None:
    try:
        community.plan(drawn.edit(), by=drawn.drawn.choice([None, "ada", "tomas"]))
    except AskAboveError as said:
        return str(said)
    return None


def test_a_field_of_another_kind_is_said(brook: Place) -> None:
    community = brook.open()
    with pytest.raises(EditError, match=r"Grant: names is a list of text, not 'post.write'\."):
        community.plan(change.Grant("host", "post.write"))


@pytest.mark.parametrize(
    ("meant", "written"),
    [
        (
            change.Assign("dara", "host", until=cast("str", dt.date(2027, 3, 31)), place=cast("str", None)),
            change.Assign("dara", "host", until="2027-03-31"),
        ),
        (
            change.Grant("host", cast("Any", {"post.write", "poll.start"})),
            change.Grant("host", ["poll.start", "post.write"]),
        ),
        (
            change.MemberAdd("rill", cast("Any", {"name": "Rill", "email": "r@river.example", "note": None})),
            change.MemberAdd("rill", {"name": "Rill", "email": "r@river.example"}),
        ),
    ],
)
def test_days_sets_and_what_is_left_out_are_taken_as_they_are_meant(brook: Place, meant: Any, written: Any) -> None:
    community = brook.open()
    assert community.plan(meant).what == community.plan(written).what
    assert community.plan(meant).texts == community.plan(written).texts
    assert community.plan(meant).rows == community.plan(written).rows


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ("get places.river-talk.title", "River talk"),
        ("get places.river-tak", "There is no places.river-tak"),
        ("set places.river-talk.call closed --plan", "a place has no field 'call'"),
        ("set ranks.hots.title x --plan", "Nearest: host."),
        ("set ranks.host { --plan", "{ is no list or mapping in one line"),
        ("set a..b 3 --plan", "There is no a..b in the charter."),
        ("add places.river-talk.title x --plan", "is no list"),
        ("remove places.river-talk.title --plan", "Remove places.river-talk.title."),
    ],
)
def test_a_path_that_leads_nowhere_is_said(brook: Place, words: str, said: str) -> None:
    done = run("charter", *words.split(), cwd=brook.folder)
    assert said in done.stdout + done.stderr
    assert "Ask Above itself" not in done.stderr
