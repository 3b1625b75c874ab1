"""What a plan tells of its effect, held to a second reading: answers, powers, acts, perks, gaps and expectations.

Run: python soak/told.py COUNT [FIRST]; so many communities, from the seed FIRST on.
"""

from __future__ import annotations

import itertools
import re
import sys
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from random import Random
from typing import TYPE_CHECKING, Any

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from soak.edits import of_a_directory, side, some_edits, with_a_directory, with_a_head

from ask_above import AskAboveError
from ask_above.change import MemberForget, RankSet
from ask_above.change.items import ItemRename
from ask_above.change.syncing import LetGo, Sync
from ask_above.workspace.plans import Plan
from generated import Generated, generate
from plain_rules import Person, Plain, yes

if TYPE_CHECKING:
    from soak.plain_edits import Side

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
Sentence = tuple[str, str, str, str]
_GIVEN = re.compile(" grants .* nothing new | has no effect for ")


def some_expectations(rng: Random, made: Generated) -> list[Sentence]:
    """Return expectations of any form: who, may or may not, what, and where, empty for the whole site."""
    c = Plain(made.charter, made.members, [])
    every, ranks, members = [*c.caps], c.ranks, [f"@{key}" for key in c.members]
    said: list[Sentence] = []
    for _ in range(12):
        rank, member, other = rng.choice(ranks), rng.choice(members), rng.choice([*ranks, *members])
        who = rng.choice([rank, f"{rank}+", member, "visitor", f"every {rank}", f"no {rank}"])
        may = "may" if who.startswith(("every ", "no ")) else rng.choice(["may", "may not"])
        act = rng.choice([f"call {rank}", f"assign {rng.choice(ranks)}", f"moderate {other}"])
        said.append((who, may, rng.choice([rng.choice(every), act]), rng.choice(["", *c.place])))
    return [(*each[:3], "" if each[3] == "site" else each[3]) for each in said]


def with_more(made: Generated, rng: Random) -> Generated:
    """Say what is risky, and what ranks bring that is no right."""
    for heading in made.charter["capabilities"].values():
        for key, said in heading.items():
            risk = {"risk": rng.choice(["medium", "high"])} if rng.random() < 0.5 else {}
            heading[key] = ({"about": said} if isinstance(said, str) else said) | risk
    defaults = {"any": "yes", "all": "yes", "most": "2", "least": "2", "total": "2", "topmost": "2"}
    made.charter["perks"] = {
        f"p-{how}": {"settle": how} | ({"default": said} if rng.random() < 0.5 else {})
        for how, said in defaults.items()
    }
    for rank in made.charter["ranks"]:
        perks = [f"p-{how}" for how in defaults if rng.random() < 0.4]
        rank["perks"] = {key: brings(key, rng) for key in perks}
    return made


def brings(perk: str, rng: Random) -> str:
    return rng.choice(["yes", "no"] if perk in ("p-any", "p-all") else ["0.1", "0.2", "3", "7"])


def as_text(said: Sentence) -> str:
    return " ".join(said[:3]) + (f" in {said[3]}" if said[3] else "")


def can(c: Side, person: Person, what: str, place: str, t: datetime) -> bool:
    """Whether somebody may do what an expectation names."""
    act, _, key = what.rpartition(" ")
    if act == "call":
        return c.call(person, key, place)
    if act == "assign":
        return c.assign(person, key, None, place, t)
    if act == "moderate":
        return c.moderate(person, c.person(key[1:], t) if key.startswith("@") else c.as_rank(key), place)
    return c.may(person, key, place)


def holds(c: Side, said: Sentence, t: datetime) -> bool:
    """Whether an expectation holds at a moment."""
    who, may, what, place = (*said[:3], said[3] or "site")
    form, _, key = who.rpartition(" ")
    if form:
        people = [c.person(m, t) for m in c.members]
        people = [p for p in people if p.status == "active" and key in c.ranks_at(p, place)]
    elif key == "visitor":
        people = [c.visitor()]
    elif key.startswith("@"):
        people = [c.person(key[1:], t)]
    else:
        reached = c.ranks.index(key.removesuffix("+"))
        people = [c.as_rank(r) for r in c.ranks[0 if key.endswith("+") else reached : reached + 1]]
    wanted = form != "no" and may == "may"
    return all(can(c, p, what, place, t) is wanted for p in people)


