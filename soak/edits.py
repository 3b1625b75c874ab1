"""Changes at random, held to a second reading of rule 9: what may be made, and what is refused.

Run: python soak/edits.py COUNT [FIRST]; so many communities, from the seed FIRST on.
"""

from __future__ import annotations

import sys
from collections import Counter
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random

import yaml

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from soak.plain_edits import Change, Side

from ask_above import AskAboveError, Community
from ask_above.change import CharterSet, Edit
from ask_above.charter.moments import Instant
from ask_above.decide.names import Names
from generated import Generated, generate
from random_changes import random_edit

EDGES = ("from", "until")
EDITS_OF_ANOTHER = 0.25


def side(charter: str, names: Names) -> Side:
    """Return a community as the second reading takes it: the charter's text as data, and rows."""

    def text(at: Instant | None) -> str:
        return "" if at is None else (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=at)).isoformat()

    register = names.register
    members = [
        {
            "key": m.key,
            "status": m.status,
            "kind": m.kind,
            "groups": ";".join(sorted(m.groups)),
            "name": m.name,
            "note": m.note,
        }
        | {"joined": str(m.joined or ""), "was": m.was}
        | {"email": m.email, "phone": m.phone, "user_name": m.user_name, "external_id": m.external_id}
        for m in register.members.values()
    ]
    rows = [
        {
            "member": member,
            "rank": given.rank,
            "place": given.place,
            "from": text(given.period.start),
            "until": text(given.period.end),
            "record": f"{given.by} {given.why} {given.source}",
        }
        for member in register.members
        for given in register.of(member)
    ]
    return Side(yaml.load(charter, Loader=yaml.BaseLoader), members, rows)  # noqa: S506 - every scalar as text


def with_a_head(made: Generated, rng: Random) -> Generated:
    """Add a rank high on the ladder that carries everything, what each kind of change takes, and days to come."""
    there = {key for heading in made.charter["capabilities"].values() for key in heading}
    takes = ("rank.assign", "rank.manage", "place.manage", "member.lock")
    made.charter["capabilities"]["Heads"] = {key: f"Do {key}" for key in takes if key not in there}
    made.charter["ranks"].insert(rng.choice([0, 0, 1, 2]), {"key": "head", "grants": ["*"]})
    people = [member["key"] for member in made.members if member["status"] == "active"]
    for row in made.assignments:
        days = sorted(rng.sample(range(-2, 6), 2))
        edges = {edge: f"{datetime.now(UTC) + timedelta(day):%Y-%m-%d}" for edge, day in zip(EDGES, days, strict=True)}
        row |= {edge: day for edge, day in edges.items() if edge in row}
    made.assignments += [{"member": key, "rank": "head"} for key in people[-2:]]
    for member in made.members:
        member["joined"] = rng.choice(["", "2026-03-01"]) if member["status"] != "pending" else ""
    plain = [rank for rank in made.charter["ranks"] if rank.keys() <= {"key", "grants", "withhold", "builds-on"}]
    rng.choice(plain)["on-joining"] = rng.choice(["yes", "no"])
    moderating = made.charter["rules"]["authority"].get("moderate", {}).get("using", "member.moderate")
    accounts = {"naming": moderating} if rng.random() < 0.3 and str(moderating) in there else {}
    made.charter["rules"]["accounts"] = {"using": rng.choice(["member.lock", "see.it"]), **accounts}
    over = {"over": rng.choice(["below", "level", "anyone"]), "hand-on": rng.choice(["held", "any"])}
    made.charter["rules"]["overrides"] = {key: said for key, said in over.items() if rng.random() < 0.5}
    return made


def some_edit(rng: Random, c: Community) -> Edit:
    """Return some edit of any kind, of bundles and override sets more often than they come."""
    names = rng.sample(list(c.charter.catalogue.keys), rng.randint(1, 2))
    paths = [f"bundles.{key}" for key in c.charter.catalogue.bundles]
    holders = [*c.charter.ranks, *(f"{key}+" for key in c.charter.ranks), *c.charter.groups]
    words = rng.choice(["allow", "deny", "bar"])
    paths += [f"override-sets.{key}.{rng.choice(holders)}.{words}" for key in c.charter.override_sets]
    return CharterSet(rng.choice(paths), names) if paths and rng.random() < 0.2 else random_edit(rng, c)


def from_another(rng: Random) -> list[Edit]:
    """Return edits that put parts of another community into one: any difference, as only a hand would make it."""
    other = with_a_head(generate(rng), rng).charter
    parts = rng.sample(
        ["ranks", "places", "site", "bundles", "override-sets", "groups", "rules"], rng.choice([1, 1, 2])
    )
    return [CharterSet(part, other[part]) for part in parts if part in other]


def held_to_the_rules(seed: int, count: int = 12) -> Counter[str]:
    """Plan changes in one community, by those who may do much and by others; count what passes and what is refused."""
    rng, told = Random(seed), Counter[str]()
    made = with_a_head(generate(rng), rng)
    c = made.open()
    now, actors = datetime.now(UTC), [m.key for m in c.register.members.values() if m.is_active]
    actors += [row["member"] for row in made.assignments if row["rank"] == "head" and row["member"] in actors] * 3
    before = side(made.texts()["charter.yaml"], c.names)
    for _ in range(count if actors else 0):
        actor = rng.choice(actors)
        edits = (
            from_another(rng)
            if rng.random() < EDITS_OF_ANOTHER
            else [some_edit(rng, c) for _ in range(rng.choice([1, 1, 2]))]
        )
        try:
            plan = c.plan(*edits, by=actor)
        except AskAboveError:
            continue
        if plan.is_empty or c.charter.owner == actor:
            continue
        edit = Change(before, side(plan.texts["charter.yaml"], plan.after), actor, now)
        broken = edit.broken()
        ours = c.plan(*edits)
        said = [str(each) for each in (*ours.refusals, *ours.passable)]
        assert broken is None or bool(broken) is bool(said), (seed, "the maintainer", edits, broken, said)
        expected = edit.refusals()
        if expected is None:
            told["not read"] += 1
            continue
        said = [str(each) for each in plan.refusals]
        assert bool(expected) is bool(said), (seed, actor, edits, expected, said)
        told["refused" if said else "passes"] += 1
    return told


def main() -> None:
    """Go through the seeds; the first that differs ends it."""
    count, first = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1_000
    total = Counter[str]()
    for seed in range(first, first + count):
        total += held_to_the_rules(seed)
        if (seed - first + 1) % 50 == 0:
            print(f"{seed - first + 1} seeds: {dict(total)}", flush=True)
    print(f"all agree: {dict(total)}")


if __name__ == "__main__":
    main()
