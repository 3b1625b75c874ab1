"""Communities of any size, from a seed: for benchmarks, and for tests that need more than a handful of things."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from random import Random
from typing import Any

import yaml

from ask_above.charter.charter import Charter
from ask_above.charter.moments import ALWAYS, Period, period
from ask_above.files.folder import read_texts
from ask_above.people.register import Assignment, Member, Register

Data = dict[str, Any]
KINDS = ("section", "board", "journal", "gallery")


@dataclass(frozen=True)
class Size:
    """How much of everything; the defaults are the standard community."""

    ranks: int = 200
    capabilities: int = 150
    places: int = 2_000
    depth: int = 5
    overrides: int = 10_000
    members: int = 100_000
    profiles: int = 3_000


def charter_data(size: Size, seed: int = 1) -> Data:
    """Return the plain data of a charter."""
    rng = Random(seed)
    capabilities = [f"h{n % 12}.c{n}" for n in range(size.capabilities - 4)]
    catalogue: dict[str, Data] = {f"Heading {h}": {} for h in range(12)}
    for n, key in enumerate(capabilities):
        said: Data = {"about": f"Do the thing number {n}"}
        if n > 20 and rng.random() < 0.15:
            said["implies"] = [capabilities[rng.randrange(n - 12)]]
        if n > 20 and rng.random() < 0.1:
            said["needs"] = [capabilities[rng.randrange(n - 12)]]
        if rng.random() < 0.2:
            said["kinds"] = rng.sample(KINDS, 2)
        if n % 10 == 0:
            said["risk"] = "high" if n % 20 == 0 else "medium"
        catalogue[f"Heading {n % 12}"][key] = said
    catalogue["People"] = {key: f"Do {key}" for key in ("member.moderate", "rank.assign", "rank.manage", "place.see")}
    ranks: list[Data] = []
    for n in range(size.ranks - 2):
        said = {"key": f"rank-{n}", "title": f"Rank {n}", "grants": rng.sample(capabilities, 12)}
        if n and rng.random() < 0.2:
            said["builds-on"] = [f"rank-{rng.randrange(max(0, n - 20), n)}"]
        ranks.append(said)
    ranks[0]["unbounded"] = "true"
    ranks[1]["grants"] += ["member.moderate", "rank.assign", "rank.manage"]
    ranks.append({"key": "member", "held-by": "members", "grants": ["place.see", *capabilities[:10]]})
    ranks.append({"key": "anyone", "held-by": "anyone", "grants": ["place.see"]})
    return {
        "charter": "1",
        "key": "standard",
        "rules": {"timezone": "Europe/London", "seeing": "place.see"},
        "capabilities": catalogue,
        "ranks": ranks,
        "groups": [{"key": f"group-{n}"} for n in range(20)],
        "places": _places(rng, size, capabilities),
    }


def _places(rng: Random, size: Size, capabilities: list[str]) -> list[Data]:
    levels: list[list[Data]] = [[] for _ in range(size.depth)]
    flat: list[Data] = []
    for n in range(size.places - 1):
        level = min(n * size.depth // max(1, size.places), size.depth - 1) if n >= size.depth else n
        place: Data = {"key": f"place-{n}", "title": f"Place {n}", "kind": rng.choice(KINDS)}
        if level:
            rng.choice(levels[level - 1]).setdefault("places", []).append(place)
        levels[level].append(place)
        flat.append(place)
    for _ in range(size.overrides):
        overrides = rng.choice(flat).setdefault("overrides", {})
        key = "member" if rng.random() < 0.1 else f"rank-{rng.randrange(size.ranks - 2)}"
        key = f"group-{rng.randrange(20)}" if rng.random() < 0.1 else key
        word = rng.choice(("allow", "deny"))
        overrides[key] = {word: rng.sample(capabilities, 2)}
    return levels[0]


def as_yaml(data: Any) -> str:
    """Return data as a file; the quick writer, as hundreds of tests write one."""
    return yaml.dump(data, sort_keys=False, allow_unicode=True, Dumper=yaml.CSafeDumper)


def charter_text(size: Size, seed: int = 1) -> str:
    """Return a charter as a file."""
    return as_yaml(charter_data(size, seed))


def charter(size: Size, seed: int = 1) -> Charter:
    """Return a charter."""
    return read_texts({"charter.yaml": charter_text(size, seed)}).charter


def register(size: Size, seed: int = 1) -> Register:
    """Return a register: every member has one of so many profiles, a tenth of them with local or dated assignments."""
    rng = Random(seed + 1)
    made: list[tuple[tuple[str, ...], list[tuple[str, str, Period]]]] = []
    seen: set[object] = set()
    while len(made) < size.profiles:
        given = [(f"rank-{rng.randrange(2, size.ranks - 2)}", "site", ALWAYS) for _ in range(rng.randint(0, 3))]
        if len(made) % 10 == 0:
            place = f"place-{rng.randrange(size.places - 1)}"
            given.append((f"rank-{rng.randrange(2, size.ranks - 2)}", place, _period(rng)))
        groups = tuple(sorted({f"group-{rng.randrange(20)}" for _ in range(rng.randint(0, 2))}))
        alike = (groups, frozenset((rank, place) for rank, place, _ in given))
        if alike not in seen:
            seen.add(alike)
            made.append((groups, given))
    members: dict[str, Member] = {}
    assignments: list[Assignment] = []
    for n in range(size.members):
        key = f"m{n}"
        groups, given = made[n] if n < len(made) else rng.choice(made)
        members[key] = Member(key, groups=groups)
        assignments += [Assignment(key, rank, place, when) for rank, place, when in given]
    return Register(members, assignments, "members.csv")


def _period(rng: Random) -> Period:
    from ask_above.charter.moments import zone

    where = zone("Europe/London")
    assert where is not None
    start, end = f"{rng.randint(2020, 2025)}-03-01", f"{rng.randint(2027, 2030)}-06-30"
    return rng.choice((ALWAYS, period(start, "", where), period(start, end, where)))


def in_folder(folder: Path, size: Size) -> Path:
    """Write a community into a folder of its own, as files."""
    people = register(size)
    folder.mkdir()
    (folder / "charter.yaml").write_text(charter_text(size), "utf-8")
    members = [f"{m.key},{';'.join(m.groups)}\n" for m in people.members.values()]
    (folder / "members.csv").write_text("key,groups\n" + "".join(members), "utf-8")
    given = [f"{a.member},{a.rank},{a.place}\n" for a in people.assignments]
    (folder / "assignments.csv").write_text("member,rank,place\n" + "".join(given), "utf-8")
    return folder
