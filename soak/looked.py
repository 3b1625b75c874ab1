"""What the screens that people look at say, read back and held to a second reading of the rules.

Run: python soak/looked.py COUNT [FIRST]; so many communities, from the seed FIRST on.
"""

from __future__ import annotations

import io
import re
import sys
from collections import Counter
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from itertools import product
from pathlib import Path
from random import Random
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from soak.edits import side, some_edits, with_a_directory, with_a_head
from soak.told import through_seeds, with_more

from ask_above import AskAboveError, Community
from ask_above.ask.roster import soon
from ask_above.ask.tables import power_cells
from ask_above.ask.tour import beside
from ask_above.charter.moments import instant
from ask_above.decide.acts import act_named
from ask_above.show.compare import show_comparison
from ask_above.show.cover import show_cover
from ask_above.show.grid import show_grid
from ask_above.show.ladder import show_ladder
from ask_above.show.powers import PowerTable, show_powers
from ask_above.show.roster import show_soon
from ask_above.show.screen import Screen, in_full
from ask_above.show.tour import show_beside, show_tour
from generated import NOW, generate
from plain_rules import Person, Plain, yes

if TYPE_CHECKING:
    from soak.plain_edits import Side

_STOP = re.compile(r"(?P<pad> *)(?P<mark>[▸▪]) (?P<rest>.+)")


_GIVEN = r"(?P<rank>\S+) (?:on the whole site|in (?P<place>\S+?))(?P<span>(?: (?:from|through|until) [\w ,:()]+?)*)"


def drawn(show: Any, *things: Any) -> list[str]:
    """What a screen so wide that nothing is folded shows."""
    out = io.StringIO()
    show(Screen(out, 100_000, colour=False), *things)
    return out.getvalue().splitlines()


def capabilities(said: str) -> set[str]:
    return {re.sub(r" \((own|all)\)$", r".\1", each.removeprefix("do ")) for each in said.split(", ") if each}


class Walk:
    """A tour as it is read: what can be done in each place, told by the place above it."""

    def __init__(self, c: Plain, lines: list[str]) -> None:
        self.c = c
        self.plus: dict[str, set[str]] = {}
        self.minus: dict[str, set[str]] = {}
        self.closed: set[str] = set()
        last: list[str] = []
        for line in lines:
            if "more than above   " in line or line.endswith("+ more than above"):
                continue  # the legend
            if stop := _STOP.fullmatch(line):
                last = self.stop(stop["rest"], closed=stop["mark"] == "▪")
            elif line.lstrip().startswith("− ") and last:
                for place in last:
                    self.minus[place] |= capabilities(line.lstrip()[2:])

    def stop(self, rest: str, *, closed: bool) -> list[str]:
        titles, said = re.fullmatch(r"([^:−]+?)(?:: ?|(?=− )|$)(.*)", rest).groups()  # type: ignore[union-attr]
        places = ["site" if each == "Whole site" else each for each in titles.split(", ")]
        if closed:
            self.closed |= {*places}
            return []
        base = re.match(r"as ([^,]+)(?:, |$)", said)
        said = said[base.end() :] if base else said
        plus, _, minus = said.partition("− ")
        more = capabilities(plus.removeprefix("+ ").strip(" :"))
        of = "site" if base and base[1] == "Whole site" else base[1] if base else ""
        for place in places:
            self.plus[place] = self.plus.get(of, set()) | more
            self.minus[place] = (self.minus.get(of, set()) - more) | capabilities(minus)
        return places

    def can(self, place: str) -> set[str]:
        above = self.c.parent[place]
        here = self.can(above) if above in self.plus else set[str]()
        return {cap for cap in (here | self.plus[place]) - self.minus[place] if self.c.meaning(cap, place)}


def held_to(place: str, told: set[str], named: set[str], able: set[str]) -> None:
    """Compare; of one's own things nothing is said where it is said of anybody's."""
    covered = {cap.removesuffix(".all") + ".own" for cap in named if cap.endswith(".all")}
    assert told - covered == able - covered, (place, told - covered ^ able - covered)


