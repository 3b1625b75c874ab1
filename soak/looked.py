"""What the screens that people look at say, read back and held to a second reading of the rules.

Run: python soak/looked.py COUNT [FIRST]; so many communities, from the seed FIRST on.
"""

from __future__ import annotations

import io
import re
import sys
from collections import Counter
from collections.abc import Sequence
from contextlib import suppress
from datetime import UTC, datetime, timedelta
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
from ask_above.ask.tour import beside
from ask_above.charter.moments import instant
from ask_above.show.compare import show_comparison
from ask_above.show.roster import show_soon
from ask_above.show.screen import Screen, in_full
from ask_above.show.tour import show_beside, show_tour
from generated import NOW, generate
from plain_rules import Person, Plain

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
    status, groups, ranks = "", set[str](), Counter[tuple[str, str]]()
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
        else:
            assert re.match(r"(name|address|telephone number|notes|kind): ", said), said
    row = c.members[member]
    called = {key: each.get("title", key) for key, each in {**c.rank, **c.place}.items()} | {"site": "site"}
    held = Counter((called[a["rank"]], called[a["place"]]) for a in c.assignments if a["member"] == member)
    assert (status, groups) == (row["status"], {*filter(None, row["groups"].split(";"))}), (member, status, groups)
    assert +ranks == held, (member, ranks, held)
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
