"""Rule 9 read once more, as plainly as it is written: may this member make this change?

It looks at two communities, before and after, by the second reading of rules 3 to 6 (``tests/plain_rules.py``), and
shares no code with the package. Of a change in which something is gone and something else come, with more that
differs, it says nothing. What a directory claims beyond what it gave (9.15) it does not know.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from plain_rules import Data, Person, Plain, yes

OWNERS = {"unbounded", "kept-by", "after", "apart-from", "limit", "moderates", "assigns", "manages"}
SPOKEN = ("gate", "title", "about")
ACTS = ("moderate", "assign", "manage")
AWAY = {"locked", "retired"}
LET_IN = {("pending", "active"), ("invited", "active"), ("invited", "pending")}
CLOSED = {"paused", "kept-by", "held-by"}
Words = dict[str, tuple[dict[str, bool], frozenset[str]]]


def unordered(value: Any) -> Any:
    """A value in which the order of names says nothing."""
    if isinstance(value, list):
        return frozenset(map(str, value))
    return {key: unordered(each) for key, each in value.items()} if isinstance(value, dict) else value


def written(place: Data) -> dict[str, Any]:
    """What is written at a place, as it is spelled; an entry that says nothing is none."""
    spoken = {part: place.get(part, {}) for part in ("overrides", "exceptions")}
    return {
        f"{part} {holder}": {word: frozenset(names) for word, names in entry.items() if names}
        for part, entries in spoken.items()
        for holder, entry in entries.items()
        if any(entry.values())
    }


class Side(Plain):
    """One side of a change; what was worked out once is kept, as the same is asked of many people."""

    def __init__(self, charter: Data, members: list[Data], assignments: list[Data]) -> None:
        super().__init__(charter, members, assignments)
        self.kept: dict[Any, Any] = {}
        flags = ("unbounded", "open", "on-joining", "entry", "paused")
        for said in self.rank.values():
            said.setdefault("call", "closed" if "held-by" in said else "open")
            said |= {flag: "yes" for flag in flags if flag in said and yes(said[flag])}
            for flag in [flag for flag in flags if said.get(flag, "yes") != "yes"]:
                del said[flag]

    def once(self, key: Any, work: Any) -> Any:
        if key not in self.kept:
            self.kept[key] = work()
        return self.kept[key]

    def carried(self, r: str) -> set[str]:
        return set(self.once(("carried", r), lambda: super(Side, self).carried(r)))

    def names(self, words: list[str]) -> set[str]:
        return set(self.once(("names", *words), lambda: super(Side, self).names(words)))

    def close(self, caps: set[str]) -> set[str]:
        return set(self.once(("close", frozenset(caps)), lambda: super(Side, self).close(caps)))

    def word(self, place: str, holder: str, cap: str) -> str | None:
        found: str | None = self.once(("word", place, holder, cap), lambda: super(Side, self).word(place, holder, cap))
        return found

    def barred(self, place: str, holder: str) -> set[str]:
        return set(self.once(("barred", place, holder), lambda: super(Side, self).barred(place, holder)))

    def held(self, p: Person, place: str, *, gates: bool = True) -> set[str]:
        key = p.key, p.status, frozenset(p.automatic), frozenset(p.given), frozenset(p.groups), place, gates
        return set(self.once(("held", *key), lambda: super(Side, self).held(p, place, gates=gates)))

    # -- whom a change is reckoned for (9.6)

    def member(self, key: str, t: dt.datetime) -> Person:
        """Somebody as if active, with all that is recorded for them."""
        p = self.person(key, t)
        return self.active(p, p.assigned | p.conferred)

    def has(self, member: str, rank: str, place: str, t: dt.datetime) -> bool:
        return member in self.members and (rank, place) in self.person(member, t).assigned

    def past(self, row: Data, now: dt.datetime) -> bool:
        """Whether an assignment lies in the past."""
        return bool(row["until"]) and self.instant(row["until"], until=True) <= now

    def confers(self, group: str) -> set[tuple[str, str]]:
        """What a group confers itself, and where."""
        confers = self.groups[group].get("confers", [])
        return {(x, "site") if isinstance(x, str) else (x["rank"], x.get("place") or "site") for x in confers}

    def in_group(self, group: str) -> Person:
        """Somebody who is in a group alone."""
        p = Person(groups=self.in_groups({"groups": group}), automatic=self.by("anyone", "members"))
        p.conferred = {spot for g in p.groups for spot in self.confers(g)}
        p.rec_automatic, p.rec_given = p.automatic, p.conferred
        p.given = {(r, q) for r, q in p.conferred if not self.paused(r)}
        return p

    def kind(self, r: str) -> str:
        held_by = self.rank[r].get("held-by")
        return held_by or ("pending" if yes(self.rank[r].get("entry", "no")) else "given")

    def of_kind(self, kind: str, r: str) -> Person:
        """Whoever is asked as a rank of some kind, whatever kind this one is here; without it where it is not there."""
        if r in self.rank and (kind == "given" or self.kind(r) == kind):
            p = self.as_rank(r)
            return p if self.kind(r) == kind else Person(automatic=self.by("anyone", "members"), given={(r, "site")})
        if kind == "pending":
            return Person(status="pending", automatic=self.by("anyone"), given=self.entry())
        if kind in ("anyone", "visitors"):
            return self.visitor()
        return Person(automatic=self.by("anyone", "members", *(["bots"] if kind == "bots" else [])))

    def with_open(self, p: Person, recorded: set[str], at: dt.datetime, without: Iterable[str] = ()) -> Person:
        """Somebody with every open rank that they may join besides."""
        left = [r for r, said in self.rank.items() if "open" in said and not CLOSED & said.keys() and r not in without]
        left = [r for r in left if not any(self.apart(r, x) for x in recorded)]
        left = [r for r in left if r in recorded or r not in self.full(at)]
        taken, root = set[str](), {*p.automatic, *(r for r, q in p.given if q == "site")}
        for _ in left:
            taken |= {r for r in left if set(self.rank[r].get("after", [])) <= root | taken}
        return replace(p, given=p.given | {(r, "site") for r in taken})

    def apart(self, one: str, other: str) -> bool:
        pairs = (one, other), (other, one)
        return any(x in self.rank.get(r, {}).get("apart-from", []) for r, x in pairs)

    def full(self, now: dt.datetime) -> set[str]:
        limits = {r: int(said["limit"]) for r, said in self.rank.items() if said.get("limit") is not None}
        return {r for r, limit in limits.items() if self.count(r, now) >= limit}

    def count(self, r: str, now: dt.datetime) -> int:
        standing = (m for m, said in self.members.items() if said.get("status") != "retired")
        return sum(r in self.recorded_anywhere(self.person(m, now)) for m in standing)

    def moments(self, now: dt.datetime) -> set[dt.datetime]:
        edges = [self.instant(a["from"]) for a in self.assignments if a.get("from")]
        edges += [self.instant(a["until"], until=True) for a in self.assignments if a.get("until")]
        return {now, *(t for t in edges if t > now)}

    # -- what words say (9.7e)

    def words(self, place: str) -> Words:
        """What a place says of whom, also by the sets that it is like; the first that says something is the word."""
        said, found = self.place[place], dict[str, tuple[dict[str, bool], set[str]]]()
        entries = list(said.get("overrides", {}).items())
        entries += [e for s in said.get("like", []) for e in self.c["override-sets"][s].items()]
        entries += [(f"@{m}", e) for m, e in said.get("exceptions", {}).items()]
        for holder, entry in entries:
            word, bars = found.setdefault(holder, ({}, set()))
            for cap in self.close(self.names(entry.get("allow", []))):
                word.setdefault(cap, True)
            for cap in self.names(entry.get("deny", [])):
                word.setdefault(cap, False)
            bars |= self.names(entry.get("bar", []))
        return {holder: (word, frozenset(bars)) for holder, (word, bars) in found.items() if word or bars}

    def inside(self, word: str) -> set[str]:
        """A word, and every bundle in it."""
        return {word}.union(*(self.inside(w) for w in self.c.get("bundles", {}).get(word, [])))

    def names_bundle(self, r: str, bundle: str) -> bool:
        words = [*self.rank[r].get("grants", []), *self.rank[r].get("withhold", [])]
        return any(bundle in self.inside(w) for w in words)

    def says(self, entries: Data, bundle: str) -> bool:
        return any(bundle in self.inside(w) for entry in entries.values() for words in entry.values() for w in words)

    def acted_with(self, act: str) -> list[str]:
        using = self.act_rule(act).get("using", [])
        return [using] if isinstance(using, str) else using

    def rule(self, act: str) -> Data:
        found: Data = self.rules.get("overrides", {}) if act == "overrides" else self.act_rule(act)
        return found


@dataclass
class Subject:
    """Somebody whom a change may touch: who, of which form, before and after it, when, and whether they act."""

    who: str
    form: str
    before: Person
    after: Person
    acts: bool = False
    at: dt.datetime | None = None


class Change:
    """A change, by the community before and after it, and why a member may not make it.

    ``source`` is the directory under whose name it is made; ``back`` tells that the maintainer undoes something.
    """

    def __init__(
        self, before: Side, after: Side, actor: str, now: dt.datetime, source: str = "", *, back: bool = False
    ) -> None:
        self.b, self.a, self.now, self.key, self.source, self.back = before, after, now, actor, source, back
        self.me = before.person(actor, now)
        self.acts: set[str] = set()
        self.alone = True  # nothing but joining, giving up, and giving to oneself
        self.edits_ranks = self.edits_places = False

    def refusals(self) -> list[str] | None:
        """Say why not; empty where it may be made, ``None`` where this reading says nothing."""
        renamed = self._renamed()
        if renamed is not None:
            return [*self._rename(*renamed)]
        if self._unread():
            return None
        rows = [*self._owners(), *self._from_outside()]
        rows = rows or [*self._ranks(), *self._places(), *self._people(), *self._conditions()]
        return rows if rows or self.alone else [*self._effect(), *self._words(), *self._named()]

    def broken(self) -> list[str] | None:
        """Say what speaks against it whoever makes it; the owner and the maintainer are held to no more."""
        renamed = self._renamed()
        if renamed is not None:
            return [*self._rename(*renamed, anybody=True)]
        if self._unread():
            return None
        kept = [r for r in self.b.ranks if "kept-by" in self.b.rank[r]]
        kept = [
            r for r in kept if r not in self.a.rank or ("kept-by" in self.a.rank[r] and self._fields(r) - {"kept-by"})
        ]
        kept += [] if self.back else self._from_outside()
        return [*self._conditions(), *kept, *(row for row in self._people() if "cannot be" in row)]

    def _from_outside(self) -> Iterator[str]:
        """What another directory gave is taken and changed by it alone (9.15)."""
        for row in self.b.assignments:
            if row["source"] not in ("", self.source) and row not in self.a.assignments:
                yield f"{row['rank']} of {row['member']} comes from {row['source']}"

    # -- renames (9.4), and what has no row (9.3)

    def _renamed(self) -> tuple[str, str] | None:
        """The kind and the key of what has another key now, and differs in nothing else."""
        for kind, one, two in (("rank", self.b.rank, self.a.rank), ("place", self.b.place, self.a.place)):
            gone, come = one.keys() - two.keys(), two.keys() - one.keys()
            if len(gone) == len(come) == 1:
                old, new = *gone, *come
                sides = ((side.c, [*side.members.values()], side.assignments) for side in (self.b, self.a))
                before, after = (_told_as(side, new, old) for side in sides)
                return (kind, old) if unordered(before) == unordered(after) else None
        return None

    def _rename(self, kind: str, key: str, *, anybody: bool = False) -> Iterator[str]:
        """A rename takes the thing's own row; the key of a place is the owner's."""
        if kind == "place" and not anybody:
            yield f"the owner's alone: the key of {key}"
        kept = kind == "rank" and "kept-by" in self.b.rank[key]
        if kept or (kind == "rank" and not anybody and not self._able("manage", "site", key, None)):
            yield f"manage {key}"

    def _owners(self) -> Iterator[str]:
        """What has no row but the owner's."""
        read = {"ranks", "places", "site", "bundles", "override-sets"}
        keys = [key for key in {*self.b.c, *self.a.c} - read if self.b.c.get(key) != self.a.c.get(key)]
        yield from (f"the owner's alone: {key}" for key in keys)
        yield from (f"the owner's alone: {m} is gone" for m in self.b.members.keys() - self.a.members.keys())

    def _unread(self) -> bool:
        """Whether something is gone and something come that may be the same, with more that differs."""
        sides = ((self.b.rank, self.a.rank), (self.b.place, self.a.place), (self.b.members, self.a.members))
        return any(one.keys() - two.keys() and two.keys() - one.keys() for one, two in sides)

    def _fields(self, r: str) -> set[str]:
        """The fields in which a rank differs."""
        one, two = self.b.rank[r], self.a.rank[r]
        return {field for field in {*one, *two} if unordered(one.get(field)) != unordered(two.get(field))}

    # -- rows: what it takes (9.2)

    def _able(self, act: str, place: str, rank: str | None, target: int | None) -> bool:
        """Whether the actor may do an act with one of its capabilities, on a rank and on whoever stands there."""
        own, b = self.b.standing(self.me, place), self.b
        if rank is not None and rank in b.rank and not b.over(act, own, b.ranks.index(rank)):
            return False
        if target is not None and not b.over(act, own, target):
            return False
        using = b.using(act)
        return b.able(act, self.me, place, rank, using) if rank else any(b.may(self.me, c, place) for c in using)

    def _ranks(self) -> Iterator[str]:
        b, a = self.b, self.a
        touched = dict.fromkeys(r for r in a.ranks if r not in b.rank)
        shared = [r for r in b.ranks if r in a.rank]
        for r in b.ranks:
            if r not in a.rank:
                self.alone, self.edits_ranks = False, True
                self.acts.add("manage")
                if any(b.rank[r].get(f) for f in OWNERS) or not self._able("manage", "site", r, None):
                    yield f"remove {r}"
                continue
            fields = self._fields(r)
            passed = _passed(r, shared, [x for x in a.ranks if x in b.rank])
            if fields & OWNERS:
                yield f"the owner's alone: {r}"
            if fields or (passed and "kept-by" not in b.rank[r]):
                touched[r] = None
            self.edits_ranks |= passed
        for bundle in self._bundles():
            self.alone, self.edits_ranks = False, True
            named = [r for r in b.ranks if any(side.names_bundle(r, bundle) for side in (b, a) if r in side.rank)]
            self.acts |= {"manage"} if named or not self._spoken_with(bundle) else set()
            touched |= dict.fromkeys(named)
            if not self._able("manage", "site", None, None):
                yield f"bundle {bundle}"
            if any(bundle in side.inside(w) for side in (b, a) for act in ACTS for w in side.acted_with(act)):
                yield f"the owner's alone: {bundle}"
        own = a.standing(a.person(self.key, self.now), "site")
        for r in touched:
            if r not in a.rank:
                continue
            self.alone, self.edits_ranks = False, True
            self.acts.add("manage")
            if any(a.rank[r].get(f) for f in OWNERS) and r not in b.rank:
                yield f"the owner's alone: {r}"
            if "kept-by" in b.rank.get(r, {}) or not self._able("manage", "site", r, None):
                yield f"manage {r}"
            if not b.over("manage", own, a.ranks.index(r)):
                yield f"manage {r} afterwards"
        for r in a.ranks:
            yield from self._widened(r)

    def _bundles(self) -> list[str]:
        one, two = (side.c.get("bundles", {}) for side in (self.b, self.a))
        return [key for key in {**one, **two} if unordered(one.get(key)) != unordered(two.get(key))]

    def _sets(self) -> list[tuple[str, str]]:
        """Of whom a set says something else, each with its key."""
        one, two = (
            {
                (key, label.split()[1]): said
                for key, entries in side.c.get("override-sets", {}).items()
                for label, said in written({"overrides": entries}).items()
            }
            for side in (self.b, self.a)
        )
        return [key for key in {**one, **two} if one.get(key) != two.get(key)]

    def _spoken_with(self, bundle: str) -> set[str]:
        """The places whose words a bundle stands in; the site where a set has it."""
        found = set[str]()
        for side in (self.b, self.a):
            sets = {key for key, said in side.c.get("override-sets", {}).items() if side.says(said, bundle)}
            found |= {"site"} if sets else set()
            for p, said in side.place.items():
                own = side.says(said.get("overrides", {}), bundle) or side.says(said.get("exceptions", {}), bundle)
                found |= {p} if own or sets & set(said.get("like", [])) else set()
        return found

    def _widened(self, r: str) -> Iterator[str]:
        """A rank that everybody may come to hold is made so, or carries something else: as if it were assigned."""
        said, was = self.a.rank[r], self.b.rank.get(r)
        flags = [f for f in ("open", "on-joining", "entry") if yes(said.get(f, "no"))]
        made = was is None or any(not yes(was.get(f, "no")) for f in flags)
        if not flags or not (made or self.a.carried(r) != self.b.carried(r)):
            return
        self.acts.add("assign")
        if not self._able("assign", "site", r, self.b.target_standing(self.b.anybody(), "site")):
            yield f"assign {r} to everybody"
        own = self.a.standing(self.a.person(self.key, self.now), "site")
        if not self.b.over("assign", own, self.a.ranks.index(r)):
            yield f"assign {r} to everybody afterwards"
        plain = self.a.anybody()
        plus = replace(plain, given={(r, "site")})
        if self.b.rule("assign").get("hand-on", "held") == "held":
            yield from (f"{r} brings {beyond}" for beyond in self._beyond((self.a, plain), (self.a, plus)))

    def _places(self) -> Iterator[str]:
        b, a = self.b, self.a
        where = set[str]()
        for p, said in a.place.items():
            was = b.place.get(p)
            if was is None or b.parent[p] != a.parent[p]:
                where |= {self._was(up) for up in (a.parent[p], b.parent.get(p)) if up}
            if was is not None:
                if was.get("kind") != said.get("kind"):
                    yield f"the owner's alone: {p}"
                differs = any(unordered(was.get(f)) != unordered(said.get(f)) for f in SPOKEN)
                differs |= was.get("like", []) != said.get("like", []) or written(was) != written(said)
                where |= {p} if differs else set()
                inside = [[x for x, up in side.parent.items() if up == p] for side in (b, a)]
                stayed = [[x for x in one if x in other] for one, other in (inside, inside[::-1])]
                where |= {x for x in stayed[0] if _passed(x, *stayed)}
        where |= {b.parent[p] or "site" for p in b.place if p not in a.place}
        where |= {"site"} if self._sets() else set()
        for bundle in self._bundles():
            where |= self._spoken_with(bundle)
        using = b.rules.get("overrides", {}).get("using", "place.manage")
        for p in where:
            self.alone, self.edits_places = False, True
            self.acts.add("overrides")
            if p not in b.place or using not in b.caps or not b.may(self.me, using, p):
                yield f"overrides at {p}"

    def _people(self) -> Iterator[str]:
        b, a = self.b, self.a
        rows = [{}, {}]  # type: list[dict[tuple[str, str, str], list[Data]]]
        moments = sorted(b.moments(self.now) | a.moments(self.now))
        for found, side in zip(rows, (b, a), strict=True):
            for row in side.assignments:
                found.setdefault((row["member"], row["rank"], row.get("place") or "site"), []).append(row)
        for spot in dict.fromkeys((*rows[0], *rows[1])):
            if self._joining(spot[0]) and "on-joining" in b.rank.get(spot[1], {}) and spot[2] == "site":
                continue
            before, after = ([row for row in found.get(spot, []) if not b.past(row, self.now)] for found in rows)
            past = [[row for row in found.get(spot, []) if b.past(row, self.now)] for found in rows]
            had, has = ([side.has(*spot, t) for t in moments] for side in (b, a))
            gained, lost = (any(x and not y for x, y in zip(p, q, strict=True)) for p, q in ((has, had), (had, has)))
            if gained or (any(had) and before != after and not lost):  # another record is as if it were given anew
                yield from self._assigned(*spot, new=gained)
            if lost:
                yield from self._unassigned(*spot)
            if past[1] != past[0] and before == after and not lost:
                self.acts.add("assign")
                self.alone = False
                if not self._able("assign", spot[2], None, None):
                    yield f"the past of {spot}"
        for key in a.members:
            if b.members.get(key) != a.members[key]:
                yield from self._member(key, b.members.get(key), a.members[key])

    def _joining(self, key: str) -> bool:
        """Whether somebody becomes active for the first time."""
        one, two = (side.members.get(key, {"status": "", "joined": ""}) for side in (self.b, self.a))
        return two["status"] == "active" and one["status"] in ("", "pending", "invited") and not one["joined"]

    def _member(self, key: str, one: Data | None, two: Data) -> Iterator[str]:
        self.acts.add("assign")
        self.alone = False
        was, status = (one or {}).get("status", ""), two["status"]
        differ = {f for f in two if (one or {}).get(f, "") != two[f]} - {"key"}
        if differ & {"user_name", "external_id"}:
            yield f"the owner's alone: {key}"
        if one is None:
            yield from self._joins(key, None)
            if status in ("locked", "retired"):
                yield from self._account(key)
        else:
            if "was" in differ and was == status:
                yield f"the owner's alone: {key}"
            if was != status and AWAY & {was, status}:
                yield from self._account(key)
            if was in AWAY and status not in AWAY:
                was = one["was"] or ("active" if one["joined"] else "pending")
            if was != status and (was, status) in LET_IN:
                yield from self._joins(key, self._stands(key, "site"))
            elif was != status and status not in AWAY:
                yield f"the owner's alone: {key}"
            own = key == self.key
            if "name" in differ and not own and [*self._account(key)]:
                naming = self.b.rules.get("accounts", {}).get("naming", [])
                naming = self.b.names([naming] if isinstance(naming, str) else naming)
                t = self.b.person(key, self.now)
                if not any(self.b.moderate(self.me, t, "site", using) for using in naming):
                    yield f"the name of {key}"
            if differ & {"note", "kind", "email"} or ("phone" in differ and not own):
                yield from self._account(key, oneself=differ & {"note", "kind", "email"} == {"email"})
            if "email" in differ and not own and self.b.rule("assign").get("hand-on", "held") == "held":
                for t in (self.b.member(key, moment) for moment in self.b.moments(self.now)):
                    yield from (
                        f"what {key} holds: {beyond}" for beyond in self._beyond((self.b, Person()), (self.b, t))
                    )
        groups = [set((said or {}).get("groups", "").split(";")) - {""} for said in (one, two)]
        for group in groups[0] ^ groups[1]:
            yield from self._group(key, group, put=group in groups[1])

    def _joins(self, key: str, standing: int | None) -> Iterator[str]:
        if not self._able("assign", "site", None, standing):
            yield f"{key} is added or vouched for"

    def _account(self, key: str, *, oneself: bool = False) -> Iterator[str]:
        """What stands in the row of accounts takes its capability, and whoever it is of as under moderate."""
        b, t = self.b, self.b.person(key, self.now) if key in self.b.members else self.b.anybody()
        using = b.rules.get("accounts", {}).get("using", "member.lock")
        if using not in b.caps or not b.may(self.me, using, "site"):
            yield f"the account of {key}"
            return
        if key == self.key:
            if not oneself:
                yield "on oneself"
            return
        top = self._stands(key, "site") if key in b.members else b.target_standing(t, "site")
        rank = b.ranks[top] if 0 <= top < len(b.ranks) else None
        if not b.over("moderate", b.standing(self.me, "site"), top) or b.owner(t):
            yield f"{key} stands too high"
        elif not b.admitted("moderate", self.me, "site", using, rank):
            yield f"{key} is in no list"

    def _reached(self, member: str, place: str) -> int | None:
        """Where somebody stands, the actor and who is new aside."""
        return None if member == self.key or member not in self.b.members else self._stands(member, place)

    def _stands(self, member: str, place: str) -> int:
        """The highest that somebody stands, now or at any later moment."""
        moments = self.b.moments(self.now)
        if member not in self.b.members:
            return self.b.target_standing(self.b.anybody(), place)
        return min(self.b.target_standing(self.b.person(member, t), place) for t in moments)

    def _assigned(self, member: str, rank: str, place: str, *, new: bool) -> Iterator[str]:
        b, said = self.b, self.a.rank[rank]
        t = self.a.person(member, self.now)
        self.acts.add("assign")
        self.alone &= member == self.key and rank in b.rank
        kept = said.get("kept-by", self.source) != self.source
        outside = "held-by" in said or kept or self.a.paused(rank)
        if new and (outside or t.status not in ("active", "pending", "invited")):
            yield f"{rank} cannot be given to {member}"
        if b.owner(t):
            yield "on the owner"
        oneself = member == self.key
        if oneself and "open" in b.rank.get(rank, {}) and not b.paused(rank) and place == "site":
            return
        if oneself and not yes(b.rule("assign").get("self", "no")):
            yield "to oneself"
        if not self._assigns(rank, place, self._reached(member, self._was(place))):
            yield f"assign {rank} to {member} at {place}"
        if b.rule("assign").get("hand-on", "held") == "held":
            for moment in self.b.moments(self.now) | self.a.moments(self.now):
                one = b.member(member, moment) if member in b.members else b.anybody()
                sides = (b, one), (self.a, self.a.member(member, moment))
                yield from (f"{member} gains {beyond}" for beyond in self._beyond(*sides))

    def _assigns(self, rank: str, place: str, target: int | None) -> bool:
        """Whether the actor may assign a rank; one that is made in the same change as it stands afterwards."""
        then = self._was(place)
        if rank in self.b.rank:
            return self._able("assign", then, rank, target)
        me, using = self.a.person(self.key, self.now), self.b.using("assign")
        able = any(self.b.may(self.me, c, then) and self.a.admitted("assign", me, place, c, rank) for c in using)
        over = self.b.over("assign", self.a.standing(me, place), self.a.ranks.index(rank))
        return able and over and (target is None or self.b.over("assign", self.b.standing(self.me, then), target))

    def _unassigned(self, member: str, rank: str, place: str) -> Iterator[str]:
        b = self.b
        self.acts.add("assign")
        self.alone &= member == self.key
        if b.owner(b.person(member, self.now)):
            yield "on the owner"
        if "kept-by" in self.a.rank.get(rank, b.rank[rank]):
            yield f"{rank} cannot be taken from {member}"
        elif member != self.key:
            if not self._able("assign", place, rank, self._stands(member, place)):
                yield f"unassign {rank} from {member}"
        elif self._gains(member, joined=True):
            yield "giving up gains"

    def _gains(self, member: str, *, joined: bool = False) -> bool:
        """Whether somebody holds more anywhere, at any moment; what they are given besides aside, where it is said."""
        for t in self.b.moments(self.now) | self.a.moments(self.now):
            two = self.a.member(member, t)
            one = self.b.member(member, t) if member in self.b.members else self.b.anybody()
            if joined:
                one = replace(one, given=one.given | two.given)
            for q in self.b.place:
                then = self._stays(q)
                freed = self.a.unbounded(two, then) and not self.b.unbounded(one, q)
                ways = ((self.a.held(two, then, gates=g), self.b.held(one, q, gates=g)) for g in (True, False))
                if freed or any(not after <= before for after, before in ways):
                    return True
        return False

    def _group(self, member: str, group: str, *, put: bool) -> Iterator[str]:
        """Into a group, or out of it: as if every rank that it confers were assigned or unassigned."""
        b, oneself = self.b, member == self.key
        self.acts.add("assign")
        self.alone = False
        if member in b.members and b.owner(b.person(member, self.now)):
            yield "on the owner"
        gains = self._gains(member)
        if oneself and not put:
            if gains:
                yield "leaving gains"
            return
        for rank, place in b.in_group(group).conferred if group in b.groups else ():
            if oneself and place == "site" and "open" in b.rank[rank] and not b.paused(rank):
                continue
            if oneself and not yes(b.rule("assign").get("self", "no")):
                yield "to oneself"
            if not self._able("assign", place, rank, None if oneself else self._stands(member, place)):
                yield f"{rank} by {group}"
        if (oneself and gains) or not self._able("assign", "site", None, self._reached(member, "site")):
            yield f"groups of {member}"

    # -- what must be so of ranks (9.5)

    def _conditions(self) -> Iterator[str]:
        b, a = self.b, self.a
        for r, said in a.rank.items():
            made = any(said.get(f) and not b.rank.get(r, {}).get(f) for f in ("held-by", "entry", "on-joining"))
            named = any(r in [*other.get("after", []), *other.get("apart-from", [])] for other in a.rank.values())
            if made and (named or any(said.get(f) for f in ("after", "apart-from", "limit"))):
                yield f"{r} has conditions, and is made everybody's"
        moments = sorted(b.moments(self.now) | a.moments(self.now))
        came = set[str]()
        for m in a.members:
            one, two = (side.person(m, self.now) if m in side.members else Person() for side in (b, a))
            before = b.recorded_anywhere(one) if m in b.members else set[str]()
            new = dict[tuple[str, str], dt.datetime]()
            for t in reversed(moments):
                was = b.person(m, t) if m in b.members else Person()
                now = a.person(m, t)
                new |= dict.fromkeys((now.assigned | now.conferred) - (was.assigned | was.conferred), t)
            for (r, place), first in new.items():
                if a.rank[r].get("kept-by", self.source) != self.source:
                    yield f"{r} is kept"
                there = set[str]()
                for side in (b, a):
                    if m in side.members:
                        p = side.person(m, first)
                        there |= p.rec_automatic | {x for x, q in p.rec_given if q in a.chain(place)}
                if not set(a.rank[r].get("after", [])) <= there:
                    yield f"{m} lacks what {r} comes after"
            back = one.status == "retired" != two.status
            otherwise = m not in b.members or (one.kind, one.status) != (two.kind, two.status)
            known = one.rec_automatic | {r for r, _ in one.rec_given}
            newly = {r for r, _ in new} | (
                a.recorded_anywhere(two) - (set() if back else known) if otherwise else set()
            )
            apart_before = set() if one.status == "retired" else before
            for r in newly if two.status != "retired" or new else ():
                for x in a.recorded_anywhere(two) - {r}:
                    if a.apart(r, x) and not (b.apart(r, x) and {r, x} <= apart_before):
                        yield f"{m} may not have {r} with {x}"
            came |= newly - apart_before if two.status != "retired" else set()
        for r in came:
            limit = a.rank[r].get("limit")
            if limit is not None and a.count(r, self.now) > max(int(limit), b.count(r, self.now) if r in b.rank else 0):
                yield f"too many have {r}"

    # -- the effect (9.6 and 9.7)

    @cached_property
    def _over(self) -> str:
        said: list[str] = [self.b.rule(act).get("over", "below") for act in self.acts]
        return min(said, key=("below", "level", "anyone").index)

    @cached_property
    def _hands_on_held(self) -> bool:
        return any(self.b.rule(act).get("hand-on", "held") == "held" for act in self.acts)

    def _below(self, standing: int, place: str) -> bool:
        own = self.b.standing(self.me, place)
        return self._over == "anyone" or standing > own or (self._over == "level" and standing == own)

    def _was(self, place: str) -> str:
        """The place that one is compared with: itself, or the nearest above it that was there."""
        while place not in self.b.place:
            place = self.a.parent[place] or "site"
        return place

    def _stays(self, place: str) -> str:
        """The place itself, or the nearest above it that stays."""
        while place not in self.a.place:
            place = self.b.parent[place] or "site"
        return place

    def _beyond(self, before: tuple[Side, Person], after: tuple[Side, Person]) -> Iterator[str]:
        """What somebody holds afterwards, held not before, and the actor does not hold there."""
        (one, was), (two, now) = before, after
        for q in self.a.place:
            then, here = (q if side is self.a else self._was(q) for side in (one, two))
            for gates in (True, False):
                gained = two.held(now, here, gates=gates) - one.held(was, then, gates=gates)
                beyond = gained - self.b.held(self.me, self._was(q), gates=gates)
                if beyond:
                    yield f"{sorted(beyond)} at {q}"
            freed = two.unbounded(now, here) and not one.unbounded(was, then)
            if freed and not self.b.unbounded(self.me, self._was(q)):
                yield f"everything at {q}"
        if (one, two) == (self.b, self.a):
            for q in self.b.place.keys() - self.a.place.keys():
                for gates in (True, False):
                    gained = two.held(now, self._stays(q), gates=gates) - one.held(was, q, gates=gates)
                    if gained - self.b.held(self.me, q, gates=gates):
                        yield f"{sorted(gained)} where {q} was"

    def _subjects(self) -> Iterator[Subject]:
        """Everyone at every moment."""
        b, a, now = self.b, self.a, self.now
        yield Subject("visitor", "visitor", b.visitor(), a.visitor())
        for r in a.ranks:
            for kind in dict.fromkeys(side.kind(r) for side in (b, a) if r in side.rank):
                one, two = (side.of_kind(kind, r) for side in (b, a))
                acts = kind not in ("anyone", "visitors", "pending")
                yield Subject(r, "rank", one, two, acts=acts)
                if acts:
                    had = ({*p.automatic, *(x for x, _ in p.given)} for p in (one, two))
                    yield self._opened(r, (one, two), had, now)
        for g in a.groups:
            yield Subject(g, "group", b.in_group(g), a.in_group(g))
        for m in a.members:
            if a.owner(a.person(m, now)):
                continue
            for t in b.moments(now) | a.moments(now):
                one, two = b.member(m, t) if m in b.members else b.anybody(), a.member(m, t)
                recorded = [s.recorded_anywhere(s.person(m, t) if m in s.members else one) for s in (b, a)]
                if self._joining(m):
                    one = b.with_open(one, recorded[0], t)
                yield Subject(m, "member", one, two, acts=True, at=t)
                if a.person(m, t).status == "active":
                    yield self._opened(m, (one, two), recorded, t)

    def _opened(self, who: str, both: tuple[Person, Person], recorded: Iterable[set[str]], t: dt.datetime) -> Subject:
        """Somebody with what they may join; in what others leave room, or none, nobody gains by that."""
        elsewhere, sides = self.a.full(t) ^ self.b.full(t), (self.b, self.a)
        one, two = (side.with_open(p, had, t, elsewhere) for side, p, had in zip(sides, both, recorded, strict=True))
        return Subject(who, "joined", one, two)

    def _effect(self) -> Iterator[str]:
        subjects = [*self._subjects()]
        mine = {each.at: each for each in subjects if each.who == self.key and each.form == "member"}
        for own in mine.values() if self.edits_ranks else ():
            yield from self._over_members(own.before, own.after)
        for each in subjects:
            who, one, two = each.who, each.before, each.after
            if self._hands_on_held:
                yield from (f"{who} gains {beyond}" for beyond in self._beyond((self.b, one), (self.a, two)))
            myself = who == self.key and each.form in ("member", "joined")
            if myself:
                yield from self._mine(one, two)
            elif each.form != "joined":
                yield from self._losses(each, [own for at, own in mine.items() if each.at in (None, at)])
            if each.acts and (self.edits_ranks or self.edits_places or myself):
                yield from self._power(who, one, two, myself=myself)

    def _mine(self, one: Person, two: Person) -> Iterator[str]:
        for q in self.b.place.keys() - self.a.place.keys():
            ways = ((self.a.held(two, self._stays(q), gates=g), self.b.held(one, q, gates=g)) for g in (True, False))
            if any(now - was for now, was in ways):
                yield f"the actor gains where {q} was"
        for q in self.a.place:
            then = self._was(q)
            if any(self.a.held(two, q, gates=g) - self.b.held(one, then, gates=g) for g in (True, False)):
                yield f"the actor gains at {q}"
            if self.a.unbounded(two, q) and not self.b.unbounded(one, then):
                yield f"the actor gains everything at {q}"
            was, now = (side.ranks_at(p, x) for side, p, x in ((self.b, one, then), (self.a, two, q)))
            first = self.b.ranks.index(was[0]) if was else len(self.b.ranks)
            later = self.a.ranks.index(now[0]) if now else len(self.a.ranks)
            both = [r for r in self.b.ranks if r in self.a.rank]
            if any(self.b.ranks.index(r) <= first and self.a.ranks.index(r) > later for r in both):
                yield f"the actor rises at {q}"

    def _losses(self, each: Subject, mine: list[Subject]) -> Iterator[str]:
        """What somebody loses who does not stand below; level, what the actor loses too for as long does not count."""
        who, form, one, two = each.who, each.form, each.before, each.after
        leaves = "", "locked", "retired", "invited"
        if form == "member" and self.b.members.get(who, {"status": ""})["status"] in leaves:
            return
        if (form == "rank" and who not in self.b.rank) or (form == "group" and who not in self.b.groups):
            return
        for q in {**self.b.place, **self.a.place}:
            for gates in (True, False):
                lost = self._lost(one, two, q, gates=gates)
                if form in ("rank", "group") and self._nobody_in(who, form):
                    lost &= self._named_in_rules
                if not lost:
                    continue
                if form == "member":
                    standing = self._stands(who, self._was(q))
                else:
                    given = one.conferred if form == "group" else one.given
                    standing = self.b.target_standing(
                        replace(one, rec_automatic=one.automatic, rec_given=given), self._was(q)
                    )
                level = standing == self.b.standing(self.me, self._was(q))
                too = all(lost <= self._lost(own.before, own.after, q, gates=gates) for own in mine)
                if not self._below(standing, self._was(q)) and not (level and too):
                    yield f"{who} loses {sorted(lost)} at {q}"

    def _lost(self, one: Person, two: Person, place: str, *, gates: bool) -> set[str]:
        """What is lost at a place; at one that is gone, by the assignments there alone."""
        held = self.b.held(one, self._was(place), gates=gates)
        if place in self.a.place:
            return held - self.a.held(two, place, gates=gates)
        rest = replace(one, given={(r, q) for r, q in one.given if q in self.a.place})
        return held - self.b.held(rest, place, gates=gates)

    def _nobody_in(self, who: str, form: str) -> bool:
        people = [self.b.person(m, self.now) for m in self.b.members]
        if form == "group":
            return not any(who in p.groups for p in people)
        kind = self.b.kind(who)
        if kind in ("anyone", "visitors"):
            return False
        return not any(who in self.b.recorded_anywhere(p) for p in people)

    @cached_property
    def _named_in_rules(self) -> set[str]:
        b, found = self.b, set[str]()
        for act in (*ACTS, "call"):
            found |= set(b.using(act))
        for part, default in (("overrides", "place.manage"), ("accounts", "member.lock")):
            found.add(b.rules.get(part, {}).get("using", default))
        found |= {b.rules[part] for part in ("seeing",) if part in b.rules}
        return found

    def _power(self, who: str, one: Person, two: Person, *, myself: bool) -> Iterator[str]:
        for q in self.a.place:
            then = self._was(q)
            new = _powers(self.a, two, q) - _powers(self.b, one, then)
            new = {power for power in new if power[1] in self.b.rank}
            if new if myself else new - _powers(self.b, self.me, then):
                yield f"{who} gains power at {q}"

    def _over_members(self, one: Person, two: Person) -> Iterator[str]:
        """By an edit of ranks the actor gains no power over a member either."""
        one, two = (replace(p, status="active") for p in (one, two))
        for m in self.b.members.keys() & self.a.members.keys() - {self.key}:
            was, now = (side.person(m, self.now) for side in (self.b, self.a))
            for q in self.a.place:
                then = self._was(q)
                for cap in self.a.using("moderate"):
                    before = cap in self.b.using("moderate") and self.b.moderate(one, was, then, cap)
                    if self.a.moderate(two, now, q, cap) and not before:
                        yield f"the actor gains power over {m} at {q}"

    # -- words (9.7c and 9.7e)

    def _spoken(self) -> Iterator[tuple[str, str, dict[str, bool], dict[str, bool], set[str], set[str]]]:
        for p in {**self.b.place, **self.a.place}:
            one, two = (side.words(p) if p in side.place else {} for side in (self.b, self.a))
            for holder in dict.fromkeys((*one, *two)):
                (was, bars), (now, barred) = (words.get(holder, ({}, frozenset())) for words in (one, two))
                if (was, bars) != (now, barred):
                    yield p, holder, was, now, set(bars), set(barred)

    def _words(self) -> Iterator[str]:
        """A word that gives and is written, or takes and goes, is within what the actor holds there."""
        for p, holder, was, now, bars, barred in self._spoken():
            gives = {c for c, gives in now.items() if gives and not was.get(c, False)}
            freed = {c for c, gives in was.items() if not gives and now.get(c, True) and c not in barred}
            if holder.startswith("@") and holder[1:] not in self.a.members and (now or barred):
                yield f"{holder} is nobody"
            held = (self.b.held(self.me, self._was(p), gates=gates) for gates in (True, False))
            if self._hands_on_held and any(not gives | freed | (bars - barred) <= each for each in held):
                yield f"words for {holder} at {p}"

    def _named(self) -> Iterator[str]:
        """Words name only who stands below; a range the ranks in it whose answers change."""
        for key, holder in self._sets():
            if not holder.endswith("+") and holder in {**self.b.rank, **self.b.groups}:
                asked = self.b.as_rank(holder) if holder in self.b.rank else self.b.in_group(holder)
                if not self._below(self.b.target_standing(asked, "site"), "site"):
                    yield f"{holder} is named by the set {key}"
        for p, holder, was, now, bars, barred in self._spoken():
            then = self._was(p)
            if holder.endswith("+"):
                differ = {c for c in {*was, *now} if was.get(c) != now.get(c)} | (bars ^ barred)
                ladders = [side.ranks for side in (self.b, self.a) if holder[:-1] in side.rank]
                covered = {r for ladder in ladders for r in ladder[: ladder.index(holder[:-1]) + 1]}
                ranks = [r for r in self.b.ranks if r in covered and self._turns(r, p, differ)]
                standings = [self.b.target_standing(self.b.as_rank(r), then) for r in ranks]
            elif holder.startswith("@"):
                standings = [self._stands(holder[1:], then)]
            elif holder not in {**self.b.rank, **self.b.groups}:
                standings = []  # it was not there
            else:
                asked = self.b.as_rank(holder) if holder in self.b.rank else self.b.in_group(holder)
                standings = [self.b.target_standing(asked, then)]
            if not all(self._below(standing, then) for standing in standings):
                yield f"{holder} is named at {p}"

    def _turns(self, r: str, place: str, differ: set[str]) -> bool:
        if r not in self.a.rank:
            return False
        one, two = self.b.as_rank(r), self.a.as_rank(r)
        ways = (
            (self.b.held(one, self._was(place), gates=g), self.a.held(two, self._stays(place), gates=g))
            for g in (True, False)
        )
        return any((now - was if place not in self.a.place else now ^ was) & differ for was, now in ways)