def of_tour(community: Community, c: Plain, who: str, person: Person) -> int:
    walk = Walk(c, drawn(show_tour, community.tour(who, when=NOW)))
    for place in walk.plus:
        able = {cap for cap in c.caps if c.may(person, cap, place)}
        named = {cap for q in c.chain(place) for cap in walk.plus.get(q, set()) | walk.minus.get(q, set())}
        held_to(place, walk.can(place), named, able)
    absent = c.place.keys() - walk.plus.keys() - walk.closed
    assert not any(c.may(person, cap, place) for place in absent | walk.closed for cap in c.caps)
    return len(walk.plus)


def of_beside(community: Community, c: Plain, pair: Sequence[tuple[str, Person]]) -> int:
    """Two tours side by side: who can do what, read from the place above where nothing else is said."""
    tours = [community.tour(who, when=NOW) for who, _ in pair]
    lines = drawn(show_beside, community.decider.compiled, tuple(tour.who for tour in tours), beside(*tours))
    said: dict[str, dict[str, tuple[bool, bool]]] = {}
    places: list[str] = []
    for line in lines[3:]:
        if stop := re.match(r"▸ (.+?)(?:  |$)", line):
            places = ["site" if each == "Whole site" else each for each in stop[1].split(", ")]
            said |= {place: {} for place in places}
        elif tick := re.fullmatch(r"    do (.+?)  +([✓·]) +([✓·])", line):
            (cap,) = capabilities(f"do {tick[1]}")
            for place in places:
                said[place][cap] = tick[2] == "✓", tick[3] == "✓"
    enter = {place: [tour.stops[n].state == "open" for tour in tours] for n, place in enumerate(c.place)}
    read: dict[str, dict[str, tuple[bool, bool]]] = {}
    for place, above in c.parent.items():
        told = said.get(place, {})
        first, second = enter[place]
        over = read[above] if above else {}
        inferred = {cap: (first and ticks[0], second and ticks[1]) for cap, ticks in over.items()}
        read[place] = {cap: told.get(cap, inferred.get(cap, (False, False))) for cap in c.caps if c.meaning(cap, place)}
        for cap, ticks in read[place].items():
            # of one's own things nothing is said where it is so of anybody's
            if any(f"{cap.removesuffix('.own')}.all" in said.get(q, ()) for q in c.chain(place)):
                continue
            able = tuple(c.may(who, cap, place) for _, who in pair)
            assert (able == ticks) if able[0] != able[1] else ticks[0] == ticks[1], (place, cap, ticks, able)
    return len(lines)


def of_comparison(community: Community, c: Plain, pair: Sequence[tuple[str, Person]]) -> int:
    """What the one may and the other may not, and where."""
    compared = community.compare(*(who for who, _ in pair), when=NOW)
    told: dict[str, set[tuple[str, str]]] = {"one": set(), "other": set(), "both": set()}
    names = {f"Only {compared.one}": "one", f"Only {compared.other}": "other", "Both": "both"}
    who = ""
    with in_full():
        lines = drawn(show_comparison, compared)
    for line in lines[1:]:
        head, _, _ = line.partition(":")
        who = names.get(head, who)
        if row := re.fullmatch(r"  (\S+)(?: \(\w+ risk\))?((?: on the whole site)?(?: and)?(?: in (.+))?)", line):
            spots = {"site"} if "on the whole site" in row[2] else set[str]()
            told[who] |= {(row[1], place) for place in spots | {*re.split(r", | and ", row[3] or "")} if place}
    able = [{(cap, q) for q in c.place for cap in c.caps if c.may(person, cap, q)} for _, person in pair]
    assert told["one"] == able[0] - able[1], ("one", told["one"] ^ (able[0] - able[1]))
    assert told["other"] == able[1] - able[0], ("other", told["other"] ^ (able[1] - able[0]))
    return len(lines)