def answers(c: Side, moments: list[datetime]) -> set[Any]:
    """Every yes: the stretch of time, of whom, what and where; ranks and visitors in the first alone."""
    people = [(n, "member", m, c.person(m, t)) for n, t in enumerate(moments) for m in c.members]
    people += [(0, "rank", r, c.as_rank(r)) for r in c.ranks] + [(0, "visitor", "", c.visitor())]
    return {(*key, cap, q) for *key, p in people for cap in c.caps for q in c.place if c.may(p, cap, q)}


def powers(c: Side, t: datetime) -> Iterator[tuple[str, str, str, str]]:
    """Every act that is possible between two ranks, and where."""
    asked = {r: c.as_rank(r) for r in c.ranks}
    for q in c.place:
        for a, actor in asked.items():
            for b, target in asked.items():
                may = {"moderate": c.moderate(actor, target, q), "assign": c.assign(actor, b, None, q, t)}
                may |= {"manage": q == "site" and c.manage(actor, b), "call": c.call(actor, b, q)}
                yield from ((act, a, b, q) for act, yes in may.items() if yes)


def reached(c: Side, m: str, t: datetime) -> Iterator[tuple[str, str, str, str, str]]:
    """Everything that a member may do to whoever stands by a rank, or by none: the act, with what, whom, and where."""
    p = c.person(m, t)
    owner = c.owner(p) and p.status == "active"
    for q in c.place if c.acts(p) else ():
        stands = c.standing(p, q)
        for at, r in enumerate([*c.ranks, "none"]):
            rank = r if r in c.rank else None
            for cap in c.using("moderate") or [""] * owner:
                if owner or (c.over("moderate", stands, at) and c.able("moderate", p, q, rank, [cap])):
                    yield "moderate", m, cap, r, q
            said = c.rank.get(r, {"held-by": "nobody", "kept-by": "nobody"})
            for act, never in (("assign", {"held-by", "kept-by"}), ("manage", {"kept-by"})):
                if never & said.keys() or (act == "manage" and q != "site"):
                    continue
                if owner or (c.over(act, stands, at) and c.able(act, p, q, rank, c.using(act))):
                    yield act, m, "", r, q
            if rank and c.call(p, r, q):
                yield "call", m, "", r, q


def joined(c: Side, m: str, t: datetime) -> Iterator[tuple[str, str, str, str, str]]:
    """Every open rank that a member may join."""
    p = c.person(m, t)
    for r in c.ranks:
        if yes(c.rank[r].get("open", "no")) and c.acts(p) and c.assign(p, r, p, "site", t):
            yield "join", m, "", r, "site"


def stands_elsewhere(before: Side, after: Side, t: datetime) -> Iterator[tuple[bool, str, str, str, str, str]]:
    """Who may moderate a member, asked as a rank, or may no longer, because the member's standing is another."""
    for m in (m for m in before.members if m in after.members):
        people = [side.person(m, t) for side in (before, after)]
        for q in (q for q in before.place if q in after.place):
            tops = [s.target_standing(p, q) for s, p in zip((before, after), people, strict=True)]
            keys = [s.ranks[n] if 0 <= n < len(s.ranks) else n < 0 for s, n in zip((before, after), tops, strict=True)]
            for r in (r for r in before.ranks if r in after.rank and keys[0] != keys[1]):
                able = [s.moderate(s.as_rank(r), p, q) for s, p in zip((before, after), people, strict=True)]
                if able[0] != able[1]:
                    yield able[1], "moderate", f"rank:{r}", "", f"@{m}", q


def acts_told(plan: Plan) -> set[Any]:
    """What a plan tells of acts of members that differ, one by one."""
    return {
        (shift.gains, shift.act, actor, using, target, q, shift.since, shift.until)
        for shift in plan.effect.acts
        for actor in shift.actors
        for using in shift.using or ("",)
        for target in shift.targets
        for q in shift.places
    }


def acts_differ(before: Side, after: Side, moments: list[datetime]) -> set[Any]:
    """Every act that differs, of a member or because one stands elsewhere, since and until when; who may join now."""
    sides, differ = (before, after), set[Any]()
    differ.update(in_time([set(stands_elsewhere(before, after, t)) for t in moments], moments))
    for m in {**before.members, **after.members}:
        turned: list[set[Any]] = []
        for t in moments:
            one, two = (set(reached(s, m, t)) if m in s.members else set() for s in sides)
            turned.append({(True, *each) for each in two - one} | {(False, *each) for each in one - two})
        differ.update(in_time(turned, moments))
        one, two = (set(joined(s, m, moments[0])) if m in s.members else set() for s in sides)
        differ |= {(True, *each, None, None) for each in two - one} | {(False, *each, None, None) for each in one - two}
    return differ


