"""What a change costs, in passes of the whole table: its reach, its effect, and the plan of one member's change.

Run: python benchmarks/changing.py
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ask_above import Assignment, Charter, Community, Register
from ask_above.change import Assign
from ask_above.change.difference import Difference
from ask_above.change.parts import State
from ask_above.change.reach import Reach
from ask_above.charter import changes
from ask_above.charter.moments import instant
from generated import ASSIGNMENT_COLUMNS, MEMBER_COLUMNS, as_csv
from standard import Size, charter, charter_text, register

LIMIT = 3
MEMBER_LIMIT = 20


def seconds(work: Callable[[], Any], runs: int = 5) -> float:
    """The median time of some work, after one run that does not count."""
    work()
    times = []
    for _ in range(runs):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def edits(before: Charter) -> dict[str, Charter]:
    """The charter after edits of each kind, by what they are called."""
    carried, other = next(iter(before.ranks["rank-1"].grants)), list(before.catalogue.keys)[2]
    return {
        "a rank carries one thing more": changes.granting(before, "rank-50", [carried]),
        "every member carries one thing less": changes.withholding(before, "member", [other]),
        "one place denies one rank": changes.saying(before, list(before.places)[500], "rank-60", "deny", [other]),
        "the site denies every member": changes.saying(before, "site", "member", "deny", [other]),
    }


def whole_charter() -> None:
    """Print reach and effect of edits of the charter on the standard community."""
    before, people = charter(Size()), register(Size())
    actor = next(iter(people.members))
    people = people.changed({}, {actor: [Assignment(actor, "rank-1")]})
    at = instant(datetime.now(UTC))
    c = Community(before, people)
    one = seconds(c.table)
    for said, after in edits(before).items():
        new = c.after(charter=after)

        def reach(new: Community = new, after: Charter = after) -> None:
            difference = Difference(State(before, people), State(after, people), at)
            Reach(c.decider, new.decider, difference, at).refusals(actor)

        for what, work in (("reach", reach), ("effect", lambda new=new: c.impact(new))):
            took = seconds(work, runs=3)
            print(f"{what}, {said}: {took:.2f} s, {took / one:.1f} passes of the table (limit {LIMIT})")


def one_member() -> None:
    """Print the plan of one assignment in a community that is open, beside one that looks at everybody."""
    size = Size(members=20_000, places=200, overrides=1_000)
    with tempfile.TemporaryDirectory() as folder:
        _written(Path(folder), size, register(size))
        c = Community.open(folder)
        members = iter(list(c.register.members)[5:])

        def plan() -> None:
            made = c.plan(Assign(next(members), "rank-50"))
            _ = made.effect, made.refusals

        took, one = seconds(plan, runs=15), seconds(c.table)
        print(
            f"the plan of one assignment among {size.members} members: {took * 1000:.0f} ms (wanted {MEMBER_LIMIT}),"
            f" {took / one:.1f} passes of its table"
        )


def _written(folder: Path, size: Size, people: Register) -> None:
    members = [{"key": m.key, "name": m.name, "status": m.status, "kind": m.kind} for m in people.members.values()]
    given = [
        {"member": a.member, "rank": a.rank, "place": "" if a.place == "site" else a.place} for a in people.assignments
    ]
    (folder / "charter.yaml").write_text(charter_text(size), encoding="utf-8")
    (folder / "members.csv").write_text(as_csv(members, MEMBER_COLUMNS), encoding="utf-8")
    (folder / "assignments.csv").write_text(as_csv(given, ASSIGNMENT_COLUMNS), encoding="utf-8")


if __name__ == "__main__":
    whole_charter()
    one_member()
