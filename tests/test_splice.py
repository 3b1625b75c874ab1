"""Edits on a charter's text: the data changes as the step says, and nothing else in the file does."""

from __future__ import annotations

from pathlib import Path
from random import Random
from typing import Any

import pytest
import yaml

import ask_above
from ask_above.change.steps import Drop, Insert, MoveItem, Put, Rename, Step, at
from ask_above.files.splice import AliasError, apply, edited
from ask_above.files.yaml_text import compose, plain
from plain_steps import take
from seeds import seeds

DEMO = (Path(ask_above.__file__).parent / "demo" / "wren-valley" / "charter.yaml").read_text("utf-8")
WORDS = ["post.write", "kit.lend", "x y", "#1f6f8b", "no", "12:30", "it's", "a, b", "- x", "{", "ü"]


def data_of(text: str) -> Any:
    return plain(compose(text))


def random_step(rng: Random, data: Any) -> Step:
    """A step somewhere in the data; small containers are left alone so that nothing has to be made up."""
    spots: list[tuple[Any, ...]] = []

    def walk(node: Any, path: tuple[Any, ...]) -> None:
        if isinstance(node, dict | list) and node:
            spots.append(path)
            for key in node if isinstance(node, dict) else range(len(node)):
                walk(node[key], (*path, key))

    walk(data, ())
    path = rng.choice(spots)
    node = at(data, path)
    if isinstance(node, dict):
        key = rng.choice(list(node))
        what = rng.randrange(5)
        if what == 0 and path:
            return Drop((*path, key))
        if what == 1:
            return Put((*path, key), rng.choice([*WORDS, [rng.choice(WORDS)], {"deny": [rng.choice(WORDS)]}]))
        if what == 2:
            return Put(
                (*path, "fresh"), rng.choice([*WORDS, {"a": {"allow": ["b.c"]}}, [{"key": "one", "title": "One"}]])
            )
        if what == 3:
            return Put((*path, "new", "deeper"), {"deny": ["post.write"]})
        return Rename((*path, key), "renamed")
    n = rng.randrange(len(node))
    if all(isinstance(each, str) for each in node):
        if rng.random() < 0.5:
            return Put(path, [*node, "added.word"])
        return Put(path, [each for k, each in enumerate(node) if k != n] or ["other"])
    what = rng.randrange(3)
    if what == 0:
        return Drop((*path, n))
    if what == 1:
        return Insert(path, rng.randint(0, len(node)), {"key": "made", "title": "Made: up", "grants": ["a.b"]})
    lists = [p for p in spots if isinstance(at(data, p), list) and all(isinstance(e, dict) for e in at(data, p))]
    to = rng.choice([p for p in lists if p[: len(path) + 1] != (*path, n)])
    last = len(at(data, to)) - (to == path)
    return MoveItem((*path, n), to, rng.randint(0, last))


def dumped(rng: Random, data: Any) -> str:
    """The data in some layout, with comments strewn over it."""
    text = yaml.dump(
        data,
        sort_keys=False,
        allow_unicode=True,
        default_flow_style=rng.choice([None, False]),
        width=rng.choice([60, 200]),
    )
    lines = text.splitlines()
    if rng.random() < 0.7:
        told = [
            f"{line}  # about {n}" if rng.random() < 0.2 and line.endswith(":") else line
            for n, line in enumerate(lines)
        ]
        lines = told if data_of("\n".join(told)) == data_of(text) else lines
    return rng.choice(["\n", "\r\n"]).join(lines) + rng.choice(["\n", ""])


@pytest.mark.parametrize("seed", seeds(50))
@pytest.mark.slow
def test_a_step_on_the_text_is_the_step_on_the_data(seed: int) -> None:
    rng = Random(seed)
    first = text = DEMO if seed % 2 else dumped(rng, data_of(DEMO))
    steps, pieces = [], []
    for _ in range(6):
        data = data_of(text)
        step = random_step(rng, data)
        changed, splices = edited(text, [step])
        assert data_of(changed) == take(data, step), step
        again = text
        for splice in splices:
            again = apply(again, splice)
        assert again == changed
        for splice in reversed(splices):
            again = apply(again, splice._replace(old=splice.new, new=splice.old))
        assert again == text
        text = changed
        steps.append(step)
        pieces += splices
    assert edited(first, steps) == (text, pieces), "all at once as one by one"