def in_time(turned: list[set[Any]], moments: list[datetime]) -> Iterator[Any]:
    """Yield what differs at any moment with the first, and with that at which it differs no more."""
    for each in set().union(*turned):
        first = next(n for n, some in enumerate(turned) if each in some)
        last = next((n for n, some in enumerate(turned) if n > first and each not in some), None)
        yield *each, micros(moments[first]) if first else None, last and micros(moments[last])


def micros(t: datetime) -> int:
    return round((t - EPOCH).total_seconds() * 1e6)


def perk(c: Side, m: str, key: str, t: datetime) -> Any:
    """What a perk comes to for a member."""
    p = c.person(m, t) if m in c.members else None
    held = c.ranks_at(p, "site") if p and p.status in ("active", "pending") else []
    said = [c.rank[r]["perks"][key] for r in held if key in c.rank[r].get("perks", {})]
    if not said:
        said = [c.c["perks"][key]["default"]] if "default" in c.c["perks"][key] else []
    values: Any = [yes(each) if key in ("p-any", "p-all") else Decimal(each) for each in said]
    if not values:
        return {"p-any": False, "p-all": False, "p-topmost": None}.get(key, 0)
    settle: Any = {"any": any, "all": all, "most": max, "least": min, "total": sum, "topmost": next}
    how = c.c["perks"][key]["settle"]
    return settle[how](iter(values))


def perks_turned(before: Side, after: Side, t: datetime) -> set[Any]:
    """The perks that are another for active members, and what they were."""
    people = [m for m in after.members if after.person(m, t).status == "active"]
    found = ((key, m, perk(before, m, key, t), perk(after, m, key, t)) for m in people for key in after.c["perks"])
    return {each for each in found if each[2] != each[3]}


def gaps(before: Side, after: Side, t: datetime) -> set[Any]:
    """Where somebody active loses what is risky, and nobody may do it then, or one alone, who is named."""
    one, two = ({m: s.person(m, t) for m in s.members} for s in (before, after))
    found = set[Any]()
    for cap, q in itertools.product(after.caps, after.place):
        if after.caps[cap].get("risk", "low") == "low" or cap.removesuffix(".own") in after.bare:
            continue
        # where there was no such place nobody could do anything
        was = {m for m, p in one.items() if p.status == "active" and q in before.place and before.may(p, cap, q)}
        able = [m for m, p in two.items() if p.status == "active" and after.may(p, cap, q)]
        lost = any(m not in two or not after.may(two[m], cap, q) for m in was)
        if lost and len(able) < 2 and after.meaning(cap, q):
            found.add((q, cap, able[0] if able else None))
    return found


def in_vain(before: Side, after: Side, moments: list[datetime]) -> set[str]:
    """What is given and held, and lets nobody in or brings nothing that its holder had not, now or later."""
    found = set[str]()
    for m in after.members if before.c == after.c else ():
        p, called = after.person(m, moments[0]), (after.members[m].get("name") or m).casefold()
        for r, q in p.given if p.status == "active" and not after.owner(p) else ():
            gained = any(
                after.has(m, r, q, t) and not (m in before.members and before.has(m, r, q, t)) for t in moments
            )
            where = "on the whole site" if q == "site" else f"in {q}"
            if gained and not all(after.gate(p, x) for x in after.chain(q)) and not after.unbounded(p, q):
                found.add(f"{r} has no effect for {called} {where}")
            elif gained and m in before.members and after.carried(r) and stays(before, after, m, q, moments):
                found.add(f"{r} grants {called} nothing new {where}")
    return found


def stays(before: Side, after: Side, m: str, place: str, moments: list[datetime]) -> bool:
    """Whether a member may use the same, and stands as high, at a place and in it."""

    def all_of(c: Side, t: datetime) -> list[Any]:
        p = c.person(m, t)
        return [({cap for cap in c.caps if c.may(p, cap, q)}, c.standing(p, q)) for q in c.below(place)]

    return all(all_of(before, t) == all_of(after, t) for t in moments)


