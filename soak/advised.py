"""Advice held to a second reading: each piece is found there, and nothing is found there that is no piece.

Run: python soak/advised.py COUNT [FIRST]; so many communities, from the seed FIRST on. What has no effect is taken out,
and no answer is another then. Colors, names that look alike, and climbing are not read.
"""

from __future__ import annotations

import re
import sys
from collections import Counter
from collections.abc import Iterator
from copy import deepcopy
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from typing import Final

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from soak.edits import side, with_a_head
from soak.told import through_seeds, with_more

from ask_above.ask.advice.piece import Piece
from generated import Generated, generate
from plain_rules import Data, Person, Plain, yes

Found = tuple[str, ...]

_SEEING = {"see", "view", "read", "enter"}
_WAYS: Final = {
    "still-carried": r"(\S+) withholds (\S+), but",
    "condition-void": r"(\S+) is ",
    "undecided": r"no rank grants (\S+)",
    "risky-by-default": r"(\S+), which is .*? (?:grants|is allowed) (.*?) \(high risk\)(?: (?:in|on) (.*))?$",
    "meant-for-nobody": r"(\S+) (?:grants (\S+)|is allowed (.*) (?:in|on) (.*)), which 'nobody' lists",
    "detour": r"(\S+) grants (\S+), which leads to (.*)",
    "needs-unmet": r"(\S+) grants (\S+), which needs (.*);",
    "wildcard-high-risk": r"(\S+) (?:grants|is allowed (?:in|on) (.*)) (\S+), which includes (.*) \(high risk\)",
    "deny-reaches-up": r"(\S+) is denied (\S+) (?:in|on) (.*), so ",
    "drifted": r"(\S+) contradicts (\S+) on (.*) for (\S+)",
    "seeing-denied": r"(\S+) may not use \S+ in (\S+), but may use (.*) there",
    "gate-nobody": r"the gate of (\S+) ",
    "gate-shuts-keepers": r"the gate of (\S+) excludes (\S+),",
    "too-many-high-risk": r"(\d+) members? may use (\S+) ",
    "uncovered": r"no active member may use (\S+) ",
    "only-one": r"only \S+ may use (\S+) ",
    "held-behind-gate": r"\S+ has (\S+) in (\S+), but",
    "pending-worse": r"visitors may use (.*) (?:in|on) (.*), but",
    "joined-by-hand": r".* does not have (\S+)$",
    "exception-gone": r"there is an exception (?:in|on) (.*) for (\S+), who",
}
"""How a piece says what it is about, beside whom it concerns."""
READ: Final = {
    *_WAYS,
    *("builds-on-higher", "builds-on-unbounded", "builds-on-overrides", "moderates-nobody", "below-everyone"),
    *("badge-above-power", "same-carried", "unheld", "copy-behind", "too-many-unbounded", "over-limit", "ended"),
    *("never-starts", "contradictory"),
}


def found_in(piece: Piece) -> Found:
    """Return a piece as this reading says it: its code, what it is about, and whom it concerns."""
    about = re.match(_WAYS[piece.code], piece.what) if piece.code in _WAYS else None
    parts = (part.removeprefix("the whole ") for part in (about.groups() if about else ()) if part)
    # the site is called as the community is
    words = ("+".join(sorted(re.split(r", | and ", part))).replace("made", "site") for part in parts)
    return (piece.code, *words, *(key for key in piece.concerned if piece.code not in _UNCONCERNED))


_UNCONCERNED: Final = {
    *("detour", "needs-unmet", "risky-by-default", "meant-for-nobody", "wildcard-high-risk", "drifted"),
    *("seeing-denied", "gate-shuts-keepers", "exception-gone"),
}
"""Whom these concern is what they are about."""