def of_history(community: Community, c: Side, member: str) -> int:
    """What a history says, done again from the first entry on, comes to what the register holds."""
    status, groups, ranks, owns = "", set[str](), Counter[tuple[str, str]](), c.c.get("owner") == member
    for event in community.history(member).events:
        said = event.what.removeprefix("as the files had it: ")
        if into := re.fullmatch(r"(put into|taken out of) the group (\S+)", said):
            groups = groups | {into[2]} if into[1] == "put into" else groups - {into[2]}
        elif was := re.fullmatch(r"(active|pending|invited|locked|retired)(?:, in (.+))?", said):
            status, groups = was[1], {*re.findall(r"the group (\S+?)(?=,| and |$)", was[2] or "")}
        elif new := re.fullmatch(r"added, (\w+)|[a-z]+ → ([a-z]+)", said):
            status = new[1] or new[2]
        elif other := re.fullmatch(rf"{_GIVEN} → {_GIVEN.replace('<', '<to_')}", said):
            ranks.subtract([spot(other)])
            ranks.update([spot(other, "to_")])
        elif given := re.fullmatch(rf"{_GIVEN}(?P<how> assigned|: changed| unassigned|, assigned by .+)?", said):
            ranks.update({spot(given): {": changed": 0, " unassigned": -1}.get(given["how"], 1)})
        elif said in ("became the owner", "is the owner no longer"):
            owns = said == "became the owner"
        else:
            assert re.match(r"(name|address|telephone number|notes|kind): ", said), said
    row = c.members[member]
    called = {key: each.get("title", key) for key, each in {**c.rank, **c.place}.items()} | {"site": "site"}
    held = Counter((called[a["rank"]], called[a["place"]]) for a in c.assignments if a["member"] == member)
    assert (status, groups) == (row["status"], {*filter(None, row["groups"].split(";"))}), (member, status, groups)
    assert +ranks == held, (member, ranks, held)
    assert owns == (c.c.get("owner") == member), (member, owns)
    return len(held) + 1


def spot(given: re.Match[str], which: str = "") -> tuple[str, str]:
    return given[f"{which}rank"], given[f"{which}place"] or "site"


def of_what_is_soon(community: Community, c: Side, days: int = 60) -> int:
    """When somebody has a rank that they had not, or has it no longer, whichever assignments bring it."""
    compiled, now, zone = community.decider.compiled, datetime.now(UTC), ZoneInfo(c.rules.get("timezone", "UTC"))
    called = {key: each.get("title", key) for key, each in {**c.rank, **c.place}.items()} | {"site": "the whole site"}
    edges = soon(community.decider, instant(now), days)
    lines = drawn(show_soon, compiled, edges, days, {key: key for key in community.register.members})
    told = Counter(tuple(re.split(r"  +", line)) for line in lines[3:])
    facts = Counter[tuple[str, ...]]()
    for m, r, q in {(a["member"], a["rank"], a["place"]) for a in c.assignments}:
        given = [a for a in c.assignments if (a["member"], a["rank"], a["place"]) == (m, r, q)]
        for t in {c.instant(a[edge]) for a in given for edge in ("from", "until") if a[edge]}:
            starts = c.has(m, r, q, t)
            if now < t <= now + timedelta(days) and starts is not c.has(m, r, q, t - timedelta(microseconds=1)):
                day = (t if starts else t - timedelta(microseconds=1)).astimezone(zone)
                what = "starts" if starts else "ends"
                facts[f"{day.day} {day:%b %Y}", what, m, called[r], called[q]] += 1
    assert told == facts, (told, facts)
    return len(facts)


def rows_of(lines: list[str]) -> dict[str, list[str]]:
    """The rows of what is drawn, by what stands in front of them."""
    rows = (re.split(r"  +", line.strip()) for line in lines)
    return {row[0].removesuffix(" !"): row[1:] for row in rows}


