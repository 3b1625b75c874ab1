"""What descriptions say of ranks, groups, places and members, read back and held to a second reading of the rules.

Run: python soak/described.py COUNT [FIRST]; so many communities, from the seed FIRST on.
"""

from __future__ import annotations

import re
import sys
from collections import Counter
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from typing import TYPE_CHECKING, Any, Final

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from soak.edits import side, with_a_head
from soak.looked import capabilities, held_to
from soak.told import perk, through_seeds, with_more
from soak.written import DAY

from ask_above import Community
from generated import generate
from plain_rules import Person, yes

if TYPE_CHECKING:
    from soak.plain_edits import Side

Sections = dict[str, list[tuple[str, ...]]]
Facts = Counter[tuple[Any, ...]]

_GATE, _SEEN = "where the gate admits them", "while they may see it"
_CLAIM: Final = re.compile(rf"(may(?: not| never)?)(?:, ((?:{_GATE}|{_SEEN}| and )+),)? (.+)")
_ENDS: Final = rf" (?:through|until) {DAY}"
_HELD: Final = {
    "anyone": "everyone, visitors included",
    "visitors": "every visitor",
    "members": "every member",
    "bots": "every bot",
}


def names(said: str, joiner: str = "and") -> list[str]:
    return [each for each in re.split(rf", | {joiner} ", said) if each]


def shown(told: Iterable[str]) -> set[str]:
    """What is named of capabilities: of own things nothing where it is of anybody's."""
    told = {*told}
    return {cap for cap in told if not (cap.endswith(".own") and cap.removesuffix(".own") + ".all" in told)}