class Advised(Plain):
    """A community, and what there is to say of it at a moment."""

    def __init__(self, charter: Data, members: list[Data], assignments: list[Data], t: datetime) -> None:
        super().__init__(charter, members, assignments)
        self.t, self.people = t, {m: self.person(m, t) for m in self.members}
        self.there = {m: p for m, p in self.people.items() if p.status == "active"}
        self.high = {c for c, said in self.caps.items() if said.get("risk") == "high"}
        self.nobody = self.names(charter.get("nobody", []))
        self.unbounding = {r for r in self.ranks if yes(self.rank[r].get("unbounded", "no"))}
        self.automatic = {r for r in self.ranks if "held-by" in self.rank[r]}
        self.assigned = [r for r in self.ranks if r not in self.unbounding | self.automatic]

    def has(self, r: str, *flags: str) -> bool:
        return any(yes(self.rank[r].get(flag, "no")) for flag in flags)

    def entries(self, q: str, *parts: str) -> Iterator[tuple[str, str, Data]]:
        """What a place says to whom: the part, the label, and the words."""
        for part in parts:
            yield from ((part, label, entry) for label, entry in self.place[q].get(part, {}).items())

    def allows(self, entry: Data) -> set[str]:
        return self.close(self.names(entry.get("allow", [])))

    def holders(self, r: str) -> list[str]:
        """The members who have a rank now, the retired not counted."""
        there = ((m, p) for m, p in self.people.items() if p.status != "retired")
        return sorted(m for m, p in there if r in p.rec_automatic or r in {x for x, _ in p.rec_given})

    def advice(self) -> Iterator[Found]:
        """Everything that is read."""
        for part in (self.of_grants, self.of_ranks, self.of_places, self.of_words, self.of_gates):
            yield from part()
        yield from self.of_people()
        yield from self.of_assignments()

    # -- ranks

    def of_grants(self) -> Iterator[Found]:
        seen: dict[frozenset[str], str] = {}
        for r in self.ranks:
            said, carried = self.rank[r], self.carried(r)
            for cap in self.names(said.get("withhold", [])) if r in self.automatic else ():
                others = [x for x in self.ranks if x not in self.unbounding and cap in self.carried(x)]
                if others:
                    yield "still-carried", r, cap, *others
            original = str(said.get("copied-from"))
            withheld = self.names(self.rank.get(original, {}).get("withhold", []))
            if carried & withheld and original not in self.unbounding:
                yield "copy-behind", r, original
            if carried and r in self.assigned and "kept-by" not in said:
                first = seen.setdefault(frozenset(carried), r)
                if first != r:
                    yield "same-carried", first, r
            if r in self.automatic or self.has(r, "open", "entry", "on-joining"):
                yield from (
                    ("risky-by-default", r, cap)
                    for cap in (self.caps if r in self.unbounding else carried)
                    if cap in self.high
                )
            if r in self.unbounding:
                continue
            yield from (("meant-for-nobody", r, cap) for cap in carried & self.nobody)
            for cap in carried:
                led = {to for to in self.caps[cap].get("leads-to", []) if to not in carried}
                if led:
                    yield "detour", r, cap, "+".join(sorted(led))
            yield from self.unmet(r, carried)
            for word in self.patterns(said.get("grants", [])):
                risky = self.names([word]) & self.high & carried
                if risky:
                    yield "wildcard-high-risk", r, word, "+".join(sorted(risky))
        given = self.nobody.union(*map(self.carried, self.ranks))
        sources = [e for q in self.place for *_, e in self.entries(q, "overrides", "exceptions")]
        sources += [e for said in self.c.get("override-sets", {}).values() for e in said.values()]
        given |= set().union(*map(self.allows, sources))
        yield from (("undecided", cap) for cap in self.caps.keys() - given)

    def patterns(self, words: list[str]) -> Iterator[str]:
        for word in words:
            if word.endswith("*"):
                yield word
            elif word in self.c.get("bundles", {}):
                yield from self.patterns(self.c["bundles"][word])

    def unmet(self, r: str, carried: set[str]) -> Iterator[Found]:
        """What a rank grants and its holders can use nowhere, as they have nowhere what it needs."""
        p = self.as_rank(r)
        for cap in carried:
            rests = {*self.rests(cap, "site")}
            places = [q for q in self.place if self.meaning(cap, q)]
            if rests <= carried or not places or any(self.may(p, cap, q) for q in self.place):
                continue
            lacking = [rests - self.held(p, q, gates=False) for q in places]
            missing = set.intersection(*lacking) - carried
            if all(lacking) and missing:
                yield "needs-unmet", r, cap, "+".join(sorted(missing))

    def acting(self, r: str, act: str) -> bool:
        return r in self.unbounding or bool(self.carried(r) & {*self.using(act)})

    def of_ranks(self) -> Iterator[Found]:
        named = {label for q in self.place for _, label, e in self.entries(q, "overrides") if any(e.values())}
        for n, r in enumerate(self.ranks):
            said = self.rank[r]
            for base in said.get("builds-on", []):
                if self.ranks.index(base) < n:
                    yield "builds-on-higher", r, base
                if base in self.unbounding:
                    yield "builds-on-unbounded", r, base
                elif base in named and n < self.ranks.index(base):
                    yield "builds-on-overrides", r, base
            rests = any(said.get(f) for f in ("after", "apart-from", "limit")) or any(
                r in [*x.get("after", []), *x.get("apart-from", [])] for x in self.rank.values()
            )
            if rests and (r in self.automatic or self.has(r, "entry", "on-joining")):
                yield "condition-void", r
            if r in self.assigned and self.acting(r, "moderate") and self.act_rule("moderate").get("over") != "anyone":
                listed = said.get("moderates", {})
                below = [x for m, x in enumerate(self.ranks) if self.over("moderate", n, m)]
                if not [x for x in below if x in listed.get("only", [x]) and x not in listed.get("except", [])]:
                    yield "moderates-nobody", r
                for above in self.ranks[:n]:
                    most = 2 * len(self.holders(above)) >= len(self.there) > 0
                    if self.rank[above].get("held-by") in ("anyone", "members") or most:
                        yield "below-everyone", r, above
            yield from self.badge(n, r)
            later = {x for p in self.people.values() for x, _ in p.later}
            asked = r in self.automatic or self.has(r, "entry", "paused") or "kept-by" in said
            if self.members and not asked and r not in later and not self.holders(r):
                yield "unheld", r
            if said.get("limit") is not None and len(self.holders(r)) > int(said["limit"]):
                yield "over-limit", r, *(f"@{m}" for m in self.holders(r))

    def badge(self, n: int, r: str) -> Iterator[Found]:
        if r not in self.assigned or "kept-by" in self.rank[r] or self.carried(r):
            return
        labels = {label for q in self.place for _, label, e in self.entries(q, "overrides") if e.get("allow")}
        if r in labels or any(label.endswith("+") and n <= self.ranks.index(label[:-1]) for label in labels):
            return
        acts = ("moderate", "assign", "manage")
        below = [x for x in self.ranks[n + 1 :] if x not in self.automatic and any(self.acting(x, a) for a in acts)]
        if below:
            yield "badge-above-power", r, *below

    # -- places

    def of_places(self) -> Iterator[Found]:
        for q in self.place:
            for part, label, e in self.entries(q, "overrides", "exceptions"):
                key, allowed = label.removesuffix("+"), self.allows(e)
                if allowed & self.nobody:
                    yield "meant-for-nobody", label, "+".join(sorted(allowed & self.nobody)), q
                for word in self.patterns(e.get("allow", [])):
                    if self.names([word]) & self.high:
                        yield "wildcard-high-risk", key, q, word, "+".join(sorted(self.names([word]) & self.high))
                if part == "exceptions":
                    if self.members and self.members.get(key, {"status": "retired"}).get("status") == "retired":
                        yield "exception-gone", q, key
                    continue
                given = key in self.automatic or (key in self.rank and self.has(key, "open", "entry", "on-joining"))
                if given and allowed & self.high:
                    yield "risky-by-default", key, "+".join(sorted(allowed & self.high)), q
                yield from self.drift(q, label, e)
                yield from self.unseen(q, key, e)

    def drift(self, q: str, label: str, e: Data) -> Iterator[Found]:
        settled = set[str]()
        for above in reversed(self.chain(q)[:-1]):
            other = self.place[above].get("overrides", {}).get(label)
            if other is None:
                continue
            denied = self.names(other.get("deny", [])), self.names(e.get("deny", []))
            turned = (self.allows(e) & denied[0] | denied[1] & self.allows(other)) - settled
            settled |= self.allows(other) | denied[0]
            if turned:
                yield "drifted", q, above, "+".join(sorted(turned)), label.removesuffix("+")

    def unseen(self, q: str, key: str, e: Data) -> Iterator[Found]:
        denied = {cap for cap in self.names(e.get("deny", [])) if cap.rpartition(".")[2] in _SEEING}
        if "seeing" in self.rules or q == "site" or key not in self.automatic or not denied:
            return
        free = {c for c in self.caps if self.may(self.as_rank(key), c, q) and not self.rests(c, "site") & denied}
        if free:
            yield "seeing-denied", key, q, "+".join(sorted(free))

    def of_words(self) -> Iterator[Found]:
        """A deny for an automatic rank, and the ranks above that lose by it alone what they grant."""
        for q in self.place:
            for r in (r for r in self.ranks if r in self.automatic):
                above = [
                    x for x in self.ranks[: self.ranks.index(r)] if x in self.assigned and not self.has(x, "entry")
                ]
                for cap in (cap for cap in self.caps if self.word(q, r, cap) == "deny"):
                    losing = [x for x in above if cap in self.carried(x) and self.loses(x, cap, q)]
                    if losing:
                        yield "deny-reaches-up", r, cap, q, *losing

    def loses(self, r: str, cap: str, q: str) -> bool:
        p, up = self.as_rank(r), self.parent[q]
        if self.word(q, r, cap) or cap in self.barred(q, r) or cap in self.held(p, q, gates=False):
            return False
        return up is None or cap in self.held(p, up, gates=False)

    def of_gates(self) -> Iterator[Found]:
        rules = self.rules.get("overrides", {})
        takes = rules.get("using", "place.manage")
        for q in (q for q in self.place if self.place[q].get("gate")):
            free = {m for m, p in self.people.items() if self.owner(p)}
            free |= {
                m
                for m, p in self.there.items()
                if self.unbounding & {*p.automatic, *(r for r, x in p.given if x == "site")}
            }
            if len(self.there) > 1 and not any(self.gate(p, q) for m, p in self.there.items() if m not in free):
                yield "gate-nobody", q
            for r in (r for r in self.ranks if r not in self.unbounding):
                p = self.as_rank(r)
                if not self.gate(p, q) and takes in self.held(p, q, gates=False):
                    yield "gate-shuts-keepers", q, r

    # -- members

    def of_people(self) -> Iterator[Found]:
        advice = self.rules.get("advice", {})
        free = [
            m
            for m, p in self.there.items()
            if any(r in self.unbounding for r in [*p.automatic, *(x for x, _ in p.given)])
        ]
        if len(free) > int(advice.get("most-unbounded", 2)):
            yield "too-many-unbounded", *(f"@{m}" for m in free)
        own = {f"{key}.own" for key in self.bare}
        duties = [c for c, said in self.caps.items() if said.get("risk", "low") != "low" and c not in own]
        for cap in duties if len(self.there) > 1 else ():
            able = {
                q: [m for m, p in self.there.items() if self.may(p, cap, q)] for q in self.place if self.meaning(cap, q)
            }
            if cap not in self.nobody and not all(able.values()):
                yield "uncovered", cap
            yield from {("only-one", cap, f"@{who[0]}") for who in able.values() if len(who) == 1}
            count = len({m for who in able.values() for m in who})
            if cap in self.high and count > int(advice.get("most-high-risk", 5)):
                yield "too-many-high-risk", str(count), cap
        entry = self.entry()
        if entry or any(p.status == "pending" for p in self.people.values()):
            yield from self.worse(Person(status="pending", automatic=self.by("anyone"), given=entry))

    def worse(self, waiting: Person) -> Iterator[Found]:
        less = {
            q: {c for c in self.caps if self.may(self.visitor(), c, q) and not self.may(waiting, c, q)}
            for q in self.place
        }
        for q, up in self.parent.items():
            new = less[q] - (less[up] if up is not None else set())
            if new:
                yield "pending-worse", "+".join(sorted(new)), q

    def of_assignments(self) -> Iterator[Found]:
        for m in self.members:
            given = [(a, *self.period(a)) for a in self.assignments if a["member"] == m]
            for n, (a, start, end) in enumerate(given):
                if end is not None and start is not None and start >= end:
                    yield "never-starts", f"@{m}", a["rank"]
                elif end is not None and end <= self.t:
                    yield "ended", f"@{m}", a["rank"]
                for b, since, until in given[:n]:
                    begins = max((x for x in (start, since) if x is not None), default=None)
                    ends = min((x for x in (end, until) if x is not None), default=None)
                    spots = [(x["rank"], x.get("place") or "site") for x in (a, b)]
                    ranks = a["rank"], b["rank"]
                    apart = any(x in self.rank[y].get("apart-from", []) for x, y in (ranks, ranks[::-1]))
                    if (begins is None or ends is None or begins < ends) and (spots[0] == spots[1] or apart):
                        yield "contradictory", f"@{m}", a["rank"]
            p = self.people[m]
            now = [a for a, start, end in given if (start is None or start <= self.t) and (end is None or self.t < end)]
            for r, q in ((a["rank"], a.get("place") or "site") for a in now):
                shut = p.status == "active" and not self.owner(p) and not all(self.gate(p, x) for x in self.chain(q))
                if q != "site" and shut and not self.paused(r) and not self.unbounded(p, q):
                    yield "held-behind-gate", r, q, f"@{m}"
            dated = sum(bool(x["joined"]) for x in self.members.values())
            if (
                2 * dated > len(self.members)
                and p.status == "active"
                and p.kind != "bot"
                and not self.members[m]["joined"]
            ):
                missing = {r for r in self.ranks if self.has(r, "on-joining")} - {a["rank"] for a, *_ in given}
                yield from (("joined-by-hand", r, f"@{m}") for r in missing)

    def period(self, a: Data) -> tuple[datetime | None, datetime | None]:
        start = self.instant(a["from"]) if a.get("from") else None
        return start, self.instant(a["until"], until=True) if a.get("until") else None


