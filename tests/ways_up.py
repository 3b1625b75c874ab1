"""Small charters full of ways up, and a search through real sequences of changes on them."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from random import Random
from typing import Any

from ask_above import Community
from ask_above.change.difference import Difference
from ask_above.change.parts import State as Side
from ask_above.change.reach import Reach
from ask_above.charter import changes
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import ALWAYS
from ask_above.charter.places import Gate
from ask_above.decide.decider import Decider
from ask_above.people.register import Assignment, Member
from standard import as_yaml

CAPS: dict[str, Any] = {
    "All": {
        "x.see": "See",
        "x.write": {"about": "Write", "needs": ["x.see"]},
        "x.risky": {"about": "Do what is risky", "risk": "high"},
        "x.plan": {"about": "Plan a job", "leads-to": ["x.risky"]},
        "x.act": "Keep quiet",
        "x.give": "Give ranks",
        "x.change": "Change ranks",
        "x.arrange": "Change places",
    }
}
NAMES = list(CAPS["All"])
AT = 1_780_000_000_000_000


def small_charter(rng: Random) -> str:
    """A charter with few names and rules that leave ways up."""

    def some(most: int) -> list[str]:
        return rng.sample(NAMES, rng.randint(0, most))

    def act(using: Any, **more: Any) -> dict[str, Any]:
        found = {"using": using, "over": rng.choice(["below", "below", "level", "anyone"])} | more
        return found | {"hand-on": rng.choice(["held", "held", "any"])}

    ranks: list[dict[str, Any]] = [
        {"key": key, "grants": some(4), "withhold": some(1) if rng.random() < 0.2 else []}
        for key in ("a", "b", "c", "d")
    ]
    rng.shuffle(ranks)
    for each in ranks:
        for field, chance in (("open", 0.3), ("unbounded", 0.06)):
            if rng.random() < chance:
                each[field] = "true"
        if rng.random() < 0.2:
            each["after"] = [rng.choice([r["key"] for r in ranks if r is not each])]
        if rng.random() < 0.15:
            each["apart-from"] = [rng.choice([r["key"] for r in ranks if r is not each])]
        if rng.random() < 0.15:
            each["assigns"] = {rng.choice(["only", "except"]): [rng.choice([r["key"] for r in ranks])]}
    ranks.append({"key": "all", "grants": some(2), "held-by": "members"})
    if rng.random() < 0.3:
        ranks.append({"key": "bots", "grants": some(2), "held-by": "bots"})

    def words() -> dict[str, Any]:
        keys = rng.sample(["a", "b", "c", "d", "all", "club", "b+"], rng.randint(0, 3))
        found: dict[str, Any] = {}
        for key in keys:
            one, two = rng.sample(["x.risky", "x.write", "x.see", "x.give"], 2)
            found[key] = rng.choice(
                [{"allow": [one]}, {"deny": [one]}, {"bar": [two]}, {"allow": [one], "deny": [two]}]
            )
            if found[key].get("allow") == ["x.write"] and "x.see" in found[key].get("deny", []):
                found[key] = {"allow": [one]}
        return found

    inner: dict[str, Any] = {"key": "desk", "kind": "board", "overrides": words()}
    if rng.random() < 0.4:
        inner["gate"] = {rng.choice(["any", "none"]): [rng.choice(["b", "c", "b+", "club"])]}
    places = [{"key": "hall", "kind": "section", "overrides": words(), "places": [inner]}]
    given = rng.choice([each["key"] for each in ranks[:4]])
    conferred = rng.choice([given, {"rank": given, "place": rng.choice(["hall", "desk"])}])
    assign = act("x.give", self=rng.choice(["true", "false"]))
    whole = {
        "charter": "1",
        "key": "small",
        "capabilities": CAPS,
        "groups": [{"key": "club"} | ({"confers": [conferred]} if rng.random() < 0.3 else {})],
        "ranks": ranks,
        "places": places,
        "rules": {
            "authority": {"moderate": {"using": ["x.act"]}, "assign": assign, "manage": act("x.change")},
            "overrides": act("x.arrange"),
            "accounts": {"using": "x.act"},
        }
        | ({"seeing": "x.see"} if rng.random() < 0.3 else {}),
    }
    return as_yaml(whole)


def write(folder: Path, charter: str) -> Path:
    folder.mkdir()
    (folder / "charter.yaml").write_text(charter, encoding="utf-8")
    return folder


State = tuple[Charter, tuple[tuple[str, tuple[tuple[str, str], ...], tuple[str, ...]], ...]]


class Search:
    """States that one member, or two of the same rank, can really come to, one allowed change after another."""

    def __init__(self, c: Community, key: str, *, accomplice: bool) -> None:
        self.people = ["me", "you"] if accomplice else ["me"]
        given = {who: [Assignment(who, key, "site", ALWAYS)] for who in self.people}
        register = c.register.changed({who: Member(who, name=who) for who in self.people}, given)
        self.first = Decider(c.charter, register)

    def edits(self, charter: Charter) -> Iterator[Charter]:
        """Every single edit of the charter that is small."""
        for key, rank in charter.ranks.items():
            if not rank.automatic and not rank.open:
                yield changes.with_rank(charter, rank._replace(open=True))
            for name in ("x.risky", "x.give", "x.write"):
                yield changes.granting(charter, key, (name,))
                yield changes.withholding(charter, key, (name,))
            for other in charter.ranks:
                if other != key:
                    yield changes.moved(charter, key, above=other)
            for where in charter.places:
                for word, name in (("allow", "x.risky"), ("clear", "x.risky"), ("allow", "x.see"), ("clear", "x.give")):
                    if word == "allow" or any(o.of == key for o in charter.places[where].overrides):
                        yield changes.saying(charter, where, key, word, (name,))
        for who in self.people:
            for where in charter.places:
                after = changes.saying(charter, where, who, "allow", ("x.risky",), member=True)
                yield after
        for where, here in charter.places.items():
            if here.gate:
                gate: Gate | None = None
                yield changes.with_gate(charter, where, gate)
        if "new" not in charter.ranks:
            keys = list(charter.ranks)
            more = charter._replace(ranks={**charter.ranks, "new": Rank("new", 0, title="new", open=True)})
            for n in range(len(keys)):
                yield changes.in_order(more, [*keys[:n], "new", *keys[n:]])

    def after(self, now: Decider) -> Iterator[Decider]:
        """Every state that one allowed change leads to."""
        charter, register = now.compiled.charter, now.people.register
        for who in self.people:
            for whom in self.people:
                yield from self._taken(now, who, whom)
                for member in self.records(register.members[whom]):
                    later = now.after(charter, register.changed({whom: member}, {}))
                    if self.may(now, later, who):
                        yield later
            for changed in self.edits(charter):
                if changed != charter:
                    later = Decider(changed, register)
                    if self.may(now, later, who):
                        yield later

    @staticmethod
    def may(now: Decider, later: Decider, who: str) -> bool:
        sides = [Side(each.compiled.charter, each.people.register) for each in (now, later)]
        return not Reach(now, later, Difference(sides[0], sides[1], AT), AT).refusals(who)

    @staticmethod
    def records(member: Member) -> Iterator[Member]:
        """Every small edit of somebody's record."""
        yield member._replace(groups=() if member.groups else ("club",))
        yield member._replace(kind="person" if member.kind == "bot" else "bot")
        if member.status == "active":
            yield member._replace(status="locked", was="active")
        else:
            yield member._replace(status="active", was="")

    def _taken(self, now: Decider, who: str, whom: str) -> Iterator[Decider]:
        register, compiled = now.people.register, now.compiled
        actor, target = now.people.ask(who, AT), now.people.ask(whom, AT)
        for rank in compiled.ranks:
            for n, place in enumerate(compiled.places):
                has = any((e.rank, e.place) == (rank.key, place.key) for e in register.of(whom))
                case = now.case(actor, n, AT)
                steps = case.unassign(rank, target) if has else case.assign(rank, target)
                if all(step.holds is not False for step in steps):
                    given = [e for e in register.of(whom) if (e.rank, e.place) != (rank.key, place.key)]
                    given += [] if has else [Assignment(whom, rank.key, place.key, ALWAYS)]
                    yield now.after(compiled.charter, register.changed({}, {whom: given}))

    def uses(self, now: Decider) -> set[tuple[str, str]]:
        """What anyone of them can use, and what that leads to."""
        compiled, found = now.compiled, set[tuple[str, str]]()
        for who in self.people:
            asked = now.people.ask(who, AT)
            for n, place in enumerate(compiled.places):
                names = compiled.catalogue.names(now.usable(asked, n))
                found |= {(name, place.key) for name in names}
                for name in names:
                    found |= {(to, place.key) for to in compiled.catalogue.capabilities[name].leads_to}
        return found

    def state(self, now: Decider) -> Any:
        charter, register = now.compiled.charter, now.people.register
        people = tuple(
            (register.members[who][3:7], frozenset((e.rank, e.place) for e in register.of(who))) for who in self.people
        )
        ranks = tuple((r.key, r.open, tuple(r.grants), tuple(r.withhold)) for r in charter.ranks.values())
        places = tuple((p.key, p.overrides, p.exceptions, p.gate) for p in charter.places.values())
        return people, ranks, repr(places)


def reached(
    c: Community, key: str, *, accomplice: bool, most: int, rng: Random
) -> tuple[set[tuple[str, str]], set[tuple[str, str]]]:
    """What is used at the start, and all that real sequences of changes come to, over at most so many states."""
    search = Search(c, key, accomplice=accomplice)
    first = search.uses(search.first)
    found, seen, todo = set(first), {search.state(search.first)}, [search.first]
    for _ in range(most):
        if not todo:
            break
        # now and then further down rather than wider
        now = todo.pop(rng.choice([0, -1, rng.randrange(len(todo))]))
        for later in search.after(now):
            state = search.state(later)
            if state not in seen:
                seen.add(state)
                todo.append(later)
                found |= search.uses(later)
    return first, found
