"""Each way is a command: typed as it is printed, it turns the answer, and as many others as it says."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import pytest
from soak.ways import as_it_is, question, type_it

from ask_above import Community
from conftest import DEMO
from seeds import seeds

pytestmark = pytest.mark.slow

QUESTIONS: list[tuple[str, str, dict[str, Any]]] = [
    ("dara", "reading.post", {"at": "lower-gauges"}),
    ("otto", "post.write", {"at": "river-talk"}),
    ("lena", "post.write", {"at": "river-talk"}),
    ("tove", "place.see", {"at": "landowners"}),
    ("petra", "contact.see.all", {}),
    ("niko", "place.see", {"at": "notices"}),
    ("tove", "post.write", {"at": "notices"}),
    ("bram", "thread.close", {"at": "river-talk"}),
    ("rank:volunteer", "photo.upload", {"at": "photo-wall"}),
    ("bram", "moderate", {"target": "dara", "at": "river-talk", "using": "member.mute"}),
    ("ada", "assign", {"target": "reach-lead", "to": "tove"}),
    ("vesna", "assign", {"target": "host", "to": "vesna"}),
    ("ada", "manage", {"target": "host"}),
    ("bram", "call", {"target": "steward"}),
]


@pytest.mark.parametrize(("who", "what", "how"), QUESTIONS, ids=lambda each: str(each)[:40])
def test_every_way_is_made_by_its_command(tmp_path: Path, who: str, what: str, how: dict[str, Any]) -> None:
    before = Community.open(DEMO)
    found = before.ways(who, what, every=what in ("moderate", "call"), **how)
    assert found
    assert [way.harm for way in found] == sorted(way.harm for way in found)
    now = question(before, who, what, how)
    for n, way in enumerate(found[:5]):
        folder = tmp_path / str(n)
        shutil.copytree(DEMO, folder)
        after = type_it(way, folder)
        assert question(after, who, what, how) is not now, way.command
        answers = before.impact(after).of_capabilities
        own = what not in ("moderate", "assign", "manage", "call") and not who.startswith("rank:")
        assert answers - own == way.answers, way.command


@pytest.mark.parametrize("seed", seeds(12))
def test_a_way_is_what_may_be_done_of_any_community(seed: int) -> None:
    as_it_is(seed)