def answers_told(plan: Plan, moments: list[datetime]) -> set[Any]:
    """What a plan tells of answers that differ, one by one."""
    told = set[Any]()
    for shift in plan.effect.shifts:
        people = [("member", key) for key in shift.members]
        for n, t in enumerate(moments):
            at = micros(t)
            if (shift.since is None or shift.since <= at) and (shift.until is None or shift.until > at):
                besides = [("rank", key) for key in shift.ranks] + [("visitor", "")] * shift.visitor
                who = people + (besides if n == 0 else [])
                told |= {(shift.gains, n, *w, c, q) for w in who for c in shift.capabilities for q in shift.places}
    return told


def differing(before: Side, after: Side, moments: list[datetime], said: list[Sentence]) -> dict[str, set[Any]]:
    """All that differs, by what it is."""

    def turned(one: set[Any], two: set[Any]) -> set[Any]:
        return {(True, *each) for each in two - one} | {(False, *each) for each in one - two}

    return {
        "answers": turned(answers(before, moments), answers(after, moments)),
        "powers": turned({*powers(before, moments[0])}, {*powers(after, moments[0])}),
        "acts": acts_differ(before, after, moments),
        "perks": perks_turned(before, after, moments[0]),
        "gaps": gaps(before, after, moments[0]),
        "vain": in_vain(before, after, moments),
        "broken": {as_text(e) for e in said if any(holds(before, e, t) and not holds(after, e, t) for t in moments)},
    }


def all_told(plan: Plan, moments: list[datetime]) -> dict[str, set[Any]]:
    """All that a plan tells, by what it is."""

    def exact(value: Any) -> Any:
        return value if isinstance(value, bool | None) else Decimal(str(value))

    return {
        "answers": answers_told(plan, moments),
        "powers": {(p.gains, p.act, p.actor, p.target, p.place) for p in plan.effect.powers if p.target != "none"},
        "acts": acts_told(plan),
        "perks": {(p.perk.key, m, exact(p.before), exact(p.after)) for p in plan.perks for m in p.members},
        "gaps": {tuple(gap) for gap in plan.gaps},
        "vain": {
            said for each in plan.vain if _GIVEN.search(said := each.partition(":")[0].removesuffix(".").casefold())
        },
        "broken": {each.text for each in plan.broken},
    }


def as_it_differs(seed: int, count: int = 4) -> Counter[str]:
    """Plan changes in one community; raises ``AssertionError`` where more or less is told than differs."""
    rng, counts = Random(seed), Counter[str]()
    made = with_a_directory(with_more(with_a_head(generate(rng), rng), rng), rng)
    said = some_expectations(rng, made)
    made.charter["expectations"] = [as_text(each) for each in said]
    c, now = made.open(), datetime.now(UTC)
    before = side(made.texts()["charter.yaml"], c.names)
    for _ in range(count):
        edits = some_edits(rng, c)
        if rng.random() < 0.2:
            key = rng.choice([*made.charter["perks"]])
            edits = [RankSet(rng.choice([*c.charter.ranks]), {f"perks.{key}": brings(key, rng)})]
        elif rng.random() < 0.2:
            edits = [of_a_directory(rng, c)]
        with suppress(AskAboveError):
            plan = c.plan(*edits)
            after = side(plan.texts["charter.yaml"], plan.after)
            keys = [(s.rank.keys(), s.place.keys(), s.members.keys(), s.caps.keys()) for s in (before, after)]
            # another key is the same thing where nothing else differs, and two things else: neither is read
            if plan.is_empty or any(isinstance(each, ItemRename) for each in edits):
                continue
            if any(len(one - two) == 1 == len(two - one) for one, two in zip(*keys, strict=True)):
                continue
            moments = sorted(before.moments(now) | after.moments(now))
            differs, told = differing(before, after, moments, said), all_told(plan, moments)
            assert told == differs, (seed, edits, {name: told[name] ^ each for name, each in differs.items()})
            kind = type(edits[0]).__name__ if isinstance(edits[0], (Sync, LetGo, MemberForget)) else "changes"
            there = ["other things there"] if keys[0] != keys[1] else []
            counts.update([kind, *there, *(name for name, what in differs.items() if what)])
    return counts


def through_seeds(held: Callable[[int], Counter[str]]) -> None:
    """Go through the seeds that were typed; the first that differs ends it."""
    count, first = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1_000
    print(f"all agree: {dict(sum(map(held, range(first, first + count)), Counter[str]()))}")


if __name__ == "__main__":
    through_seeds(as_it_differs)