def with_faults(made: Generated, rng: Random) -> Generated:
    """Say what advice is about and a community at random has seldom: copies, detours, what is meant for nobody."""
    charter, ranks = made.charter, made.charter["ranks"]
    caps = [*Plain(charter, [], []).caps]
    for heading in charter["capabilities"].values():
        for key, said in heading.items():
            if rng.random() < 0.2:
                known = {"about": said} if isinstance(said, str) else said
                heading[key] = known | {"leads-to": [rng.choice(caps)]}
    charter["nobody"] = rng.sample(caps, rng.randint(0, 2))
    everybodys = [rank for rank in ranks if "held-by" in rank]
    if everybodys:
        next(iter(charter["capabilities"].values()))["look.see"] = "Look"
        rank, place = rng.choice(everybodys), rng.choice(charter["places"])
        rank["grants"] = [*rank.get("grants", []), "look.see"]
        place.setdefault("overrides", {}).setdefault(rank["key"], {}).setdefault("deny", []).append("look.see")
    for n, rank in enumerate(ranks):
        if rng.random() < 0.3:
            rank["copied-from"] = rng.choice(ranks)["key"]
        lower = [each["key"] for each in ranks[n + 1 :] if "builds-on" not in each]
        if lower and "builds-on" not in rank and rng.random() < 0.4:
            rank["builds-on"] = [rng.choice(lower)]
    for row in made.assignments:
        if rng.random() < 0.1:
            row |= {"from": "2026-02-02", "until": "2026-01-01"}
    charter["rules"]["advice"] = {"most-unbounded": rng.randint(0, 2), "most-high-risk": rng.randint(0, 3)}
    if rng.random() < 0.5:
        charter["rules"].pop("seeing", None)
    return made