def _told_as(value: Any, key: str, old: str) -> Any:
    """Data in which a key is told by its old name, in ranges and sentences as well."""
    if isinstance(value, dict):
        return {_told_as(name, key, old): _told_as(each, key, old) for name, each in value.items()}
    if isinstance(value, (list, tuple)):
        return [_told_as(each, key, old) for each in value]
    return value.replace(key, old) if isinstance(value, str) else value


def _passed(key: str, before: list[str], after: list[str]) -> bool:
    """Whether something passed another that is on both ladders."""
    return any((before.index(key) < before.index(x)) != (after.index(key) < after.index(x)) for x in before)


def _powers(side: Side, p: Person, place: str) -> set[tuple[str, ...]]:
    """Which ranks somebody may act on at a place by order, lists and capability, as if active."""
    p, found = replace(p, status="active"), set[tuple[str, ...]]()
    own = side.standing(p, place)
    for act in ACTS if place == "site" else ACTS[:2]:
        for cap in side.using(act):
            if side.may(p, cap, place):
                name = (cap,) if act == "moderate" else ()
                found |= {
                    (act, r, *name)
                    for n, r in enumerate(side.ranks)
                    if side.over(act, own, n) and side.admitted(act, p, place, cap, r)
                }
    called = any(side.may(p, cap, place) for cap in side.using("call"))
    return found | {
        ("call", r)
        for r in side.ranks
        if called or side.rank[r].get("call", "closed" if "held-by" in side.rank[r] else "open") == "open"
    }
