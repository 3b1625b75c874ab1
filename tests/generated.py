"""Random communities, from a seed or from hypothesis: the charter's plain data, members and assignments as rows."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from random import Random
from typing import Any, TypeVar

from hypothesis import strategies as st

from ask_above import Community
from standard import as_yaml

T = TypeVar("T")
Data = dict[str, Any]

NOW = datetime(2026, 11, 25, 12, tzinfo=UTC)
KINDS = ("board", "journal", "section")
MEMBER_COLUMNS = ("key", "name", "email", "kind", "status", "joined", "groups", "note", "was", "external_id")
ASSIGNMENT_COLUMNS = ("member", "rank", "place", "from", "until", "by", "why", "source")


@dataclass
class Generated:
    charter: Data
    members: list[Data]
    assignments: list[Data]

    def texts(self) -> dict[str, str]:
        return {
            "charter.yaml": as_yaml(self.charter),
            "members.csv": as_csv(self.members, MEMBER_COLUMNS),
            "assignments.csv": as_csv(self.assignments, ASSIGNMENT_COLUMNS),
        }

    def open(self) -> Community:
        return Community.from_texts(self.texts())


def as_csv(rows: list[Data], columns: Sequence[str]) -> str:
    out = io.StringIO()
    writer = csv.DictWriter(out, columns, restval="", lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return out.getvalue()


class Maker:
    """Makes one community; everything it decides it takes from ``rng``. ``gives_only`` leaves out all that takes."""

    def __init__(self, rng: Random, *, gives_only: bool = False) -> None:
        self.rng, self.gives_only = rng, gives_only

    def chance(self, of: float) -> bool:
        return self.rng.random() < of

    def some(self, items: Sequence[T], most: int) -> list[T]:
        return self.rng.sample(list(items), min(len(items), self.rng.randint(0, most)))

    def make(self) -> Generated:
        caps = self.capabilities()
        self.full = [
            k for key, s in caps.items() for k in ([f"{key}.own", f"{key}.all"] if s.get("authored") else [key])
        ]
        self.implied = _implied(caps)
        self.bundles = {"pack": self.some(self.full, 3) or self.full[:1]}
        self.bundles["crate"] = ["pack", *self.some(self.full, 1)]
        self.ranks = [f"r{n}" for n in range(self.rng.randint(2, 6))]
        self.rank_data = [self.rank(n) for n in range(len(self.ranks))]
        self.plain = [r["key"] for r in self.rank_data if "held-by" not in r]
        self.groups = ["g0", "g1"]
        self.people = [f"m{n}" for n in range(self.rng.randint(1, 5))]
        self.places = ["p0", "p1", "p2", "p3"][: self.rng.randint(1, 4)]
        sets = {"calm": self.overrides(), "loud": self.overrides()}
        self.set_names = list(sets)
        site, places = self.differences(), self.place_tree()
        charter: Data = {
            "charter": "1",
            "key": "made",
            "rules": self.rules(),
            "capabilities": {"All": caps},
            "bundles": self.bundles,
            "ranks": self.rank_data,
            "groups": [self.group(n) for n in range(2)],
            "override-sets": sets,
            "site": site,
            "places": places,
        }
        members = [self.member(key) for key in self.people]
        active = [each["key"] for each in members if each["status"] == "active"]
        if active and self.chance(0.4):
            charter["owner"] = self.rng.choice(active)
        assignments = [self.assignment() for _ in range(self.rng.randint(0, 8))] if self.plain else []
        return Generated(charter, members, assignments)

    def capabilities(self) -> dict[str, Data]:
        names = [
            "a.one", "a.two", "b.one", "b.two", "member.moderate", "rank.assign", "rank.manage", "rank.call",
            "see.it",
        ]  # fmt: skip
        caps: dict[str, Data] = {}
        for n, key in enumerate(names):
            if n >= 4 and n != 8 and self.chance(0.15):
                continue
            said: Data = {"about": f"Do {key}"}
            earlier = [k for k in caps if "authored" not in caps[k]]
            for relation in ("implies", "needs"):
                if earlier and self.chance(0.25):
                    said[relation] = [self.rng.choice(earlier)]
            if self.chance(0.2):
                said["kinds"] = self.some(("site", *KINDS), 3) or ["board"]
            if n < 4 and self.chance(0.3):
                said["authored"] = "true"
            caps[key] = said
        return caps

    def words(self, most: int = 3) -> list[str]:
        return self.some([*self.full, *self.bundles, "a.*", "*"] if self.chance(0.3) else self.full, most)

    def rank(self, n: int) -> Data:
        said: Data = {"key": self.ranks[n], "grants": self.words(4)}
        if not self.gives_only and self.chance(0.3):
            said["withhold"] = self.some(self.full, 2)
        if n and self.chance(0.3):
            said["builds-on"] = self.some(self.ranks[:n], 2)
        if self.chance(0.25):
            said["held-by"] = self.rng.choice(["anyone", "visitors", "members", "bots"])
        elif self.chance(0.15) and not getattr(self, "has_entry", False):
            said["entry"], self.has_entry = "true", True
        for key, of in (("unbounded", 0.1), ("open", 0.2)):
            if self.chance(of):
                said[key] = "true"
        if self.chance(0.1):
            said["kept-by"] = "outside"
        if self.chance(0.1) and "held-by" not in said and "entry" not in said:
            said["paused"] = "true"
        if self.chance(0.2):
            said["call"] = self.rng.choice(["open", "closed"])
        if self.chance(0.2):
            said["limit"] = str(self.rng.randint(0, 2))
        for key in ("after", "apart-from"):
            if self.chance(0.15):
                said[key] = self.some(self.ranks, 2)
        for key in ("moderates", "assigns", "manages"):
            if self.chance(0.2):
                said[key] = {self.rng.choice(["only", "except"]): self.some(self.ranks, 3) or self.ranks[:1]}
        return said

    def entry(self) -> Data:
        allow = self.some(self.full, 2) if self.chance(0.7) else []
        said: Data = {"allow": allow} if allow else {}
        if not self.gives_only:
            caps = self._closed(set(allow))
            left = [c for c in self.full if c not in caps]
            for word, of in (("deny", 0.5), ("bar", 0.12)):
                if left and self.chance(of):
                    said[word] = self.some(left, 2)
        return said

    def _closed(self, caps: set[str]) -> set[str]:
        while True:
            more = caps | {i for c in caps for i in self.implied[c]}
            if more == caps:
                return caps
            caps = more

    def overrides(self) -> Data:
        keys = self.some([*self.ranks, *(f"{r}+" for r in self.ranks), "g0", "g1"], 4)
        return {key: self.entry() for key in keys}

    def gate(self) -> Data:
        terms = [*self.ranks, *(f"{r}+" for r in self.ranks), "g0", "g1"]
        words = ["any", "all"] if self.gives_only else ["any", "all", "none"]
        chosen = self.rng.sample(words, self.rng.randint(1, 2))
        return {word: self.some(terms, 2) or terms[:1] for word in chosen}

    def differences(self) -> Data:
        said: Data = {}
        if self.chance(0.7):
            said["overrides"] = self.overrides()
        if self.chance(0.4):
            said["exceptions"] = {key: self.entry() for key in self.some(self.people, 2)}
        if self.chance(0.2):
            said["gate"] = self.gate()
        if self.chance(0.3):
            said["like"] = self.some(self.set_names, 2)
        return said

    def place_tree(self) -> list[Data]:
        made: dict[str, Data] = {}
        roots: list[Data] = []
        for key in self.places:
            place: Data = {"key": key, "kind": self.rng.choice(KINDS), **self.differences()}
            outer = self.rng.choice([None, *made])
            (roots if outer is None else made[outer].setdefault("places", [])).append(place)
            made[key] = place
        return roots

    def group(self, n: int) -> Data:
        said: Data = {"key": self.groups[n]}
        if n and self.chance(0.5):
            said["includes"] = ["g0"]
        if self.plain and self.chance(0.5):
            rank = self.rng.choice(self.plain)
            said["confers"] = [rank if self.chance(0.4) else {"rank": rank, "place": self.rng.choice(self.places)}]
        return said

    def rules(self) -> Data:
        said: Data = {"disagreement": self.rng.choice(["topmost", "allow", "deny"])}
        said["timezone"] = self.rng.choice(["UTC", "Europe/London", "America/St_Johns"])
        if self.chance(0.3) and "see.it" in self.full:
            said["seeing"] = "see.it"
        authority: Data = {}
        for act in ("moderate", "assign", "manage"):
            if self.chance(0.6):
                authority[act] = {"over": self.rng.choice(["below", "level", "anyone"])}
                if act != "moderate" and self.chance(0.4):
                    authority[act]["hand-on"] = "any"
                if act == "assign" and self.chance(0.4):
                    authority[act]["self"] = "true"
                if self.chance(0.4):
                    using = self.rng.choice(self.full)
                    authority[act]["using"] = [using, "a.*"] if act == "moderate" and self.chance(0.5) else using
        said["authority"] = authority
        return said

    def member(self, key: str) -> Data:
        said: Data = {"key": key, "groups": ";".join(self.some(self.groups, 2))}
        said["status"] = self.rng.choices(["active", "pending", "invited", "locked", "retired"], [8, 2, 1, 1, 1])[0]
        said["kind"] = self.rng.choices(["person", "bot"], [4, 1])[0]
        return said

    def assignment(self) -> Data:
        said: Data = {"member": self.rng.choice(self.people), "rank": self.rng.choice(self.plain)}
        if self.chance(0.5):
            said["place"] = self.rng.choice(self.places)
        if self.chance(0.3):
            said["from"] = (NOW + timedelta(days=self.rng.randint(-3, 3))).strftime("%Y-%m-%d")
        if self.chance(0.3):
            form = self.rng.choice(["%Y-%m-%d", "%Y-%m-%dT%H:%M"])
            said["until"] = (NOW + timedelta(hours=self.rng.randint(-60, 60))).strftime(form)
        return said


def _implied(caps: dict[str, Data]) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for key, said in caps.items():
        if said.get("authored"):
            found[f"{key}.own"] = said.get("implies", [])
            found[f"{key}.all"] = [*said.get("implies", []), f"{key}.own"]
        else:
            found[key] = said.get("implies", [])
    return found


def generate(rng: Random, *, gives_only: bool = False) -> Generated:
    """Make one community."""
    return Maker(rng, gives_only=gives_only).make()


def communities(*, gives_only: bool = False) -> st.SearchStrategy[Generated]:
    """All random communities, for hypothesis."""
    return st.randoms(use_true_random=False).map(lambda rng: generate(rng, gives_only=gives_only))
