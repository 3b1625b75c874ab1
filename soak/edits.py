"""Changes at random, held to a second reading of rule 9: what may be made, and what is refused.

Run: python soak/edits.py COUNT [FIRST]; so many communities, from the seed FIRST on.
"""

from __future__ import annotations

import sys
from collections import Counter
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random

import yaml

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from soak.plain_edits import Change, Side

from ask_above import AskAboveError, Community
from ask_above.change import Assign, CharterSet, Edit, HandOver, MemberAdd, MemberForget, Unassign
from ask_above.change.importing import Import, ImportAssignments
from ask_above.change.syncing import GroupGives, LetGo, Outsider, Sync
from ask_above.charter.moments import Instant
from ask_above.decide.names import Names
from ask_above.people.reading import FileRow, FileRows
from ask_above.workspace.plans import Plan
from ask_above.workspace.undoing import undo
from generated import Generated, generate
from random_changes import random_edit

EDGES = ("from", "until")
SOURCE = "outside"
"""What the directory is called here, and what some ranks are kept by."""


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
            "source": given.source,
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


def with_a_directory(made: Generated, rng: Random) -> Generated:
    """Let some members, and something of what was given them, come from a directory."""
    theirs = rng.sample([member["key"] for member in made.members], min(2, len(made.members)))
    for member in made.members:
        member["external_id"] = f"{SOURCE}:{member['key']}" if member["key"] in theirs else ""
    for row in made.assignments:
        row["source"] = SOURCE if row["member"] in theirs and rng.random() < 0.5 else ""
    return made


def of_a_directory(rng: Random, c: Community) -> Edit:
    """Take over what the directory says of some who are here and of one who is not, let it go, or forget somebody."""
    ranks, groups = [key for key, rank in c.charter.ranks.items() if not rank.automatic], [*c.charter.groups]
    gives = [GroupGives("one", rng.choice(ranks), rng.choice([*c.charter.places])) for _ in range(2)]
    gives += [GroupGives("two", into=rng.choice(groups))] if groups else []
    keys = [*rng.sample([*c.register.members], min(2, len(c.register.members))), "newcomer"]
    people = [Outsider(k, k, k.title(), "", frozenset(rng.sample(["one", "two"], rng.randint(0, 2)))) for k in keys]
    sync = Sync(SOURCE, people, gives, retires=rng.random() < 0.5, link=True)
    edits: list[Edit] = [sync, sync, LetGo(SOURCE), *(MemberForget(key) for key in keys[:2])]
    return rng.choice(edits)


def some_edits(rng: Random, c: Community) -> list[Edit]:
    """Return edits of any kind: what a command makes, what stands there again, a list, parts of another community."""
    kind = rng.random()
    if kind < 0.25:
        return from_another(rng)
    if kind < 0.4 and c.register.assignments:
        return [of_what_stands(rng, c)]
    if kind < 0.5:
        return [a_list(rng, c)]
    if kind < 0.6:
        return [of_a_directory(rng, c)]
    return [some_edit(rng, c) for _ in range(rng.choice([1, 1, 2]))]


def some_edit(rng: Random, c: Community) -> Edit:
    """Return some edit, of bundles and override sets more often than they come."""
    names = rng.sample(list(c.charter.catalogue.keys), rng.randint(1, 2))
    paths = [f"bundles.{key}" for key in c.charter.catalogue.bundles]
    holders = [*c.charter.ranks, *(f"{key}+" for key in c.charter.ranks), *c.charter.groups]
    words = rng.choice(["allow", "deny", "bar"])
    paths += [f"override-sets.{key}.{rng.choice(holders)}.{words}" for key in c.charter.override_sets]
    return CharterSet(rng.choice(paths), names) if paths and rng.random() < 0.2 else random_edit(rng, c)


def of_what_stands(rng: Random, c: Community) -> Edit:
    """Take an assignment that stands away, or give it for another time."""
    member, rank, place = rng.choice(c.register.assignments)[:3]
    soon, later = (f"{datetime.now(UTC) + timedelta(day):%Y-%m-%d}" for day in (4, 20))
    since, until = rng.choice([("", ""), (soon, ""), ("", later)])
    edits: list[Edit] = [Unassign(member, rank, place), Assign(member, rank, place, since, until)]
    return rng.choice(edits)


def a_list(rng: Random, c: Community) -> Edit:
    """Merge a list of members: some who are here, one who is not."""
    keys = [*rng.sample(list(c.register.members), rng.randint(1, min(3, len(c.register.members)))), "newcomer"]
    columns = {
        "name": ["", "Other"],
        "status": ["active", "pending", "invited", "locked", "retired"],
        "kind": ["person", "bot"],
        "groups": ["", *c.charter.groups],
        "note": ["", "Comes on Sundays"],
    }
    chosen = rng.sample(list(columns), rng.randint(1, 3))
    rows = FileRows("list.csv")
    rows.rows = [FileRow({"key": k} | {n: rng.choice(columns[n]) for n in chosen}, at) for at, k in enumerate(keys, 2)]
    return Import(rows)