def of_grid(community: Community, c: Plain, place: str | None) -> int:
    """The mark of every cell: who can, and through what."""
    decider, place_at = community.decider, community.decider.compiled.place_at
    lines = drawn(show_grid, decider, None if place is None else place_at[place])
    rows, people = rows_of(lines), {r: c.as_rank(r) for r in c.ranks}
    free = {r for r in c.ranks if yes(c.rank[r].get("unbounded", "no"))}
    own = {r: {*c.caps} if r in free else c.carried(r) for r in c.ranks}
    brought = {r: set[str]().union(*(own[x] for x in c.ranks_at(people[r], "site"))) for r in c.ranks}
    bare = {r: {*c.caps} if r in free else c.close(c.names(c.rank[r].get("grants", []))) for r in c.ranks}
    built = {r: bare[r].union(*(c.carried(x) for x in c.rank[r].get("builds-on", []))) for r in c.ranks}
    changed = 0
    for cap in c.caps:
        for r, mark in zip(c.ranks, rows[cap], strict=True):
            if place is None:
                through = "●" if cap in bare[r] else "○"
                fact = through if cap in own[r] else "◌" if cap in brought[r] else "−" if cap in built[r] else "·"
            elif not c.meaning(cap, place):
                fact = "/"
            elif c.may(people[r], cap, place):
                fact = "●" if cap in own[r] else "○" if cap in brought[r] else "+"
            else:
                fact = "−" if cap in brought[r] else "·"
            changed += fact in "+−"
            assert mark == fact, (place, r, cap, mark, fact)
    assert place is None or lines[-1] == f"The place changes {changed} answer{'' if changed == 1 else 's'}."
    return len(c.caps)


def of_powers(community: Community, c: Plain, place: str) -> int:
    """Who may do which act to which rank: whoever has no column may do it to none, or as everyone may."""
    decider, people = community.decider, {r: c.as_rank(r) for r in c.ranks}
    may: dict[str, Callable[[str, str], bool]] = {
        "moderate": lambda a, r: c.moderate(people[a], people[r], place),
        "assign": lambda a, r: c.assign(people[a], r, None, place, NOW),
        "manage": lambda a, r: c.manage(people[a], r),
        "call": lambda a, r: c.call(people[a], r, place),
    }
    at = decider.compiled.place_at[place]
    tables = {name: PowerTable(act := act_named(name), [*power_cells(decider, act, at, instant(NOW))]) for name in may}
    for shown in (["moderate", "assign", "manage"], *([name] for name in may)):
        lines = drawn(show_powers, decider.compiled, [tables[name] for name in shown], "here")
        heads = re.split(r"  +", lines[1].strip()) if lines[3:] else []
        told = dict[tuple[str, str, str], bool]()
        for r, line in zip(c.ranks if lines[3:] else (), lines[2:], strict=False):
            for head, cell in zip(heads, re.split(r"  +", line.strip())[1:], strict=True):
                told |= {(name, head, r): ("●" if shown == [name] else _LETTER[name]) in cell for name in shown}
        called = re.search("Every active member may call (.+)[.]", "\n".join(lines))
        opened = {*re.split(r", | and ", called[1])} if called else set[str]()
        for name, a, r in product(shown, c.ranks, c.ranks):
            titles = [c.rank[key].get("title", key) for key in (a, r)]
            read = told.get((name, titles[0], r), name == "call" and c.acts(people[a]) and titles[1] in opened)
            assert read == may[name](a, r), (name, a, r, place, read)
    return len(tables)


_LETTER = {"moderate": "M", "assign": "A", "manage": "G", "call": "●"}


def of_cover(community: Community, c: Plain) -> int:
    """How many active members can do what in each place, and what nobody or one alone can."""
    people = {m: c.person(m, NOW) for m, row in c.members.items() if (row.get("status") or "active") == "active"}
    able = {
        (cap, q): [m for m, person in people.items() if c.may(person, cap, q)]
        for cap, q in product(c.caps, c.place)
        if c.meaning(cap, q)
    }
    with in_full():
        lines = drawn(show_cover, community.cover([*c.caps], when=NOW))
    gaps, table = lines[1 : lines.index("")], lines[lines.index("") + 1 : -1]
    rows = [line for line in table if line.strip().split("  ")[0] in {*c.place, "The whole site"}]
    ends = [found.end() for found in re.finditer(r"\S+", rows[0])][-len(c.caps) :] if rows else []
    heads = ["".join(line[:end].split(" ")[-1] for line in table[: -len(rows)] if len(line) >= end) for end in ends]
    for line in rows:
        title, *cells = re.split(r"  +", line.strip())
        q = "site" if title == "The whole site" else title
        told = {cap: int(cell.replace(",", "")) for cap, cell in zip(heads, cells, strict=True) if cell != "/"}
        assert told == {cap: len(who) for (cap, place), who in able.items() if place == q}, (q, told)
    assert {"site" if t == "The whole site" else t for t in (re.split(r"  +", line.strip())[0] for line in rows)} >= {
        q for _, q in able
    }
    read: dict[tuple[str, str], list[str]] = {}
    alone: list[str] = []
    called = {row.get("name") or m: m for m, row in c.members.items()}
    for line in gaps:
        if head := re.fullmatch(r"✗ Nobody may:|! (.+) alone may:", line):
            alone = [called[head[1]]] if head[1] else []
        elif row := re.fullmatch(r"    (\S+)((?: on the whole site)?(?: and)?(?: in (.+))?)", line):
            spots = {"site"} if "on the whole site" in row[2] else set[str]()
            read |= {(row[1], q): alone for q in spots | {*re.split(r", | and ", row[3] or "")} if q}
    meant = c.names(c.c.get("nobody", []))
    facts = {spot: who for spot, who in able.items() if len(who) == 1 or (not who and spot[0] not in meant)}
    assert read == facts, (read, facts)
    return len(rows)