def advised(seed: int) -> Counter[str]:
    """Hold the advice about one community to this reading; raises ``AssertionError`` where they differ."""
    rng = Random(seed)
    made = with_more(generate(rng), rng)
    made = with_faults(with_a_head(made, rng) if rng.random() < 0.5 else made, rng)
    c, now = made.open(), datetime.now(UTC)
    read = side(made.texts()["charter.yaml"], c.names)
    given = c.advice()
    pieces = [*given.pieces, *(piece for piece, _ in given.silenced)]
    ours = Counter(found_in(piece) for piece in pieces if piece.code in READ)
    theirs = Counter(Advised(read.c, [*read.members.values()], read.assignments, now).advice())
    assert ours == theirs, (seed, "told", ours - theirs, "found", theirs - ours)
    vain = [
        (piece.code, command) for piece in pieces if piece.code.startswith("no-effect") for command in piece.commands
    ]
    said = answers(Advised(read.c, [*read.members.values()], read.assignments, now))
    for _, command in vain:
        rest = Advised(without(read.c, command), [*read.members.values()], read.assignments, now)
        assert answers(rest) == said, (seed, command)
    return Counter(each[0] for each in ours.elements()) + Counter(code for code, _ in vain)


def answers(c: Advised) -> set[Found]:
    """Every yes: of whom, what and where."""
    people = {**c.there, **{f"rank:{r}": c.as_rank(r) for r in c.ranks}, "": c.visitor()}
    return {(who, cap, q) for who, p in people.items() for cap in c.caps for q in c.place if c.may(p, cap, q)}


def without(charter: Data, command: str) -> Data:
    """Return a charter after a command that takes words out of an entry of a place, or all of it."""
    _, _, part, place, label, *_ = command.split(" ")
    names = command.partition(" --leave ")[2].split(",")
    other = deepcopy(charter)
    todo = [{**other.get("site", {}), "key": "site"}, *other.get("places", [])]
    for each in todo:
        todo += each.get("places", [])
    entries = next(each for each in todo if each["key"] == place)[
        {"override": "overrides", "except": "exceptions"}[part]
    ]
    kept = {word: [name for name in said if name not in names] for word, said in entries[label].items()}
    entries[label] = kept if "--leave" in command else {}
    return other


if __name__ == "__main__":
    through_seeds(advised)
