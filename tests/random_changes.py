"""Random changes of a community in a folder: for tests, and as a program that can be killed or run many times over.

Run: python tests/random_changes.py FOLDER SEED COUNT [URL]
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import nullcontext
from random import Random
from typing import Any

from ask_above import AskAboveError, ChangedMeanwhileError, Community
from ask_above.change import (
    Assign,
    Edit,
    Grant,
    MemberAdd,
    MemberSet,
    MemberStatus,
    PlaceMove,
    RankMove,
    RankSet,
    Say,
    SetGate,
    Unassign,
    Withhold,
)


def random_edit(rng: Random, c: Community) -> Edit:
    """Some edit, which may well be refused."""
    ranks, places, members = list(c.charter.ranks), list(c.charter.places), list(c.register.members)
    names = rng.sample(list(c.charter.catalogue.keys), rng.randint(1, 2))
    one, other, where, who = rng.choice(ranks), rng.choice(ranks), rng.choice(places), rng.choice(members)
    made: list[Any] = [
        Grant(one, names),
        Withhold(one, names),
        RankMove(one, above=other),
        RankSet(one, {"about": f"Number {rng.randrange(1000)}"}),
        Say(where, one, rng.choice(["allow", "deny", "bar"]), names),
        Say(where, who, rng.choice(["allow", "deny"]), names, True),
        SetGate(where, {"any": [one, other]}),
        PlaceMove(where, rng.choice(places), rng.random() < 0.5),
        Assign(who, one, where),
        Assign(who, one),
        Unassign(who, one),
        MemberSet(who, {"note": f"Note {rng.randrange(1000)}"}),
        MemberSet(who, {"groups": ";".join(rng.sample(list(c.charter.groups), rng.randint(0, 2)))}),
        MemberStatus(who, rng.choice(["active", "locked", "retired"])),
        MemberAdd(f"new-{rng.randrange(10**6)}", {"name": "New"}),
    ]
    edit: Edit = rng.choice(made)
    return edit


def changes(folder: str, rng: Random, url: str | None = None, by: str = "") -> Iterator[Any]:
    """Make random changes for ever; yields each plan that was made and its entry."""
    home, others_wait = Community.open(folder, register=url).home, False
    while True:
        try:
            # whoever was overtaken plans with the others waiting
            with home.locked() if others_wait else nullcontext():
                others_wait = False
                c = Community.open(folder, register=url)
                plan = c.plan(random_edit(rng, c), by=by, why="a try")
                if plan.is_empty:
                    continue
                entry = plan.apply(force=True)
        except ChangedMeanwhileError:
            others_wait = True
            continue
        except AskAboveError:
            continue
        yield plan, entry


def main() -> None:
    """Make changes and say each number once it is made."""
    folder, seed, count = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    made = changes(folder, Random(seed), sys.argv[4] if len(sys.argv) > 4 else None)
    for _ in range(count):
        print(next(made)[1].number, flush=True)  # noqa: T201


if __name__ == "__main__":
    main()
