"""What a plan tells of its effect, held to a second reading: answers, powers between ranks, and expectations.

Run: python soak/told.py COUNT [FIRST]; so many communities, from the seed FIRST on.
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from typing import TYPE_CHECKING, Any

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from soak.edits import side, some_edits, with_a_head

from ask_above import AskAboveError
from ask_above.workspace.plans import Plan
from generated import Generated, generate
from plain_rules import Person, Plain

if TYPE_CHECKING:
    from soak.plain_edits import Side

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
Sentence = tuple[str, str, str, str]


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


def answers_told(plan: Plan, moments: list[datetime]) -> set[Any]:
    """What a plan tells of answers that differ, one by one."""
    told = set[Any]()
    for shift in plan.effect.shifts:
        people = [("member", key) for key in shift.members]
        for n, t in enumerate(moments):
            at = round((t - EPOCH).total_seconds() * 1e6)
            if (shift.since is None or shift.since <= at) and (shift.until is None or shift.until > at):
                besides = [("rank", key) for key in shift.ranks] + [("visitor", "")] * shift.visitor
                who = people + (besides if n == 0 else [])
                told |= {(shift.gains, n, *w, c, q) for w in who for c in shift.capabilities for q in shift.places}
    return told


def as_it_differs(seed: int, count: int = 4) -> Counter[str]:
    """Plan changes in one community; raises ``AssertionError`` where more or less is told than differs."""
    rng, counts = Random(seed), Counter[str]()
    made = with_a_head(generate(rng), rng)
    said = some_expectations(rng, made)
    made.charter["expectations"] = [as_text(each) for each in said]
    c, now = made.open(), datetime.now(UTC)
    before = side(made.texts()["charter.yaml"], c.names)
    for _ in range(count):
        edits = some_edits(rng, c)
        with suppress(AskAboveError):
            plan = c.plan(*edits)
            after = side(plan.texts["charter.yaml"], plan.after)
            keys = [(s.rank.keys(), s.place.keys(), s.members.keys(), s.caps.keys()) for s in (before, after)]
            if plan.is_empty or keys[0] != keys[1]:
                continue
            moments, which = sorted(before.moments(now) | after.moments(now)), (seed, edits)
            one, two = answers(before, moments), answers(after, moments)
            differ = {(True, *each) for each in two - one} | {(False, *each) for each in one - two}
            assert answers_told(plan, moments) == differ, (which, answers_told(plan, moments) ^ differ)
            first, second = {*powers(before, now)}, {*powers(after, now)}
            turned = {(True, *each) for each in second - first} | {(False, *each) for each in first - second}
            shown = {(p.gains, p.act, p.actor, p.target, p.place) for p in plan.effect.powers if p.target != "none"}
            assert shown == turned, (which, shown ^ turned)
            broken = {as_text(e) for e in said if any(holds(before, e, t) and not holds(after, e, t) for t in moments)}
            assert {each.text for each in plan.broken} == broken, (which, broken)
            found = ("changes", [plan]), ("answers", differ), ("powers", turned), ("broken", broken)
            counts.update(name for name, what in found if what)
    return counts


def main() -> None:
    """Go through the seeds; the first that differs ends it."""
    count, first = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1_000
    print(f"all agree: {dict(sum((as_it_differs(seed) for seed in range(first, first + count)), Counter[str]()))}")


if __name__ == "__main__":
    main()
