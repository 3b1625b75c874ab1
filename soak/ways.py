"""Ways to another answer, typed as they are printed: each is made, turns the answer, and as many others as it says.

Run: python soak/ways.py COUNT [FIRST]; so many communities, from the seed FIRST on.
"""

from __future__ import annotations

import shlex
import sys
from collections import Counter
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from click.testing import CliRunner
from soak.edits import with_a_head
from soak.told import through_seeds, with_more

from ask_above import AskAboveError, Community
from ask_above.ask.ways.search import Way
from ask_above.cli.main import main
from generated import generate

_ACTS = ("moderate", "assign", "manage", "call")


def question(c: Community, who: str, what: str, how: dict[str, Any]) -> bool:
    target, more = str(how.get("target")), {key: value for key, value in how.items() if key != "target"}
    if what == "moderate":
        return c.may_moderate(who, target, **more).allowed
    if what == "assign":
        return c.may_assign(who, target, **more).allowed
    if what == "manage":
        return c.may_manage(who, target).allowed
    return c.may_call(who, target, **more).allowed if what == "call" else c.may(who, what, **more).allowed


def type_it(way: Way, folder: Path) -> Community:
    """Make a way's change by its command, as the maintainer, and open what that leaves."""
    for command in way.command.split(" && "):
        words = [*shlex.split(command)[1:], "--yes", "--why", "a try", "--community", str(folder)]
        done = CliRunner().invoke(main, words, standalone_mode=False)
        if "Expectation no longer met" in done.output:  # that is what it is for, where somebody asks how it could be
            done = CliRunner().invoke(main, [*words, "--force"], standalone_mode=False)
        assert done.return_value == 0, (way.command, done.output, done.exception)
    return Community.open(folder)


def any_question(rng: Random, c: Community) -> tuple[str, str, dict[str, Any]]:
    ranks, people = [*c.charter.ranks], [*c.register.members]
    who = [*people, "visitor", *(f"rank:{r}" for r in ranks)]
    what, at = rng.choice(["", "", *_ACTS]), rng.choice([*c.charter.places])
    more: dict[str, dict[str, Any]] = {
        "moderate": {"at": at, "target": rng.choice(who)},
        "assign": {"at": at, "target": rng.choice(ranks), "to": rng.choice(people)},
        "manage": {"target": rng.choice(ranks)},
        "call": {"at": at, "target": rng.choice(ranks)},
    }
    return rng.choice(who), what or rng.choice([*c.charter.catalogue.capabilities]), more.get(what, {"at": at})


def as_it_is(seed: int) -> Counter[str]:
    """Type ways of one community; raises ``AssertionError`` where one cannot be made, or is no way."""
    rng, counts = Random(seed), Counter[str]()
    texts = with_more(with_a_head(generate(rng), rng), rng).texts()
    before = Community.from_texts(texts)
    for _ in range(4):
        who, what, how = any_question(rng, before)
        try:
            now, found = question(before, who, what, how), before.ways(who, what, every=True, **how)
        except AskAboveError:
            continue  # nobody acts by themselves on a visitor, and the like
        counts["questions"] += 1
        for way in rng.sample(list(found), min(4, len(found))):
            with TemporaryDirectory() as folder:
                for name, text in texts.items():
                    (Path(folder) / name).write_text(text, "utf-8")
                after = type_it(way, Path(folder))
                assert question(after, who, what, how) is not now, (who, what, how, way.command)
            counts["ways"] += 1
    return counts


if __name__ == "__main__":
    through_seeds(as_it_is)
