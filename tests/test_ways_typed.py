"""Each way is a command: typed as it is printed, it turns the answer, and as many others as it says."""

from __future__ import annotations

import shlex
import shutil
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner

from ask_above import Community
from ask_above.cli.main import main
from conftest import DEMO

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


def question(c: Community, who: str, what: str, how: dict[str, Any]) -> bool:
    target, more = str(how.get("target")), {key: value for key, value in how.items() if key != "target"}
    if what == "moderate":
        return c.may_moderate(who, target, **more).allowed
    if what == "assign":
        return c.may_assign(who, target, **more).allowed
    if what == "manage":
        return c.may_manage(who, target).allowed
    return c.may_call(who, target, **more).allowed if what == "call" else c.may(who, what, **more).allowed


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
        for command in way.command.split(" && "):
            words = shlex.split(command)[1:]
            words += ["--yes", "--force", "--why", "a try", "--community", str(folder)]
            done = CliRunner().invoke(main, words, standalone_mode=False)
            assert done.return_value == 0, (way.command, done.output, done.exception)
        after = Community.open(folder)
        assert question(after, who, what, how) is not now, way.command
        answers = before.impact(after).of_capabilities
        own = what not in ("moderate", "assign", "manage", "call") and not who.startswith("rank:")
        assert answers - own == way.answers, way.command
