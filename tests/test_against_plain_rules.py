"""Every answer of random communities against a second, plain reading of the rules, and the invariants that follow."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta
from itertools import product
from random import Random
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ask_above import Answer, Community
from ask_above.ask.anywhere import able_in
from ask_above.ask.tables import power_cells
from ask_above.charter.moments import instant
from ask_above.charter.rules import ACTS, Act
from ask_above.decide.authority import reached
from ask_above.decide.planes import Planes, Powers
from ask_above.decide.profile import ask_rank
from ask_above.show.grid import ANYHOW, BESIDES, GIVEN, MEANINGLESS, NO, TAKEN, YES, marks
from generated import NOW, Generated, communities, generate
from plain_rules import Person, Plain, yes
from seeds import seeds

pytestmark = pytest.mark.slow

few = settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)


def everyone(made: Generated) -> list[str]:
    return [*(m["key"] for m in made.members), *(f"rank:{r['key']}" for r in made.charter["ranks"]), "visitor"]


def answers(made: Generated, when: datetime) -> Iterator[tuple[Answer, bool, tuple[Any, ...]]]:
    """Every question that can be put, with both answers."""
    c, plain = made.open(), Plain(made.charter, made.members, made.assignments)
    who = everyone(made)

    def person(key: str) -> Person:
        if key == "visitor":
            return plain.visitor()
        return plain.as_rank(key[5:]) if key.startswith("rank:") else plain.person(key, when)

    for w in who:
        for p in plain.place:
            for cap in plain.caps:
                yield c.may(w, cap, at=p, when=when), plain.may(person(w), cap, p), (w, cap, p)
            for other in who:
                yield (
                    c.may_moderate(w, other, at=p, when=when),
                    plain.moderate(person(w), person(other), p),
                    (w, other, p),
                )
            for r in plain.ranks:
                yield c.may_call(w, r, at=p, when=when), plain.call(person(w), r, p), (w, "call", r, p)
                yield (
                    c.may_assign(w, r, at=p, when=when),
                    plain.assign(person(w), r, None, p, when),
                    (w, "assign", r, p),
                )
                for m in plain.members:
                    other_one = person(m)
                    yield (
                        c.may_assign(w, r, to=m, at=p, when=when),
                        plain.assign(person(w), r, other_one, p, when),
                        (w, "assign", r, m, p),
                    )
                    yield (
                        c.may_unassign(w, r, of=m, at=p, when=when),
                        plain.unassign(person(w), r, other_one, p),
                        (w, "unassign", r, m, p),
                    )
        for r in plain.ranks:
            yield c.may_manage(w, r, when=when), plain.manage(person(w), r), (w, "manage", r)


def replay(answer: Answer) -> bool:
    """Go through the steps again: what they give and take, and where they stop."""
    held: set[str] = set()
    for step in answer.steps:
        if step.rule != "5.6" and step.holds is False:
            return False
        if step.code == "no-meaning":
            return False
        held = (held | step.gives) - step.takes
    return answer.account.rests <= held


def test_every_answer_is_that_of_the_plain_rules_and_its_explanation_leads_there() -> None:
    for seed in (*range(8), 910086):  # in the last a paused rank would speak if it were held
        when = NOW + timedelta(hours=Random(seed).randint(-72, 72))
        for answer, expected, question in answers(generate(Random(seed)), when):
            assert answer.allowed is expected, (seed, question, str(answer))
            assert replay(answer) is expected, (seed, question, str(answer))
            assert answer.reason


@few
@given(communities(), st.integers(0, 10**9))
def test_random_questions_get_the_plain_rules_answers(made: Generated, seed: int) -> None:
    rng = Random(seed)
    c, plain, when = made.open(), Plain(made.charter, made.members, made.assignments), NOW
    for _ in range(60):
        member, p = rng.choice(list(plain.members)), rng.choice(list(plain.place))
        cap, r = rng.choice(list(plain.caps)), rng.choice(plain.ranks)
        person = plain.person(member, when)
        assert c.may(member, cap, at=p, when=when).allowed is plain.may(person, cap, p)
        assert c.may_assign(member, r, to=member, at=p, when=when).allowed is plain.assign(person, r, person, p, when)


@few
@given(communities())
def test_grid_powers_and_who_say_what_single_questions_say(made: Generated) -> None:
    c = made.open()
    for p in c.charter.places:
        grid = c.grid(at=p)
        for r in c.charter.ranks:
            assert list(grid[r]) == [bool(c.may(f"rank:{r}", cap, at=p)) for cap in grid.index]
        for cap in list(grid.index)[:2]:
            found = set(c.who(cap, at=p, when=NOW)["member"])
            assert found == {m for m in c.register.members if c.may(m, cap, at=p, when=NOW)}
        for act, ask in (("moderate", c.may_moderate), ("assign", c.may_assign), ("manage", c.may_manage)):
            table = c.powers(act, at=p, when=NOW)
            for a in table.index:
                for b in table.columns:
                    extra = {} if act == "manage" else {"at": p}
                    target = f"rank:{b}" if act == "moderate" else b
                    assert table.loc[a, b] == bool(ask(f"rank:{a}", target, when=NOW, **extra))


@few
@given(communities())
def test_who_may_where_and_to_whom_is_what_single_questions_say(made: Generated) -> None:
    c = made.open()
    members, places = [*c.register.members], [*c.charter.places]
    names = list(c.charter.catalogue.keys)[:3]
    for but_in in (None, "site"):
        for name, spots in able_in(c.decider, names, instant(NOW), but_in=but_in).items():
            already = {m for m in members if but_in and c.may(m, name, at=but_in, when=NOW)}
            able = {(p, m) for p in places for m in members if c.may(m, name, at=p, when=NOW) and m not in already}
            assert {(p, m) for spot in spots for p in spot.places for m in spot.members} == able
            assert len({spot.members for spot in spots}) == len(spots)
            assert [spot.places[0] for spot in spots] == [p for p in places if p in {s.places[0] for s in spots}]
    for rank, target in zip(c.charter.ranks, members, strict=False):
        for p in places[:3]:
            giving = {m for m in members if c.may_assign(m, rank, to=target, at=p, when=NOW)}
            assert {*c.who("assign", rank, to=target, at=p, when=NOW).member} == giving
            for cell in power_cells(c.decider, Act.ASSIGN, c.decider.compiled.place_at[p], instant(NOW)):
                codes = {step.code for step in cell.against}
                assert cell.lacks({"no-capability", "behind-gate"}) is not codes.isdisjoint(
                    {"no-capability", "behind-gate"}
                )


@few
@given(communities())
def test_each_mark_of_the_grid_says_why_it_is_so(made: Generated) -> None:
    """Own grant, through others, given or taken by the place: told from grants and single questions alone."""
    c, plain = made.open(), Plain(made.charter, made.members, made.assignments)
    usual = {}
    for cap, row in zip(c.charter.catalogue.keys, marks(c.decider, None), strict=True):
        for r, mark in zip(c.charter.ranks, row, strict=True):
            usual[r, cap] = mark
            if not c.charter.ranks[r].unbounded:
                assert (mark in (YES, BESIDES)) is (cap in plain.carried(r)), (r, cap, mark)
                assert (mark == YES) is (cap in plain.carried(r) & plain.close(plain.names(plain.rank[r]["grants"])))
    for n, p in enumerate(c.charter.places):
        for cap, row in zip(c.charter.catalogue.keys, marks(c.decider, n), strict=True):
            for r, mark in zip(c.charter.ranks, row, strict=True):
                grants = usual[r, cap]
                if not plain.meaning(cap, p):
                    wanted = MEANINGLESS
                elif c.may(f"rank:{r}", cap, at=p):
                    wanted = {YES: YES, BESIDES: YES, ANYHOW: BESIDES}.get(grants, GIVEN)
                else:
                    asked = plain.as_rank(r)
                    held = asked.automatic | {rank for rank, _ in asked.given}
                    has_it = any(
                        cap in plain.carried(rank) or yes(plain.rank[rank].get("unbounded", "no")) for rank in held
                    )
                    wanted = TAKEN if has_it else NO
                assert mark == wanted, (p, r, cap, grants)


@few
@given(communities())
def test_what_can_be_used_is_closed_under_implies_and_needs(made: Generated) -> None:
    """Kinds apart: what it rests on must be held, not have a meaning."""
    c = made.open()
    for who in everyone(made):
        for p, place in c.charter.places.items():
            can = {cap for cap in c.charter.catalogue.keys if c.may(who, cap, at=p, when=NOW)}
            for cap in can:
                said = c.charter.catalogue.capabilities[cap]
                for other in (*said.implies, *said.needs):
                    kinds = c.charter.catalogue.capabilities[other].kinds
                    assert other in can or (kinds is not None and place.kind not in kinds)


@few
@given(communities(), st.randoms(use_true_random=False))
def test_the_order_of_what_has_no_order_changes_no_answer(made: Generated, rng: Random) -> None:
    shuffled = Generated(
        _shuffled(made.charter, rng), made.members, rng.sample(made.assignments, len(made.assignments))
    )
    assert _all_usable(made.open(), made) == _all_usable(shuffled.open(), made)


def _shuffled(data: Any, rng: Random, key: str = "") -> Any:
    """Shuffle mappings and the lists of words; the ladder and the sets that a place is like have an order."""
    if isinstance(data, dict):
        items = [(k, _shuffled(v, rng, k)) for k, v in data.items()]
        return dict(rng.sample(items, len(items)))
    if isinstance(data, list) and key not in ("ranks", "like"):
        return rng.sample([_shuffled(v, rng) for v in data], len(data))
    return [_shuffled(v, rng) for v in data] if isinstance(data, list) else data


def _all_usable(c: Community, made: Generated) -> set[tuple[str, str, str]]:
    keys = sorted(c.charter.catalogue.keys)
    return {(w, k, p) for w in everyone(made) for p in c.charter.places for k in keys if c.may(w, k, at=p, when=NOW)}


@few
@given(communities())
def test_renaming_a_key_everywhere_changes_no_answer(made: Generated) -> None:
    texts = made.texts()
    for name, text in texts.items():
        texts[name] = text.replace("r0", "zz-new").replace("p0", "a-place")
    c, new = made.open(), Community.from_texts(texts)
    for who in everyone(made):
        for p in c.charter.places:
            for cap in c.charter.catalogue.keys:
                renamed = new.may(who.replace("r0", "zz-new"), cap, at=p.replace("p0", "a-place"), when=NOW)
                assert c.may(who, cap, at=p, when=NOW).allowed is renamed.allowed


@few
@given(communities())
def test_a_bar_is_undone_for_the_owner_and_the_unbounded_alone(made: Generated) -> None:
    if "authored" in made.charter["capabilities"]["All"]["a.one"]:
        return
    made.charter["site"] = {"overrides": {"g0": {"bar": ["a.one"]}}}
    c = made.open()
    for m, p in ((m, p) for m in made.members for p in c.charter.places):
        in_group = "g0" in m["groups"].split(";")
        answer = c.may(m["key"], "a.one", at=p, when=NOW)
        if in_group and answer:
            assert {step.code for step in answer.steps} & {"owner", "unbounded"}


@few
@given(communities(gives_only=True), st.randoms(use_true_random=False))
def test_where_a_charter_only_gives_another_grant_takes_nothing_away(made: Generated, rng: Random) -> None:
    before = _all_usable(made.open(), made)
    cap = rng.choice([key for key, said in made.charter["capabilities"]["All"].items() if "authored" not in said])
    rank: dict[str, Any] = rng.choice(made.charter["ranks"])
    rank["grants"] = [*rank["grants"], cap]
    site = made.charter["site"].setdefault("overrides", {})
    entry = site.setdefault("g1", {})
    entry["allow"] = [*entry.get("allow", []), cap]
    assert before <= _all_usable(made.open(), made)


@few
@given(communities())
def test_a_member_who_holds_one_rank_alone_gets_that_ranks_answers(made: Generated) -> None:
    made.charter.pop("owner", None)
    plain = [r["key"] for r in made.charter["ranks"] if "held-by" not in r and "entry" not in r]
    made.members = [{"key": f"only-{r}"} for r in plain] or [{"key": "nobody"}]
    made.assignments = [{"member": f"only-{r}", "rank": r} for r in plain]
    c = made.open()
    for r in plain:
        for p in c.charter.places:
            for cap in c.charter.catalogue.keys:
                assert c.may(f"only-{r}", cap, at=p).allowed is c.may(f"rank:{r}", cap, at=p).allowed


@pytest.mark.parametrize("seed", seeds(6))
def test_power_over_ranks_is_what_the_single_acts_say(seed: int) -> None:
    """6.2 to 6.4: the sets of ranks that changes are held to, rank by rank, act by act, place by place."""
    c = generate(Random(seed)).open()
    compiled, decider = c.decider.compiled, c.decider
    powers, ranks = decider.keep(Powers.beside), compiled.ranks
    using = c.charter.rules.act(Act.MODERATE).using
    for rank, (n, place) in product(ranks, enumerate(c.charter.places)):
        asked = ask_rank(compiled, rank)
        power = powers.of(asked.profile, n, acts=asked.acts)
        who = f"rank:{rank.key}"
        if asked.acts:
            given = {each.key for each in decider.case(asked, n, instant(NOW)).given(power.assign)}
            assert given == {each.key for each in ranks if c.may_assign(who, each.key, at=place, when=NOW).allowed}
        assert power == powers.of(asked.profile, n, acts=asked.acts)
        for other in ranks:
            top = reached(compiled, ask_rank(compiled, other), n)
            for key, mask in zip(using, power.moderate, strict=False):
                assert bool(mask >> top & 1) is c.may_moderate(who, f"rank:{other.key}", at=place, using=key).allowed
            assert bool(power.call >> other.position & 1) is c.may_call(who, other.key, at=place).allowed
            if place == "site":
                may = c.may_manage(who, other.key).allowed
                assert bool(power.manage >> other.position & 1 and not other.kept_by) is may
            steps = [
                step for step in c.may_assign(who, other.key, at=place).steps if step.rule in ("6.2", "6.3", "6.4")
            ]
            # the first word about standing is on the rank, the next on who is given it
            standing = [step for step in steps if step.rule == "6.3"][:1]
            rest = [step for step in steps if step.rule != "6.3"]
            may = asked.acts and all(step.holds is not False for step in (*standing, *rest))
            assert bool(power.assign >> other.position & 1) is may, (who, other.key, place)
    everything = powers.of(None, 0, owner=True)
    assert [everything.assign, everything.manage, everything.call] == [(1 << len(ranks)) - 1] * 3
    assert all(mask == (1 << len(ranks) + 1) - 1 for mask in everything.moderate)
    assert not powers.of(None, 0)


@pytest.mark.parametrize("seed", seeds(12))
def test_planes_are_what_the_single_acts_say_of_ranks_members_and_the_owner(seed: int) -> None:
    """6.13: one engine for tables, effects and descriptions; each of its cells is an act asked by itself."""
    c = generate(Random(seed)).open()
    planes, at = c.decider.keep(Planes), instant(NOW)
    people = [*c.register.members, *(f"rank:{key}" for key in c.charter.ranks), "visitor"]
    for who, (n, place) in product(people, enumerate(c.charter.places)):
        asked = c.decider.asked(who, at)
        for act, ask in ((Act.ASSIGN, c.may_assign), (Act.CALL, c.may_call)):
            may = [key for key in c.charter.ranks if ask(who, key, at=place, when=NOW)]
            assert planes.named(asked, act, n) == may, (who, act, place)
        may = [key for key in c.charter.ranks if c.may_moderate(who, f"rank:{key}", at=place, when=NOW)]
        assert planes.named(asked, Act.MODERATE, n) == may, (who, place)
        may = [key for key in c.charter.ranks if c.may_manage(who, key, when=NOW)]
        assert planes.named(asked, Act.MANAGE, n) == may, (who, place)
    ranks = [(f"rank:{rank.key}", asked) for rank, asked in zip(planes.ranks, planes.asked, strict=True)]
    for act, (n, _) in product(ACTS, enumerate(c.charter.places)):
        pairs = [(actor.key, target.key) for actor, target in planes.pairs(act, n)]
        assert pairs == [(who[5:], key) for who, asked in ranks for key in planes.named(asked, act, n)]
    moderating = {rank.key for rank, _ in planes.moderators}
    using = c.charter.rules.act(Act.MODERATE).using
    for who, asked in ranks:
        able = any(c.may(who, key, at=place) for key in using for place in c.charter.places)
        assert who[5:] in moderating or not (able and asked.acts), who


def test_who_is_granted_and_allowed_nothing_of_what_moderating_takes_is_not_looked_at() -> None:
    planes = Community.demo().decider.keep(Planes)
    keys = [rank.key for rank, _ in planes.moderators]
    assert {"warden", "host"} <= {*keys}
    assert not {"volunteer", "member", "passer-by", "founding-friend"} & {*keys}