class Reader:
    """What a community's descriptions say, beside what the rules say."""

    never = datetime.max.replace(tzinfo=UTC)

    def __init__(self, community: Community, c: Side, t: datetime) -> None:
        self.community, self.c, self.t, self.lines = community, c, t, 0
        self.people = {m: c.person(m, t) for m in c.members}
        self.called = {key: said.get("title", key) for key, said in {**c.rank, **c.place}.items()} | {
            m: row.get("name") or m for m, row in c.members.items()
        }
        self.called["site"] = c.c.get("title", c.c["key"])
        self.whose = {title: key for key, title in self.called.items()} | {"Whole site": "site", "whole site": "site"}

    def read(self, kind: str, key: str) -> tuple[str, Sections]:
        described = self.community.describe(f"{kind}:{key}", when=self.t)
        self.lines += sum(len(each.lines) for each in described.sections)
        return described.head, {each.heading: [*each.lines] for each in described.sections}

    def keys(self, said: str, joiner: str = "and") -> list[str]:
        return [self.whose.get(name, name) for name in names(said, joiner)]

    # -- what places change

    def facts_of_word(self, p: Person, q: str, allow: set[str], deny: set[str], bar: set[str]) -> set[Any]:
        """What of a word is so for somebody: what they may, what they may once they come in or see it, what not."""
        if p.status not in ("active", "pending"):
            return set()
        c, seeing = self.c, self.c.rules.get("seeing")
        seen = c.rests(seeing, "site") if seeing and q != "site" else set[str]()
        shut = not c.unbounded(p, q) and not all(c.gate(p, over) for over in c.chain(q))

        def able(*, gates: bool, more: set[str]) -> set[str]:
            held = c.held(p, q, gates=gates) | more
            return {cap for cap in c.caps if c.meaning(cap, q) and c.rests(cap, q) <= held}

        now = able(gates=True, more=set())
        facts: set[Any] = {("may", "", cap) for cap in shown(allow & now)}
        left = allow - now
        for gates, more, provided in (
            (False, set(), _GATE),
            (True, seen, _SEEN),
            (False, seen, f"{_GATE} and {_SEEN}"),
        ):
            if (shut or gates) and (seen or not more) and (more or not gates):
                new = left & able(gates=gates, more=more)
                facts |= {("may", provided, cap) for cap in shown(new)}
                left -= new
        missing = {cap for cap in c.caps if c.meaning(cap, q)} - now
        facts |= {("may not", "", cap) for cap in shown(deny & missing)}
        return facts | {("may never", "", cap) for cap in shown(bar & missing)}

    def facts_of_holder(self, holder: str, q: str) -> set[Any]:
        if yes(self.c.rank.get(holder, {}).get("unbounded", "no")):
            return set()
        p = self.c.as_rank(holder) if holder in self.c.rank else self.c.in_group(holder)
        words = {cap: self.c.word(q, holder, cap) for cap in self.c.caps}
        allow, deny = ({cap for cap, word in words.items() if word == which} for which in ("allow", "deny"))
        return self.facts_of_word(p, q, allow, deny, self.c.barred(q, holder))

    def claimed(self, said: str) -> set[Any]:
        found: set[Any] = set()
        for part in said.split("; ") if said not in ("no effect", "") else ():
            verb, provided, what = _CLAIM.fullmatch(part).groups()  # type: ignore[union-attr]
            found |= {(verb, provided or "", cap) for cap in capabilities(what)}
        return found

    def overrides(self, holder: str, sections: Sections) -> None:
        told = {self.whose[place]: self.claimed(said) for place, _, said in self.split(sections, "Overrides")}
        facts = {q: found for q in self.c.place if (found := self.facts_of_holder(holder, q))}
        assert told == facts, (holder, told, facts)

    @staticmethod
    def split(sections: Sections, heading: str) -> Iterator[tuple[str, str, str]]:
        return (line[0].partition(": ") for line in sections.get(heading, ()))

    # -- a rank

    def rank(self, r: str) -> None:
        c, said = self.c, self.c.rank[r]
        head, sections = self.read("rank", r)
        n, of = c.ranks.index(r), len(c.ranks)
        below = f", below {self.called[c.ranks[n - 1]]}" if n else ""
        assert head.endswith(below) if of > 1 else head.endswith("the only rank"), head
        if of > 1:
            words = re.search(r": (highest|lowest|\d+)", head)
            place = {"highest": 1, "lowest": of}.get(words[1]) or int(words[1])  # type: ignore[index]
            assert place == n + 1, (head, n)
        self.members_of(r, [line[0] for line in sections["Members"]])
        self.grants_of(r, sections)
        self.overrides(r, sections)
        self.powers_of_rank(r, [line[0] for line in sections.get("Power over ranks", ())])
        told = {line[0] for line in sections.get("Perks", ())}
        assert told == {f"{key}: {value}" for key, value in said.get("perks", {}).items()}, (r, told)

    def members_of(self, r: str, lines: list[str]) -> None:
        c = self.c
        if "held-by" in c.rank[r]:
            assert lines == [f"automatic for {_HELD[c.rank[r]['held-by']]}"], lines
            return
        if c.paused(r):
            assert lines == ["nobody while the rank is paused"], lines
            return
        facts = {m: {q for x, q in p.given if x == r} for m, p in self.people.items()}
        facts = {m: spots for m, spots in facts.items() if spots}
        told: dict[str, set[str]] = {}
        for part in re.split(r"(?:, | and )(?!in |on )", re.sub(_ENDS, "", lines[0])) if lines[0] != "nobody" else ():
            name, *where = re.split(r",? (?:and )?(?:in|on) ", part)
            told[self.whose[name]] = {"site" if spot == "the whole site" else self.whose[spot] for spot in where}
        assert told.keys() == facts.keys(), (r, told, facts)
        for m, spots in facts.items():
            # who has it on the whole site without an end has it everywhere
            assert told[m] == spots or ("site" in spots and not told[m]), (r, told, facts)
        idle = [m for m, p in self.people.items() if p.status not in ("active", "pending") or m not in facts]
        idle = [m for m in idle if any(x == r for x, _ in self.people[m].rec_given)]
        more = [int(each.split()[0]) for each in lines if each.endswith("status does not count")]
        assert more == [len(idle)] * bool(idle), (r, lines, idle)
        later = {m for m, p in self.people.items() if p.status == "active" and self.comes(m, r, p)}
        spells = [each.removeprefix("later: ") for each in lines if each.startswith("later: ")]
        coming = re.findall(r"(\w+)(?: in (\w+))? from ", spells[0]) if spells else []
        comes = {(m, q) for m in later for x, q in self.people[m].later if x == r}
        assert {(self.whose[m], self.whose[q] if q else "site") for m, q in coming} == comes, (r, lines, comes)

    def comes(self, m: str, r: str, p: Person) -> bool:
        """Whether somebody comes to have a rank where they do not have it already, or not for as long."""
        c, stays = self.c, [(q, self.never) for x, q in p.conferred if x == r]
        mine = [(a, *self.edges(a)) for a in c.assignments if a["member"] == m and a["rank"] == r]
        stays += [(a.get("place") or "site", end) for a, start, end in mine if start <= self.t < end]
        return any(
            self.t < start < end
            and not any(q in c.chain(a.get("place") or "site") and end <= stay for q, stay in stays)
            for a, start, end in mine
        )

    def edges(self, a: dict[str, str]) -> tuple[datetime, datetime]:
        start = self.c.instant(a["from"]) if a.get("from") else datetime.min.replace(tzinfo=UTC)
        return start, self.c.instant(a["until"], until=True) if a.get("until") else self.never

    def grants_of(self, r: str, sections: Sections) -> None:
        c = self.c
        automatic = "held-by" in c.rank[r]
        (lines,) = [lines for heading, lines in sections.items() if heading.startswith("Grants")]
        assert ("Grants" in sections) is automatic, (r, sections)
        if yes(c.rank[r].get("unbounded", "no")):
            assert lines == [("everything, everywhere (unbounded)",)], lines
            return
        common = set[str]() if automatic else set[str]().union(*(c.carried(x) for x in c.anybody().automatic))
        new, p = c.carried(r) - common, c.as_rank(r)
        able = {cap for cap in new if any(c.may(p, cap, q) for q in c.place)}
        told: dict[bool, set[str]] = {True: set(), False: set()}
        for line, *_ in lines if lines != [("nothing",)] else ():
            what = line.removeprefix("not usable with this rank alone: ")
            told[what == line] = capabilities(what)
        assert told == {True: shown(able), False: shown(new - able)}, (r, told, able, new)

    def acts(self, a: Person, place: str) -> set[tuple[str, str]]:
        """On which ranks somebody may act, as somebody of the rank has it alone."""
        c, found = self.c, set[tuple[str, str]]()
        for r in c.ranks:
            found |= {("moderate", r)} if c.moderate(a, c.as_rank(r), place) else set()
            found |= {("assign", r)} if c.assign(a, r, None, place, self.t) else set()
            found |= {("manage", r)} if c.manage(a, r) else set()
        return found

    def acting(self, said: str) -> set[tuple[str, str]]:
        found = set[tuple[str, str]]()
        for part in said.split("; "):
            acts, ranks = re.fullmatch(r"((?:(?:moderate|assign|manage)(?:, | and )?)+) (.+)", part).groups()  # type: ignore[union-attr]
            found |= {(act, r) for act in names(acts) for r in self.keys(ranks)}
        return found

    def powers_of_rank(self, r: str, lines: list[str]) -> None:
        c = self.c
        told = {pair for line in lines if not line.startswith("assigned by ") for pair in self.acting(line)}
        facts = self.acts(c.as_rank(r), "site")
        assert told == facts, (r, told, facts)
        by = [line.removeprefix("assigned by ") for line in lines if line.startswith("assigned by ")]
        if "held-by" in c.rank[r] or "kept-by" in c.rank[r]:
            assert not by, (r, by)
            return
        givers = [x for x in c.ranks if c.assign(c.as_rank(x), r, None, "site", self.t)]
        assert by == ["the owner only"] if not givers else [self.keys(each) for each in by] == [givers], (r, by, givers)

    # -- a group, a place, a member

    def group(self, g: str) -> None:
        c = self.c
        head, sections = self.read("group", g)
        inside = [m for m, p in self.people.items() if g in p.groups]
        assert head.endswith(f": group of {len(inside)} member{'' if len(inside) == 1 else 's'}"), head
        assert [m for (line,) in sections.get("Members", []) for m in self.keys(line)] == inside, (g, sections)
        assert [line for (line,) in sections.get("Includes", ())] == c.groups[g].get("includes", []), g
        told = {(self.whose[rank], self.whose[where.removeprefix("the ")]) for rank, where in self.conferring(sections)}
        assert told == c.confers(g), (g, told)
        gates = {
            q for q, p in c.place.items() if g in [*p.get("gate", {}).get("any", ()), *p.get("gate", {}).get("all", ())]
        }
        assert {self.whose[line] for (line,) in sections.get("Opens the gate of", ())} == gates, (g, sections)
        self.overrides(g, sections)

    @staticmethod
    def conferring(sections: Sections) -> list[list[str]]:
        return [re.split(r" (?:on|in) ", line) for (line,) in sections.get("Confers", ())]

    def place(self, q: str) -> None:
        c, said = self.c, self.c.place[q]
        head, sections = self.read("place", q)
        above = c.parent[q]
        where = f" in {self.called[above]}" if above and above != "site" else ""
        assert head.endswith(f": {said['kind']}{where}" if above else ": the whole site"), head
        told: dict[str, set[Any]] = {}
        for who, _, what in self.split(sections, "Overrides"):
            if who != "none":
                told |= dict.fromkeys(self.keys(who), self.claimed(what))
        holders = [h for h in [*c.ranks, *c.groups] if self.has_word(q, h)]
        facts = {h: self.facts_of_holder(h, q) for h in holders if not yes(c.rank.get(h, {}).get("unbounded", "no"))}
        assert told == facts, (q, told, facts)
        told = {m: self.claimed(what) for who, _, what in self.split(sections, "Exceptions") for m in self.keys(who)}
        assert told == {m: self.of_exception(m, q, said["exceptions"][m]) for m in self.excepted(q)}, (q, told)
        self.people_in(q, [line[0] for line in sections.get("Members", ())])

    def has_word(self, q: str, h: str) -> bool:
        sources = [self.c.place[q].get("overrides", {})]
        sources += [self.c.c["override-sets"][each] for each in self.c.place[q].get("like", [])]
        covers = [h, *(f"{r}+" for r in self.c.ranks[self.c.ranks.index(h) :])] if h in self.c.rank else [h]
        return any(entries.get(each) and any(entries[each].values()) for entries in sources for each in covers)

    def excepted(self, q: str) -> list[str]:
        return [m for m in self.c.place[q].get("exceptions", {}) if m in self.c.members]

    def of_exception(self, m: str, q: str, said: dict[str, list[str]]) -> set[Any]:
        c, p = self.c, self.people[m]
        if c.owner(p) and p.status == "active":
            return set()
        allow = c.close(c.names(said.get("allow", [])))
        deny, bar = (c.names(said.get(which, [])) for which in ("deny", "bar"))
        return self.facts_of_word(p, q, allow, deny - allow, bar)

    def people_in(self, q: str, lines: list[str]) -> None:
        c = self.c
        facts = Facts((x, m) for m, p in self.people.items() for x, spot in p.given if spot == q and q != "site")
        told = Facts()
        for rank, colon, who in (line.partition(": ") for line in lines):
            if colon:
                told.update({(self.whose[rank], m): 1 for m in self.keys(re.sub(_ENDS, "", who))})
        assert told == facts, (q, told, facts)
        active = {m: p for m, p in self.people.items() if p.status == "active"}
        able = [m for m, p in active.items() if any(c.may(p, cap, q) for cap in c.caps)]
        counts = [line for line in lines if "may do something here" in line]
        found = re.match(r"(?:all )?(\d+)(?: of (\d+))? active", counts[0]) if counts else None
        assert (found is None) == (not active), (q, lines)
        assert not found or (int(found[1]), int(found[2] or found[1])) == (len(able), len(active)), (q, lines, able)
        using = c.rules.get("authority", {}).get("overrides", {}).get("using", "place.manage")
        keepers = [m for m, p in active.items() if using in c.caps and c.may(p, using, q)]
        by = [line.removeprefix("managed by ") for line in lines if line.startswith("managed by ")]
        assert [self.keys(each) for each in by] == [keepers] * bool(keepers), (q, by, keepers)

    def member(self, m: str) -> None:
        c, p, row = self.c, self.people[m], self.c.members[m]
        head, sections = self.read("member", m)
        assert f": {row['status']} {'bot' if row['kind'] == 'bot' else 'member'}" in head, head
        assert ("; owner, may do everything" in head) is (c.c.get("owner") == m), head
        listed = re.search(r"; groups? (.+)$", head)
        assert ({*names(listed[1])} if listed else set()) == {*filter(None, row["groups"].split(";"))}, head
        self.ranks_of(m, sections.get("Ranks", []))
        counts = p.status in ("active", "pending") and not (c.owner(p) and p.status == "active")
        for heading, less in (("May, beyond other members", False), ("May not, unlike other members", True)):
            self.beyond(p, sections.get(heading, []), less=less, counts=counts)
        acting = [] if not counts else ["site", *{q for x, q in p.rec_given if q != "site" and x in c.rank}]
        told = {self.whose[place]: self.acting(what) for place, _, what in self.split(sections, "Power over ranks")}
        facts = {q: self.acts(p, q) for q in acting}
        everywhere = facts.get("site", set())
        # where it is as everywhere, and where there is none, nothing is said
        assert told == {q: f for q, f in facts.items() if f and (q == "site" or f != everywhere)}, (m, told, facts)
        told_perks = {key: value for key, _, value in self.split(sections, "Perks")}
        assert told_perks == (self.perks_of(m, p) if counts else {}), (m, told_perks)

    def perks_of(self, m: str, p: Person) -> dict[str, str]:
        """What a member's ranks bring that is not so without them."""
        c, ranks = self.c, self.c.ranks_at(p, "site")
        facts = {
            key: perk(c, m, key, self.t)
            for key in c.c["perks"]
            if any(key in c.rank[r].get("perks", ()) for r in ranks)
        }
        facts = {key: fact for key, fact in facts.items() if fact != perk(c, "", key, self.t)}
        return {
            key: {True: "yes", False: "no"}[fact] if isinstance(fact, bool) else str(fact)
            for key, fact in facts.items()
        }

    def ranks_of(self, m: str, lines: list[tuple[str, ...]]) -> None:
        c, p = self.c, self.people[m]
        told, now = Facts(), Facts()
        for rank, where, how in lines:
            later, idle = bool(re.match(r"from ", how)), re.search(r"\(does not count: (\w+)\)", how)
            told[self.whose[rank], self.whose[where], later, idle and idle[1]] += 1
        for a in c.assignments:
            spot = a["rank"], a.get("place") or "site"
            start, end = self.edges(a)
            if a["member"] != m or end <= max(self.t, start):
                continue
            later = start > self.t
            now[(*spot, later, None if later else self.idle(p, spot[0]))] += 1
        for g in p.groups:
            now.update((*spot, False, self.idle(p, spot[0])) for spot in c.confers(g))
        if p.status == "pending":
            now.update((*spot, False, None) for spot in c.entry())
        assert told == now, (m, told, now)

    def idle(self, p: Person, r: str) -> str | None:
        """Why a rank that is recorded does not count."""
        return p.status if p.status != "active" else "paused" if self.c.paused(r) else None

    def beyond(self, p: Person, lines: list[tuple[str, ...]], *, less: bool, counts: bool) -> None:
        c, plain = self.c, self.c.anybody()
        one, other = (plain, p) if less else (p, plain)
        told: dict[str, set[str]] = {q: set() for q in c.place}
        for where, _, what in (line[0].partition(": ") for line in lines):
            for cap in capabilities(what):
                meant = [q for q in c.place if c.meaning(cap, q)]
                left = where.removeprefix("everywhere they apply").removeprefix(", except ")
                spots = {*self.keys(left)}
                if where.startswith("everywhere"):
                    spots = {*meant} - spots
                for q in spots:
                    told[q].add(cap)
        for q in c.place:
            able = {cap for cap in c.caps if c.may(one, cap, q) and not c.may(other, cap, q)} if counts else set[str]()
            held_to(q, told[q], {cap for caps in told.values() for cap in caps}, able)


def as_it_is(seed: int) -> Counter[str]:
    """Describe all of one community; raises ``AssertionError`` where a description says something else."""
    rng = Random(seed)
    made = with_more(with_a_head(generate(rng), rng), rng)
    community = made.open()
    c = side(made.texts()["charter.yaml"], community.names)
    reader = Reader(community, c, datetime.now(UTC))
    counts = Counter[str]()
    for r in c.ranks:
        reader.rank(r)
    for g in c.groups:
        reader.group(g)
    for q in c.place:
        reader.place(q)
    for m in c.members:
        reader.member(m)
    counts["lines"] = reader.lines
    return counts


if __name__ == "__main__":
    through_seeds(as_it_is)
