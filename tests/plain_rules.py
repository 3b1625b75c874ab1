"""The rules read once more, as plainly as they are written: sets of names, no bits, nothing kept.

Random communities are put to this and to the package; where the two differ, one of them has misread a rule. It reads
the charter's raw data (as a YAML parser with every scalar as text gives it) and shares no code with the package.
"""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, field
from typing import Any
from zoneinfo import ZoneInfo

Data = dict[str, Any]


def yes(value: Any) -> bool:
    return str(value).lower() in ("true", "yes", "on")


@dataclass
class Person:
    """Someone asked about: ranks as (rank, place), automatic ranks, groups."""

    key: str | None = None
    status: str = "active"
    visitor: bool = False
    automatic: set[str] = field(default_factory=set)
    given: set[tuple[str, str]] = field(default_factory=set)
    rec_automatic: set[str] = field(default_factory=set)
    rec_given: set[tuple[str, str]] = field(default_factory=set)
    later: set[tuple[str, str]] = field(default_factory=set)
    assigned: set[tuple[str, str]] = field(default_factory=set)
    conferred: set[tuple[str, str]] = field(default_factory=set)
    groups: set[str] = field(default_factory=set)
    kind: str = "person"


class Plain:
    def __init__(self, charter: Data, members: list[Data], assignments: list[Data]) -> None:
        self.c = charter
        self.members = {m["key"]: m for m in members}
        self.assignments = assignments
        self.ranks: list[str] = [r["key"] for r in charter["ranks"]]
        self.rank: dict[str, Data] = {r["key"]: r for r in charter["ranks"]}
        self.groups: dict[str, Data] = {g["key"]: g for g in charter.get("groups", [])}
        self.rules: Data = charter.get("rules", {})
        self.caps: dict[str, Data] = {}
        self.bare: set[str] = set()
        for heading in charter["capabilities"].values():
            for key, said in heading.items():
                said = {"about": said} if isinstance(said, str) else said
                if yes(said.get("authored", "no")):
                    self.bare.add(key)
                    self.caps[f"{key}.own"] = said
                    self.caps[f"{key}.all"] = {**said, "implies": [*said.get("implies", []), f"{key}.own"]}
                else:
                    self.caps[key] = said
        self.parent: dict[str, str | None] = {"site": None}
        self.place: dict[str, Data] = {"site": {**charter.get("site", {}), "kind": "site"}}
        self._places(charter.get("places", []), "site")

    def _places(self, places: list[Data], parent: str) -> None:
        for p in places:
            self.parent[p["key"]] = parent
            self.place[p["key"]] = p
            self._places(p.get("places", []), p["key"])

    # -- capabilities

    def names(self, words: list[str]) -> set[str]:
        out: set[str] = set()
        for w in words:
            if w == "*":
                out |= set(self.caps)
            elif w.endswith(".*"):
                out |= {c for c in self.caps if c.startswith(w[:-1])}
            elif w in self.c.get("bundles", {}):
                out |= self.names(self.c["bundles"][w])
            else:
                out.add(w)
        return out

    def close(self, caps: set[str]) -> set[str]:
        while True:
            more = caps | {i for c in caps for i in self.caps[c].get("implies", [])}
            if more == caps:
                return caps
            caps = more

    def carried(self, r: str) -> set[str]:
        said = self.rank[r]
        total = self.close(self.names(said.get("grants", [])))
        for p in said.get("builds-on", []):
            total |= self.carried(p)  # exactly as p carries it
        return total - self.names(said.get("withhold", []))

    def rests(self, cap: str, place: str) -> set[str]:
        found = {cap}
        if "seeing" in self.rules and place != "site":
            found.add(self.rules["seeing"])
        while True:
            more = found | {
                x for c in found for x in [*self.caps[c].get("implies", []), *self.caps[c].get("needs", [])]
            }
            if more == found:
                return found
            found = more

    def chain(self, p: str) -> list[str]:
        out: list[str] = []
        at: str | None = p
        while at is not None:
            out.insert(0, at)
            at = self.parent[at]
        return out

    def below(self, p: str) -> list[str]:
        return [q for q in self.place if p in self.chain(q)]

    # -- people

    def by(self, *who: str) -> set[str]:
        return {r for r in self.ranks if self.rank[r].get("held-by") in who}

    def instant(self, text: str, *, until: bool = False) -> dt.datetime:
        zone = ZoneInfo(self.rules.get("timezone", "UTC"))
        if "T" not in text:
            day = dt.date.fromisoformat(text) + dt.timedelta(days=1 if until else 0)
            return dt.datetime(day.year, day.month, day.day, tzinfo=zone).astimezone(dt.UTC)
        moment = dt.datetime.fromisoformat(text)
        return (moment if moment.tzinfo else moment.replace(tzinfo=zone)).astimezone(dt.UTC)

    def in_groups(self, m: Data) -> set[str]:
        found = {g for g in m.get("groups", "").split(";") if g}
        while True:
            more = found | {g for g, said in self.groups.items() if set(said.get("includes", [])) & found}
            if more == found:
                return found
            found = more

    def entry(self) -> set[tuple[str, str]]:
        return {(r, "site") for r in self.ranks if yes(self.rank[r].get("entry", "no"))}

    def person(self, key: str, t: dt.datetime) -> Person:
        m = self.members[key]
        status = m.get("status") or "active"
        p = Person(key, status, kind=m.get("kind") or "person", groups=self.in_groups(m))
        for a in self.assignments:
            if a["member"] != key:
                continue
            start = self.instant(a["from"]) if a.get("from") else None
            end = self.instant(a["until"], until=True) if a.get("until") else None
            spot = (a["rank"], a.get("place") or "site")
            if (start is None or start <= t) and (end is None or t < end):
                p.assigned.add(spot)
            elif start is not None and start > t and (end is None or start < end):
                p.later.add(spot)
        for g in p.groups:
            for said in self.groups[g].get("confers", []):
                said = {"rank": said} if isinstance(said, str) else said
                p.conferred.add((said["rank"], said.get("place", "site")))
        full = self.by("anyone", "members", *(["bots"] if p.kind == "bot" else []))
        p.rec_given = p.assigned | p.conferred
        p.rec_automatic = full
        if status == "pending":
            p.rec_automatic = self.by("anyone")
            p.rec_given = p.rec_given | self.entry()
            p.automatic, p.given = self.by("anyone"), self.entry()
        elif status == "active":
            p.automatic, p.given = full, {(r, q) for r, q in p.rec_given if not self.paused(r)}
        return p

    def paused(self, r: str) -> bool:
        return yes(self.rank[r].get("paused", "no"))

    def as_rank(self, r: str) -> Person:
        held_by = self.rank[r].get("held-by")
        p = Person()
        if held_by in ("anyone", "visitors"):
            p.visitor, p.automatic = True, self.by("anyone", "visitors")
        elif held_by:
            p.automatic = self.by("anyone", "members", *(["bots"] if held_by == "bots" else []))
        elif yes(self.rank[r].get("entry", "no")):
            p.status, p.automatic, p.given = "pending", self.by("anyone"), {(r, "site")}
        else:
            p.automatic = self.by("anyone", "members")
            p.given = set() if self.paused(r) else {(r, "site")}
        p.rec_automatic, p.rec_given = p.automatic, p.given
        return p

    def visitor(self) -> Person:
        p = Person(visitor=True, automatic=self.by("anyone", "visitors"))
        p.rec_automatic = p.automatic
        return p

    def anybody(self) -> Person:
        p = Person(automatic=self.by("anyone", "members"))
        p.rec_automatic = p.automatic
        return p

    def owner(self, p: Person) -> bool:
        return p.key is not None and p.key == self.c.get("owner")

    def ranks_at(self, p: Person, place: str) -> list[str]:
        chain = self.chain(place)
        return [r for r in self.ranks if r in p.automatic or any(r == x and q in chain for x, q in p.given)]

    # -- rule 5

    def word(self, place: str, holder: str, cap: str) -> str | None:
        said = self.place[place]
        sources = [said.get("overrides", {}), *(self.c["override-sets"][s] for s in said.get("like", []))]
        for entries in sources:
            keys = [holder]
            if holder in self.rank:
                start = self.ranks.index(holder)
                keys += [f"{r}+" for r in self.ranks[start:]]
            for k in keys:
                if k in entries:
                    if cap in self.close(self.names(entries[k].get("allow", []))):
                        return "allow"
                    if cap in self.names(entries[k].get("deny", [])):
                        return "deny"
        return None

    def barred(self, place: str, holder: str) -> set[str]:
        said = self.place[place]
        out: set[str] = set()
        for entries in [said.get("overrides", {}), *(self.c["override-sets"][s] for s in said.get("like", []))]:
            for k, e in entries.items():
                covers = k == holder
                if k.endswith("+") and holder in self.rank:
                    covers = self.ranks.index(holder) <= self.ranks.index(k[:-1])
                if covers:
                    out |= self.names(e.get("bar", []))
        return out

    def unbounded(self, p: Person, place: str) -> bool:
        return any(yes(self.rank[r].get("unbounded", "no")) for r in self.ranks_at(p, place))

    def gate(self, p: Person, place: str) -> bool:
        g = self.place[place].get("gate")
        if not g:
            return True
        ranks = self.ranks_at(p, place)

        def has(term: str) -> bool:
            if term.endswith("+"):
                return any(self.ranks.index(r) <= self.ranks.index(term[:-1]) for r in ranks)
            return term in ranks or term in p.groups

        return (
            ("any" not in g or any(map(has, g["any"])))
            and all(map(has, g.get("all", [])))
            and not any(map(has, g.get("none", [])))
        )

    def held(self, p: Person, place: str, *, gates: bool = True) -> set[str]:
        ranks = self.ranks_at(p, place)
        if self.unbounded(p, place):
            return set(self.caps)
        if gates and not all(self.gate(p, q) for q in self.chain(place)):
            return set()
        have: set[str] = set().union(*(self.carried(r) for r in ranks)) if ranks else set()
        auto = [r for r in ranks if "held-by" in self.rank[r]]
        rest = [r for r in ranks if "held-by" not in self.rank[r]]
        how = self.rules.get("disagreement", "topmost")
        for q in self.chain(place):
            for cap in self.caps:
                for layer, holders in (("r", auto), ("r", rest), ("g", sorted(p.groups))):
                    words = [w for h in holders if (w := self.word(q, h, cap))]
                    if not words:
                        continue
                    if layer == "g":
                        word = "deny" if "deny" in words else "allow"
                    elif how == "topmost":
                        word = words[0]
                    else:
                        word = how if how in words else words[0]
                    if word == "deny":
                        have.discard(cap)
                    elif not (layer == "g" and p.status == "pending"):
                        have.add(cap)
                e = self.place[q].get("exceptions", {}).get(p.key or "", {})
                if cap in self.close(self.names(e.get("allow", []))):
                    if p.status != "pending":
                        have.add(cap)
                elif cap in self.names(e.get("deny", [])):
                    have.discard(cap)
        for q in self.chain(place):
            for h in [*ranks, *p.groups]:
                have -= self.barred(q, h)
            have -= self.names(self.place[q].get("exceptions", {}).get(p.key or "", {}).get("bar", []))
        return have

    def meaning(self, cap: str, place: str) -> bool:
        return "kinds" not in self.caps[cap] or self.place[place]["kind"] in self.caps[cap]["kinds"]

    def may(self, p: Person, cap: str, place: str) -> bool:
        if p.status not in ("active", "pending"):
            return False
        if self.owner(p) and p.status == "active":
            return self.meaning(cap, place)
        return self.meaning(cap, place) and self.rests(cap, place) <= self.held(p, place)

    # -- rule 6

    def acts(self, p: Person) -> bool:
        return p.status == "active" and not p.visitor

    def using(self, act: str) -> list[str]:
        default = {"moderate": "member.moderate", "assign": "rank.assign", "manage": "rank.manage", "call": "rank.call"}
        said = self.rules.get(act, {}) if act == "call" else self.rules.get("authority", {}).get(act, {})
        using = said.get("using")
        if using is None:
            return [default[act]] if default[act] in self.caps else []
        if act == "moderate":
            words = [using] if isinstance(using, str) else using
            return [c for c in self.caps if c in self.names(words) and not c.endswith(".own")]
        return [using]

    def act_rule(self, act: str) -> Data:
        found: Data = self.rules.get("authority", {}).get(act, {})
        return found

    def standing(self, p: Person, place: str) -> int:
        if self.owner(p) and p.status == "active":
            return -1
        ranks = self.ranks_at(p, place) if p.status in ("active", "pending") else []
        return self.ranks.index(ranks[0]) if ranks else len(self.ranks)

    def target_standing(self, p: Person, place: str) -> int:
        if self.owner(p):
            return -1
        spots = {*self.chain(place), *self.below(place)}
        found = {*p.rec_automatic, *(r for r, q in p.rec_given if q in spots)}
        return min((self.ranks.index(r) for r in found), default=len(self.ranks))

    def over(self, act: str, actor: int, other: int) -> bool:
        how = self.act_rule(act).get("over", "below")
        return how == "anyone" or other > actor or (how == "level" and other == actor)

    def admitted(self, act: str, p: Person, place: str, cap: str, rank: str | None) -> bool:
        field_name = {"moderate": "moderates", "assign": "assigns", "manage": "manages"}[act]
        ranks = self.ranks_at(p, place)
        carrying = [r for r in ranks if yes(self.rank[r].get("unbounded", "no")) or cap in self.carried(r)]
        asked = carrying or [r for r in ranks if field_name in self.rank[r]]
        if not asked:
            return True

        def admits(r: str) -> bool:
            e = self.rank[r].get(field_name)
            if e is None:
                return True
            return rank in e["only"] if "only" in e else rank not in e["except"]

        return any(map(admits, asked))

    def able(self, act: str, p: Person, place: str, rank: str | None, using: list[str]) -> bool:
        return any(self.may(p, c, place) and self.admitted(act, p, place, c, rank) for c in using)

    def moderate(self, a: Person, t: Person, place: str, using: str | None = None) -> bool:
        if a.key is not None and a.key == t.key:
            return False
        if self.owner(a) and a.status == "active":
            return True
        if self.owner(t) or not self.acts(a):
            return False
        top = self.target_standing(t, place)
        rank = self.ranks[top] if top < len(self.ranks) else None
        return self.over("moderate", self.standing(a, place), top) and self.able(
            "moderate", a, place, rank, [using] if using else self.using("moderate")
        )

    def active(self, p: Person, spots: set[tuple[str, str]]) -> Person:
        full = self.by("anyone", "members", *(["bots"] if p.kind == "bot" else [])) if p.key else set(p.automatic)
        held = {(r, q) for r, q in spots if not self.paused(r)}
        return Person(p.key, "active", automatic=full, given=held, groups=p.groups, kind=p.kind)

    def gains_within(self, a: Person, before: Person, after: Person) -> bool:
        for q in self.place:
            for gates in (True, False):
                got = self.held(after, q, gates=gates) - self.held(before, q, gates=gates)
                if not got <= self.held(a, q, gates=gates):
                    return False
            if self.unbounded(after, q) and not self.unbounded(before, q) and not self.unbounded(a, q):
                return False
        return True

    def recorded_anywhere(self, p: Person) -> set[str]:
        return {*p.rec_automatic, *(r for r, _ in p.rec_given | p.later)}

    def assign(self, a: Person, r: str, t: Person | None, place: str, at: dt.datetime) -> bool:
        said = self.rank[r]
        if "held-by" in said or "kept-by" in said or self.paused(r):
            return False
        if t is not None:
            if t.status not in ("active", "pending", "invited"):
                return False
            here = {*t.rec_automatic, *(x for x, q in t.rec_given if q in self.chain(place))}
            if not set(said.get("after", [])) <= here:
                return False
            has = self.recorded_anywhere(t)
            if any(x in said.get("apart-from", []) or r in self.rank[x].get("apart-from", []) for x in has):
                return False
            if "limit" in said:
                holders = {
                    k
                    for k, m in self.members.items()
                    if m.get("status") != "retired" and r in self.recorded_anywhere(self.person(k, at))
                }
                if len(holders | {t.key}) > int(said["limit"]):
                    return False
        if self.owner(a) and a.status == "active":
            return True
        oneself = t is not None and a.key is not None and a.key == t.key
        if oneself and yes(said.get("open", "no")) and place == "site" and self.acts(a):
            return True
        if not self.acts(a) or (t is not None and self.owner(t)):
            return False
        own = self.standing(a, place)
        if not self.over("assign", own, self.ranks.index(r)) or not self.able(
            "assign", a, place, r, self.using("assign")
        ):
            return False
        if oneself:
            if not yes(self.act_rule("assign").get("self", "no")):
                return False
        elif not self.over("assign", own, self.target_standing(t or self.anybody(), place)):
            return False
        if self.act_rule("assign").get("hand-on", "held") == "any":
            return True
        someone = t or self.anybody()
        now = (someone.assigned | someone.conferred) if t else set()
        return self.gains_within(a, self.active(someone, now), self.active(someone, now | {(r, place)}))

    def unassign(self, a: Person, r: str, t: Person, place: str) -> bool:
        said = self.rank[r]
        if (r, place) not in t.assigned | t.later or "kept-by" in said:
            return False
        if self.owner(a) and a.status == "active":
            return True
        if self.owner(t) or not self.acts(a):
            return False
        before = self.active(t, t.assigned | t.conferred)
        after = self.active(t, (t.assigned - {(r, place)}) | t.conferred)
        if a.key == t.key:
            return all(
                self.held(after, q, gates=g) <= self.held(before, q, gates=g) for q in self.place for g in (True, False)
            )
        own = self.standing(a, place)
        return (
            self.over("assign", own, self.ranks.index(r))
            and self.over("assign", own, self.target_standing(t, place))
            and self.able("assign", a, place, r, self.using("assign"))
            and (self.act_rule("assign").get("hand-on", "held") == "any" or self.gains_within(a, before, after))
        )

    def manage(self, a: Person, r: str) -> bool:
        if "kept-by" in self.rank[r]:
            return False
        if self.owner(a) and a.status == "active":
            return True
        own = self.standing(a, "site")
        return (
            self.acts(a)
            and self.over("manage", own, self.ranks.index(r))
            and self.able("manage", a, "site", r, self.using("manage"))
        )

    def call(self, a: Person, r: str, place: str) -> bool:
        said = self.rank[r]
        is_open = said.get("call", "closed" if "held-by" in said else "open") == "open"
        owner = self.owner(a) and a.status == "active"
        return self.acts(a) and (is_open or owner or any(self.may(a, c, place) for c in self.using("call")))