def lines_changed(before: str, after: str) -> tuple[list[str], list[str]]:
    old, new = before.splitlines(), after.splitlines()
    return [line for line in old if line not in new], [line for line in new if line not in old]


def rank(key: str) -> int:
    return next(n for n, each in enumerate(data_of(DEMO)["ranks"]) if each["key"] == key)


@pytest.mark.parametrize(
    ("step", "gone", "come"),
    [
        (
            Put(("ranks", rank("host"), "grants"), ["calming", "thread.close", "place.pin", "kit.lend"]),
            ["    grants: [calming, thread.close, place.pin]"],
            ["    grants: [calming, thread.close, place.pin, kit.lend]"],
        ),
        (
            Put(("ranks", rank("surveyor"), "grants"), ["reading.post", "kit.borrow", "gauge.*"]),
            ['    grants: [reading.post, reading.correct.own, kit.borrow, "gauge.*"]'],
            ['    grants: [reading.post, kit.borrow, "gauge.*"]'],
        ),
        (
            Drop(("ranks", rank("surveyor"), "withhold")),
            ["    withhold: [gauge.calibrate]   # takes the day's course first"],
            [],
        ),
        (
            Put(("places", 0, "places", 1, "overrides", "member"), {"deny": ["poll.start"]}),
            [],
            ["          member: {deny: [poll.start]}"],
        ),
        (
            Put(("places", 0, "places", 3, "overrides", "member"), {"deny": ["photo.upload"]}),
            ["      - {key: photo-wall, title: Photo wall, kind: gallery}"],
            [
                (
                    "      - {key: photo-wall, title: Photo wall, kind: gallery, "
                    "overrides: {member: {deny: [photo.upload]}}}"
                )
            ],
        ),
        (
            Put(("ranks", rank("relay-bot"), "title"), "Bot: relay"),
            ["    title: Relay bot"],
            ['    title: "Bot: relay"'],
        ),
    ],
)
def test_only_the_lines_concerned_change(step: Step, gone: list[str], come: list[str]) -> None:
    assert lines_changed(DEMO, edited(DEMO, [step])[0]) == (gone, come)


def test_a_rank_moves_with_its_lines_and_the_comments_in_them() -> None:
    text, _ = edited(DEMO, [MoveItem(("ranks", rank("founding-friend")), ("ranks",), rank("host"))])
    assert sorted(text.splitlines()) == sorted(DEMO.splitlines())
    assert [each["key"] for each in data_of(text)["ranks"]][6:8] == ["host", "founding-friend"]
    back, _ = edited(text, [MoveItem(("ranks", 7), ("ranks",), 6)])
    assert back == DEMO


def test_a_place_moves_into_another_section_with_its_comments() -> None:
    text, _ = edited(DEMO, [MoveItem(("places", 0, "places", 2), ("places", 1, "places"), 0)])
    assert "          otto: {bar: [post.write]}       # after the quarrel of last winter" in text
    assert data_of(text)["places"][1]["places"][0]["key"] == "river-talk"


def test_a_place_moves_out_to_before_its_section_and_one_that_stays_is_not_touched() -> None:
    out, stays = MoveItem(("places", 2, "places", 1), ("places",), 0), MoveItem(("places", 0), ("places",), 0)
    assert data_of(edited(DEMO, [out])[0]) == take(data_of(DEMO), out)
    assert take(data_of(DEMO), out)["places"][0]["key"] == "review"
    assert edited(DEMO, [stays]) == (DEMO, [])


def test_what_is_shared_by_an_alias_is_not_changed_behind_ones_back() -> None:
    text = "a: &x {deny: [b.c]}\nd: *x\ne: f\n"
    for step in (Put(("a", "deny"), ["b.c", "g.h"]), Drop(("d", "deny")), Put(("d",), "k")):
        with pytest.raises(AliasError, match="by an alias"):
            edited(text, [step])
    assert edited(text, [Put(("e",), "g")])[0] == text.replace("e: f", "e: g")