def of_ladder(community: Community, c: Plain) -> int:
    """How many have each rank, who they are, and where those have it who do not on the whole site."""
    with in_full():
        rows = rows_of(drawn(show_ladder, community.decider, instant(NOW))[2:])
    people = {row.get("name") or m: c.person(m, NOW) for m, row in c.members.items()}
    for n, r in enumerate(c.ranks):
        title, key, *rest = rows[str(n + 1)]
        assert (title, key) == (c.rank[r].get("title", r), r)
        facts = {name: {q for x, q in person.given if x == r} for name, person in people.items()}
        facts = {name: spots for name, spots in facts.items() if spots}
        if "held-by" in c.rank[r]:
            assert not rest or not rest[0].isdecimal(), rest
            continue
        assert int(rest[0]) == len(facts), (r, rest, facts)
        who = re.sub(r" (?:through|until) \d+ \w+ \d{4}(?:, [\d:.]+)?", "", rest[1] if facts else "")
        told: dict[str, set[str]] = {}
        for part in re.split(r"(?:, | and )(?!in |on )", who):
            name, *where = re.split(r",? (?:and )?(?:in|on) ", part)
            told |= {name: {"site" if spot == "the whole site" else spot for spot in where}} if name else {}
        assert told.keys() == facts.keys(), (r, told, facts)
        for name, spots in facts.items():
            # who has it on the whole site without an end has it everywhere: no place is named
            assert told[name] == spots or ("site" in spots and not told[name]), (r, name, told, facts)
    return len(c.ranks)


def as_it_is(seed: int) -> Counter[str]:
    """Look at one community; raises ``AssertionError`` where a screen says something else than the rules."""
    rng, counts = Random(seed), Counter[str]()
    made = with_more(generate(rng), rng)
    community = made.open()
    c = side(made.texts()["charter.yaml"], community.names)
    people = {m: c.person(m, NOW) for m in c.members} | {"visitor": c.visitor()}
    people |= {f"rank:{r}": c.as_rank(r) for r in c.ranks}
    for who, person in people.items():
        counts["stops"] += of_tour(community, c, who, person)
    for pair in [rng.sample(sorted(people.items(), key=lambda each: each[0]), 2) for _ in range(6)]:
        counts["beside"] += of_beside(community, c, pair)
        if not all(who.startswith("rank:") for who, _ in pair):
            counts["compared"] += of_comparison(community, c, pair)
    for place in (None, *rng.sample([*c.place], min(3, len(c.place)))):
        counts["grid"] += of_grid(community, c, place)
        counts["powers"] += of_powers(community, c, place or "site")
    counts["cover"] += of_cover(community, c)
    counts["ladder"] += of_ladder(community, c)
    made = with_a_directory(with_more(with_a_head(generate(rng), rng), rng), rng)
    community, text = made.open(), made.texts()["charter.yaml"]
    for _ in range(6):
        with suppress(AskAboveError):
            plan = community.plan(*some_edits(rng, community))
            plan.apply()
            community, text = community.again(), plan.texts["charter.yaml"]
    c = side(text, community.names)
    for member in c.members if community.journal() else ():
        counts["history"] += of_history(community, c, member)
    counts["soon"] += of_what_is_soon(community, c)
    return counts


if __name__ == "__main__":
    through_seeds(as_it_is)