def from_another(rng: Random) -> list[Edit]:
    """Return edits that put parts of another community into one: any difference, as only a hand would make it."""
    other = with_a_head(generate(rng), rng).charter
    parts = ["ranks", "places", "site", "bundles", "override-sets", "groups", "rules"]
    return [CharterSet(part, other[part]) for part in rng.sample(parts, rng.choice([1, 1, 2]))]


def opened(rng: Random) -> tuple[Community, list[str]]:
    """Return a community and its active members but the owner, of whom those who may do much come more often."""
    made = with_a_head(generate(rng), rng)
    made = with_a_directory(made, rng) if rng.random() < 0.3 else made
    c = made.open()
    actors = [m.key for m in c.register.members.values() if m.is_active and m.key != c.charter.owner]
    return c, actors + [
        row["member"] for row in made.assignments if row["rank"] == "head" and row["member"] in actors
    ] * 3


def planned(c: Community, edits: list[Edit], by: str = "") -> Plan:
    """Plan edits; a sync counts under its directory's name where the owner or the maintainer runs it."""
    plan = c.plan(*edits, by=by or None)
    plan.source = SOURCE if isinstance(edits[0], (Sync, LetGo)) and by in ("", c.charter.owner) else ""
    return plan


def held_to_the_rules(seed: int, count: int = 12) -> Counter[str]:
    """Plan changes in one community, by those who may do much and by others; count what passes and what is refused."""
    rng, told = Random(seed), Counter[str]()
    c, actors = opened(rng)
    for _ in range(count if actors else 0):
        actor, edits = rng.choice(actors), some_edits(rng, c)
        with suppress(AskAboveError):
            told += agreeing(c, planned(c, edits, actor), planned(c, edits), actor, (seed, edits))
    edits, actor = some_edits(rng, c), rng.choice([*actors, ""])
    if actor and not any(isinstance(each, (MemberAdd, HandOver, Import, ImportAssignments)) for each in edits):
        with suppress(AskAboveError):  # one is made, and taken back; of owners and who was added undoing says more
            c.plan(*edits, why="a try").apply(force=True)
            c = c.again()
            told += agreeing(c, undo(c.storage, by=actor), undo(c.storage), actor, (seed, "undo", edits))
    return told


def as_told(seed: int, count: int = 6) -> Counter[str]:
    """Make changes: whom a refusal names may make it; what its maker may not take back is said before, and who may."""
    told = Counter[str]()
    for n in range(count):
        rng = Random(f"{seed} {n}")
        c, actors = opened(rng)
        actor, edits = rng.choice([*actors, ""]), some_edits(rng, c)
        with suppress(AskAboveError):
            plan = planned(c, edits, actor)
            if not actor or plan.is_empty:
                continue
            named = [key for key, member in c.register.members.items() if member.called in plan.could]
            assert not any(planned(c, edits, key).refusals for key in named), (seed, actor, edits, named)
            told["named"] += len(named)
            kept = plan.lasting if not plan.refusals else []
            plan.apply()
            after = c.again()
            if not after.register.members[actor].is_active:
                continue
            assert bool(undo(after.storage, by=actor).refusals) is bool(kept), (seed, actor, edits, kept)
            named = [key for key, member in after.register.members.items() if member.called in kept]
            assert not any(undo(after.storage, by=key).refusals for key in named), (seed, actor, edits, named)
            told["undone by others" if named else "undone by nobody" if kept else "undone by the same"] += 1
    return told


def agreeing(c: Community, plan: Plan, ours: Plan, actor: str, which: object) -> Counter[str]:
    """Hold a plan of a member's and that of the maintainer to the rules; raises where they differ."""
    if plan.is_empty or (plan.kind == "forget" and not plan.difference):  # of whom nothing is left but the key
        return Counter()
    before, now = side(plan.snapshot.texts["charter.yaml"], c.names), datetime.now(UTC)
    after, as_ours = (side(each.texts["charter.yaml"], each.after) for each in (plan, ours))
    expected = Change(before, after, actor, now).refusals()
    broken = Change(before, as_ours, actor, now, ours.source, back=ours.kind == "undo").broken()
    said = [str(each) for each in (*ours.refusals, *ours.passable)]
    assert broken is None or bool(broken) is bool(said), (which, "the maintainer", broken, said)
    said = [str(each) for each in plan.refusals]
    assert len({(each.rule, each.why.casefold()) for each in plan.refusals}) == len(said), (which, "told twice", said)
    assert expected is None or bool(expected) is bool(said), (which, actor, expected, said)
    return Counter(["not read" if expected is None else "refused" if said else "passes"])


def main() -> None:
    """Go through the seeds; the first that differs ends it."""
    count, first = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1_000
    total = Counter[str]()
    for seed in range(first, first + count):
        total += held_to_the_rules(seed) + as_told(seed)
        if (seed - first + 1) % 50 == 0:
            print(f"{seed - first + 1} seeds: {dict(total)}", flush=True)
    print(f"all agree: {dict(total)}")


if __name__ == "__main__":
    main()
