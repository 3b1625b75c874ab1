"""The administrator's questions, each held to counting the single answers one by one."""

from __future__ import annotations

import shlex
from datetime import UTC, datetime, timedelta
from itertools import combinations
from random import Random
from typing import Any

import pandas as pd
import pytest
import yaml
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ask_above import Assignment, Community, Member, QuestionError, UnknownNameError
from ask_above.ask.fit.search import WEIGHTS
from ask_above.charter import changes
from ask_above.charter.moments import ALWAYS, Period
from commands import run
from conftest import Place
from generated import NOW, Generated, communities, generate
from small import community, held, member, place, rank, texts
from standard import as_yaml

few = settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)

Cells = dict[tuple[str, str, str], bool]


def all_answers(c: Community, who: list[str] | None = None, when: datetime = NOW) -> Cells:
    people = [*c.register.members, *(f"rank:{key}" for key in c.charter.ranks), "visitor"] if who is None else who
    return {
        (w, p, k): c.may(w, k, at=p, when=when).allowed
        for w in people
        for p in c.charter.places
        for k in c.charter.catalogue.keys
    }


def changed(rng: Random, made: Generated) -> Community:
    """The community after some small change of its charter or register."""
    c = made.open()
    names = [rng.choice(c.charter.catalogue.keys)]
    some_place, some_rank = rng.choice(list(c.charter.places)), rng.choice(list(c.charter.ranks))
    someone = rng.choice(list(c.register.members))
    what = rng.randrange(7)
    if what == 0:
        return c.after(charter=changes.granting(c.charter, some_rank, names))
    if what == 1:
        return c.after(charter=changes.withholding(c.charter, some_rank, names))
    if what == 2:
        word = rng.choice(["allow", "deny", "bar"])
        return c.after(charter=changes.saying(c.charter, some_place, some_rank, word, names))
    if what == 3:
        return c.after(charter=changes.saying(c.charter, some_place, someone, "allow", names, member=True))
    if what == 4:
        return c.after(register=c.register.with_member(c.register.members[someone]._replace(status="active")))
    if what == 5:
        other = rng.choice([r for r in c.charter.ranks if r != some_rank])
        return c.after(charter=changes.moved(c.charter, some_rank, above=other))
    return generate(rng).open()  # another community altogether: other ranks, places, members


class TestImpact:
    @few
    @given(communities(), st.integers(0, 10**6))
    @pytest.mark.slow
    def test_it_is_the_difference_of_all_answers(self, made: Generated, seed: int) -> None:
        old, new = made.open(), changed(Random(seed), made)
        before, after = all_answers(old), all_answers(new)
        wanted = {
            (("gains" if after.get(key) else "loses"), key[2], key[1], key[0])
            for key in before.keys() | after.keys()
            if bool(before.get(key)) is not bool(after.get(key))
        }
        found = old.impact(new, when=NOW)
        rows = [row[:1] + row[2:5] for row in found.rows() if not row[5]]  # what is so from now on
        assert len(rows) == len(set(rows))
        assert set(rows) == wanted
        now = [shift.answers for shift in found.shifts if shift.since is None]
        assert sum(now) == sum(not w.startswith("rank:") and w != "visitor" for *_, w in wanted)

    @few
    @given(communities(), st.integers(0, 10**6))
    @pytest.mark.slow
    def test_powers_between_ranks_on_the_site_are_the_difference_of_the_tables(
        self, made: Generated, seed: int
    ) -> None:
        old, new = made.open(), changed(Random(seed), made)
        if old.charter is new.charter:
            return
        for act in ("moderate", "assign", "manage"):
            pairs = []
            for c in (old, new):
                table = c.powers(act, when=NOW)
                pairs.append({(a, t) for a in table.index for t in table.columns if table.loc[a, t]})
            wanted = {(True, *p) for p in pairs[1] - pairs[0]} | {(False, *p) for p in pairs[0] - pairs[1]}
            found = old.impact(new, when=NOW).powers
            assert {(e.gains, e.actor, e.target) for e in found if e.act == act and e.place == "site"} == wanted

    def test_equal_changes_are_folded_and_high_risk_stands_on_top(self) -> None:
        old = Community.demo()
        risky = changes.granting(old.charter, "volunteer", ["contact.export", "kit.lend"])
        found = old.impact(old.after(charter=risky))
        assert (found.shifts[0].risk, found.shifts[0].capabilities) == ("high", ("contact.export",))
        everybody = found.shifts[0].members
        assert everybody == tuple(key for key in old.register.members if key in everybody)
        assert everybody != ("runa",)
        assert len(everybody) > 40
        assert found.risky[0] == found.shifts[0]
        assert [each.members for each in found.risky[1:]] == [("runa",)]  # her rank begins later
        table = found.table()
        assert list(table.columns) == ["change", "risk", "capability", "place", "who", "from", "until"]
        assert set(table.capability) == {"contact.export", "kit.lend"}

    def test_what_is_gained_for_two_stretches_of_time_is_told_for_each(self) -> None:
        old, register = Community.demo(), Community.demo().register
        for start in (1 << 52, (1 << 52) + 2):
            register = register.assigned(Assignment("ebba", "volunteer", period=Period(start, start + 1)))
        risky = old.after(charter=changes.granting(old.charter, "volunteer", ["kit.lend"]), register=register)
        found = [each[-2:] for each in old.after(register=register).impact(risky).shifts if "ebba" in each.members]
        assert found == [(1 << 52, (1 << 52) + 1), ((1 << 52) + 2, (1 << 52) + 3)]

    def test_expectations_that_turn_are_told(self) -> None:
        old = Community.demo()
        better = old.after(charter=changes.moved(old.charter, "founding-friend", below="host"))
        assert [(e.text, e.holds) for e in old.impact(better).turned] == [
            ("host may moderate founding-friend using member.mute in river-talk", True)
        ]
        worse = better.impact(old).turned
        assert [each.holds for each in worse] == [False]
        assert "may not" in worse[0].unmet.because

    @pytest.mark.slow
    def test_a_reach_that_stays_the_same_is_not_said_to_change(self) -> None:
        c = Community.demo()
        again = c.after(register=c.register.assigned(Assignment("dara", "volunteer", "notices")))
        assert c.impact(again).may_differ == []
        other = c.after(register=c.register.assigned(Assignment("dara", "warden", "notices")))
        assert any("Dara Fenwick" in said for said in c.impact(other).may_differ)

    def test_nothing_differs_from_itself(self) -> None:
        one = Community.demo()
        assert not one.impact(Community.demo())
        assert not one.impact(one)


def later_moments(c: Community) -> list[datetime]:
    """Now, and every later moment at which somebody's period starts or ends."""
    edges = {e for each in c.register.assignments for e in (each.period.start, each.period.end) if e is not None}
    later = (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=edge) for edge in sorted(edges))
    return [NOW, *(when for when in later if when > NOW)]


def single_changes(c: Community, who: str, capability: str) -> list[tuple[str, Community]]:
    """Every single change of these kinds anywhere, whether it looks promising or not."""
    found: list[tuple[str, Community]] = []
    for p in c.charter.places:
        for word in ("allow", "deny"):
            holders = [(key, False) for key in (*c.charter.ranks, *c.charter.groups)] + [(who, True)]
            for key, is_member in holders:
                said = changes.saying(c.charter, p, key, word, [capability], member=is_member)
                found.append(("exception" if is_member else "override", c.after(charter=said)))
    for key, each in c.charter.ranks.items():
        if not each.kept_by:
            found.append(("grant", c.after(charter=changes.granting(c.charter, key, [capability]))))
            found.append(("withhold", c.after(charter=changes.withholding(c.charter, key, [capability]))))
    person = c.register.members[who]
    for key in c.charter.groups:
        groups = tuple(g for g in person.groups if g != key) if key in person.groups else (*person.groups, key)
        found.append(("group", c.after(register=c.register.with_member(person._replace(groups=groups)))))
    return found


class TestWays:
    @few
    @given(communities(), st.integers(0, 10**6))
    @pytest.mark.slow
    def test_every_way_turns_the_answer_and_no_smaller_one_of_its_kind_exists(self, made: Generated, seed: int) -> None:
        c, rng = made.open(), Random(seed)
        who, p = rng.choice(list(c.register.members)), rng.choice(list(c.charter.places))
        capability = rng.choice(c.charter.catalogue.keys)
        now = c.may(who, capability, at=p, when=NOW).allowed
        moments = later_moments(c)
        before = [all_answers(c, list(c.register.members), when) for when in moments]

        def others(other: Community) -> set[tuple[str, str, str]]:
            after = [all_answers(other, list(c.register.members), when) for when in moments]
            turned = {
                key for was, is_now in zip(before, after, strict=True) for key in was if was[key] is not is_now[key]
            }
            return turned - {(who, p, capability)}

        found = c.ways(who, capability, at=p, when=NOW, every=True)
        for way in found:
            after = Community(way.charter, way.register)
            assert after.may(who, capability, at=p, when=NOW).allowed is not now
            turned = others(after)
            assert (way.answers, way.members) == (len(turned), len({w for w, _, _ in turned}))
        assert [w.harm for w in found] == sorted(w.harm for w in found)
        assert len({w.command for w in found}) == len(found)
        for kind, other in single_changes(c, who, capability):
            if other.may(who, capability, at=p, when=NOW).allowed is not now:
                mine = [way.answers for way in found if way.kinds == (kind,)]
                assert mine, kind
                assert min(mine) <= len(others(other)), kind

    @few
    @given(communities(), st.integers(0, 10**6))
    @pytest.mark.slow
    def test_ways_for_acts_turn_the_answer(self, made: Generated, seed: int) -> None:
        c, rng = made.open(), Random(seed)
        actor, target = rng.choice(list(c.register.members)), rng.choice(list(c.register.members))
        some_rank, p = rng.choice(list(c.charter.ranks)), rng.choice(list(c.charter.places))

        def put(other: Community) -> list[bool]:
            return [
                other.may_moderate(actor, target, at=p, when=NOW).allowed,
                other.may_assign(actor, some_rank, to=target, at=p, when=NOW).allowed,
                other.may_manage(actor, some_rank, when=NOW).allowed,
                other.may_call(actor, some_rank, at=p, when=NOW).allowed,
            ]

        now = put(c)
        found = [
            c.ways(actor, "moderate", target, at=p, when=NOW),
            c.ways(actor, "assign", some_rank, to=target, at=p, when=NOW),
            c.ways(actor, "manage", some_rank, when=NOW),
            c.ways(actor, "call", some_rank, at=p, when=NOW),
        ]
        for n, ways in enumerate(found):
            for way in ways[:20]:
                assert put(Community(way.charter, way.register))[n] is not now[n], way.what

    @pytest.mark.slow
    def test_the_three_mistakes_of_the_demo_are_mended_by_what_is_proposed(self) -> None:
        c = Community.demo()
        cases: list[tuple[str, str, str | None, str, str | None, str]] = [
            ("rank:host", "moderate", "rank:founding-friend", "river-talk", "member.mute", "host may moderate"),
            ("rank:volunteer", "reading.post", None, "lower-gauges", None, "volunteer may reading"),
            ("rank:volunteer", "photo.upload", None, "photo-wall", None, "volunteer may not photo"),
        ]
        for who, what, target, where, using, text in cases:
            assert any(text in each.expectation.text for each in c.unmet())
            ways = c.ways(who, what, target, at=where, using=using)
            mended = [
                w for w in ways if not any(text in e.expectation.text for e in Community(w.charter, w.register).unmet())
            ]
            assert mended == ways
            assert ways
        found = c.ways("rank:host", "moderate", "rank:founding-friend", every=True)
        moves = [way.what for way in found if "order" in way.kinds]
        assert "Move Board host directly above Founding friend on the ladder" in moves

    @pytest.mark.slow
    def test_a_gate_is_opened_and_what_has_no_meaning_has_no_way(self) -> None:
        c = Community.demo()
        kinds = {kind for way in c.ways("bram", "place.see", at="landowners") for kind in way.kinds}
        assert {"gate", "group"} <= kinds
        assert c.ways("dara", "reading.post", at="notices") == []
        assert c.ways("ines", "place.see", at="notices") == []

    def test_where_two_things_stand_against_it_pairs_are_tried(self) -> None:
        c = community(
            rank("a"),
            members=[member("ada")],
            assignments=[held("ada", "a")],
            places=[place("p", overrides={"a": {"bar": ["post.write"]}}, exceptions={"ada": {"bar": ["post.write"]}})],
        )
        ways = c.ways("ada", "post.write", at="p")
        assert ways
        assert all(len(way.kinds) == 2 for way in ways)
        assert all(Community(w.charter, w.register).may("ada", "post.write", at="p") for w in ways)

    def test_a_bar_may_become_a_deny_that_a_nearer_place_overrides(self) -> None:
        c = community(
            rank("a"),
            members=[member("ada")],
            assignments=[held("ada", "a")],
            places=[
                place(
                    "hall",
                    "section",
                    overrides={"a": {"bar": ["post.write"]}},
                    places=[place("desk", overrides={"a": {"allow": ["post.write"]}})],
                )
            ],
        )
        assert "ask-above place override hall a --deny post.write" in [
            way.command for way in c.ways("ada", "post.write", at="desk", every=True)
        ]

    def test_what_a_rank_kept_outside_builds_on_is_where_it_can_be_withheld(self) -> None:
        c = community(
            rank("feed", kept_by="the feed", builds_on=["base"]),
            rank("base", "post.write"),
            members=[member("ada")],
            assignments=[held("ada", "feed")],
        )
        assert "ask-above rank withhold base post.write" in [
            way.command for way in c.ways("ada", "post.write", every=True)
        ]

    @pytest.mark.slow
    def test_a_paused_rank_fits_nobody(self) -> None:
        c = community(rank("a", "post.write", paused="true"), rank("b", "post.write", "post.pin"))
        fit = c.fit(["post.write"])
        assert fit.single is not None
        assert fit.single.ranks == ("b",)


class TestFit:
    @few
    @given(communities(), st.integers(0, 10**6))
    @pytest.mark.slow
    def test_it_equals_exhaustive_search(self, made: Generated, seed: int) -> None:
        c, rng = made.open(), Random(seed)
        places, keys = list(c.charter.places), c.charter.catalogue.keys
        needs = [(rng.choice(keys), rng.choice([None, *places])) for _ in range(rng.randint(1, 2))]
        never = [rng.choice(keys)] if rng.random() < 0.3 else []
        found = c.fit([k if p is None else (k, p) for k, p in needs], never=never, most=2, when=NOW)
        single, few_ranks = exhaustive(c, needs, never)
        assert (found.single and (found.single.weight, found.single.ranks)) == single
        assert (found.few and (found.few.weight, found.few.ranks)) == few_ranks

    @pytest.mark.parametrize("seed", range(3))
    def test_of_many_ranks_that_give_and_take_the_best_three_are_found(self, seed: int) -> None:
        rng = Random(seed)
        for _ in range(4):
            c = many_ranks(rng)
            needs = [(key, rng.choice([None, "hall", "desk", "yard"])) for key in rng.sample(CAPABILITIES_OF_MANY, 2)]
            never = rng.sample(CAPABILITIES_OF_MANY, rng.choice([0, 0, 1]))
            found = c.fit([k if p is None else (k, p) for k, p in needs], never=never, when=NOW)
            single, few_ranks = exhaustive(c, needs, never, most=3)
            assert (found.single and (found.single.weight, found.single.ranks)) == single
            assert (found.few and (found.few.weight, found.few.ranks)) == few_ranks

    @pytest.mark.parametrize(
        ("ranks", "fits"),
        [
            pytest.param([rank("a", "post.write"), rank("b")], ("a", "b"), id="a gate asks for another rank"),
            pytest.param([rank("b", "post.write", after=["a"]), rank("a")], ("b", "a"), id="only after another"),
            pytest.param([rank("b"), rank("a", "post.write", apart_from=["b"])], None, id="never together"),
            pytest.param([rank("b", "post.write", apart_from=["m"])], None, id="never with what every member holds"),
            pytest.param([rank("b", unbounded="true")], ("b",), id="unbounded"),
        ],
    )
    def test_what_a_rank_needs_beside_it_comes_with_it(self, ranks: Any, fits: tuple[str, ...] | None) -> None:
        c = community(*ranks, rank("m", "place.see", held_by="members"), places=[place("p", gate={"any": ["b"]})])
        few_ranks = c.fit([("post.write", "p")]).few
        assert (few_ranks and few_ranks.ranks) == fits

    def test_what_is_too_much_is_told_by_risk(self) -> None:
        fit = Community.demo().fit([("member.mute", "river-talk")])
        assert fit.single is not None
        assert fit.single.ranks == ("host",)
        assert next(each.risk for each in fit.single.excess) == "medium"
        assert fit.single.weight == sum(WEIGHTS[e.risk] * len(e.places) for e in fit.single.excess)

    def test_a_new_rank_is_a_piece_of_a_charter_that_passes_the_check(self) -> None:
        c = community(rank("a", "post.*"), rank("m", "place.see", held_by="members"))
        wanted: list[str | tuple[str, str]] = ["member.mute", ("post.pin", "desk"), ("post.write", "yard")]
        made = c.propose(wanted)
        assert made is not None
        assert made.below == "a"
        files = yaml.safe_load(texts(rank("a", "post.*"), rank("m", "place.see", held_by="members"))["charter.yaml"])
        files["ranks"].insert(1, yaml.safe_load(made.rank)[0])
        by_key = {p["key"]: p for p in [*files["places"], *files["places"][0]["places"]]}
        for key, line in made.overrides:
            by_key[key].setdefault("overrides", {}).update(yaml.safe_load(line))
        pasted = Community.from_texts({"charter.yaml": as_yaml(files)})
        new = f"rank:{made.key}"
        assert pasted.may(new, "member.mute", at="hall")
        assert pasted.may(new, "post.pin", at="desk")
        assert pasted.may(new, "post.write", at="yard")
        assert not pasted.may(new, "post.pin", at="yard")
        there = c.fit(wanted).few
        assert there is None or made.fitting.weight < there.weight

    @pytest.mark.slow
    def test_what_is_proposed_can_be_typed_and_the_gates_on_the_way_let_it_in(self, brook: Place) -> None:
        """The gate of the demo's landowners asks for a team or a warden, and shuts a bot out; the bot stays out."""
        made = brook.open().propose([("post.write", "landowners"), ("thread.close", "landowners")])
        assert made is not None
        assert [place for place, _ in made.gates] == ["landowners"]
        for command in made.commands:
            assert run(*shlex.split(command)[1:], "--yes", cwd=brook.folder).returncode == 0, command
        c, new = brook.open(), f"rank:{made.key}"
        assert all(c.may(new, key, at="landowners") for key in ("post.write", "thread.close"))
        gate = c.charter.places["landowners"].gate
        assert gate is not None
        assert (str(gate.any[-1]), [*map(str, gate.none)], gate.teaser) == (made.key, ["relay-bot"], True)

    def test_no_new_rank_is_proposed_where_none_can_help(self) -> None:
        closed = [place("p", overrides={"m": {"bar": ["post.write"]}})]
        c = community(rank("a", "post.*"), rank("m", held_by="members"), places=closed)
        assert c.propose([("post.write", "p")]) is None
        assert c.fit([("post.write", "p")]).few is None


CAPABILITIES_OF_MANY = ["post.write", "post.pin", "member.mute", "rank.assign", "member.ban"]


def many_ranks(rng: Random) -> Community:
    """Eight ranks of which each gives something at one place and takes something at another."""
    keys = [f"r{n}" for n in range(8)]

    def said() -> dict[str, list[str]]:
        return {rng.choice(["allow", "deny", "deny", "bar"]): [rng.choice(CAPABILITIES_OF_MANY)]}

    def somewhere(key: str, **fields: Any) -> dict[str, Any]:
        gate: Any = {"gate": {rng.choice(["any", "none"]): rng.sample(keys, 2)}} if rng.random() < 0.3 else {}
        return place(key, overrides={key: said() for key in rng.sample(keys, 4)}, **gate, **fields)

    ranks = [rank(key, *rng.sample(CAPABILITIES_OF_MANY, rng.choice([1, 2, 2, 4]))) for key in keys]
    ranks[3]["unbounded"] = "true" if rng.random() < 0.2 else "false"
    ranks[5]["after"], ranks[6]["apart-from"] = [keys[rng.randrange(5)]], [keys[rng.randrange(5)]]
    everyone = rank("everyone", "place.see", held_by="members")
    return community(*ranks, everyone, places=[somewhere("hall", places=[somewhere("desk")]), somewhere("yard")])


def exhaustive(c: Community, needs: list[tuple[str, str | None]], never: list[str], most: int = 2) -> tuple[Any, Any]:
    """The best single rank and the best few at most, by trying them all on a member who is given them."""
    ranks, key = c.charter.ranks, "somebody-new"
    taken = {k: {a.member for a in c.register.assignments if a.rank == k and not ended(a)} for k in ranks}
    for group in c.charter.groups.values():
        for conferred in group.confers:
            taken[conferred.rank] |= {m.key for m in c.register.members.values() if in_group(c, m, group.key)}
    retired = {m.key for m in c.register.members.values() if m.status == "retired"}
    free = [
        k
        for k, r in ranks.items()
        if not (r.automatic or r.entry or r.kept_by or r.paused)
        and not (r.limit is not None and len(taken[k] - retired) >= r.limit)
    ]
    automatic = {k for k, r in ranks.items() if r.held_by in ("anyone", "members")}

    def answers(given: tuple[str, ...]) -> dict[tuple[str, str], bool]:
        register = c.register.with_member(Member(key))
        for each in given:
            register = register.assigned(Assignment(key, each, "site", ALWAYS))
        other = c.after(register=register)
        return {
            (k, p): other.may(key, k, at=p, when=NOW).allowed
            for k in c.charter.catalogue.keys
            for p in c.charter.places
        }

    base = answers(())
    compiled = c.decider.compiled

    def resting(k: str, p: str) -> set[str]:
        return set(compiled.catalogue.names(compiled.rests(k, compiled.place_at[p])))

    needed = {(r, p) for k, at in needs for p in c.charter.places if at in (None, p) for r in resting(k, p)}
    best: dict[int, Any] = {}
    for number in range(most + 1):
        for chosen in combinations(free, number):
            has = set(chosen) | automatic
            if not all(set(ranks[g].after) <= has and not has & set(ranks[g].apart_from) for g in chosen):
                continue
            can = answers(chosen)
            if not all(any(can[k, p] for p in c.charter.places if at in (None, p)) for k, at in needs):
                continue
            if any(can[k, p] for k in never for p in c.charter.places):
                continue
            weight = sum(
                WEIGHTS[c.charter.catalogue.capabilities[k].risk]
                for (k, p), yes in can.items()
                if yes and not base[k, p] and (k, p) not in needed
            )
            order = (weight, number, tuple(-ranks[g].position for g in chosen))
            for which in {1, 2} if number == 1 else {2}:
                if which not in best or order < best[which][0]:
                    best[which] = (order, (weight, chosen))
    single, few_ranks = (best[which][1] if which in best else None for which in (1, 2))
    return single, few_ranks


def ended(assignment: Any) -> bool:
    from ask_above.charter.moments import instant

    period = assignment.period
    over = period.end is not None and period.end <= instant(NOW)
    return over or (period.start is not None and period.end is not None and period.start >= period.end)


def in_group(c: Community, person: Any, group: str) -> bool:
    inner = [group]
    for each in inner:
        inner += [g for g in c.charter.groups[each].includes if g not in inner]
    return bool(set(person.groups) & set(inner))


def test_ranks_called_as_what_stands_beside_ranks_are_told_apart_from_it() -> None:
    answers = []
    for top, middle, low in (("x", "y", "z"), ("owner", "place", "none")):
        c = community(
            rank(top, "post.write", "member.mute", moderates={"only": [low]}),
            rank(middle, "post.write"),
            rank(low),
            members=[member(key) for key in "abcd"],
            assignments=[held("a", top), held("b", middle), held("d", low)],
            owner="c",
            places=[place("yard", overrides={low: {"allow": ["post.write"]}})],
            rules={"authority": {"moderate": {"using": "member.mute"}}},
        )
        covered = c.cover(["post.write"]).by_rank("yard", "post.write")
        gone = c.impact(c.after(register=c.register.changed({}, {"d": []})))
        used = c.audit(pd.DataFrame({"member": ["c"], "action": ["post.write"], "place": ["yard"], "when": [NOW]})).used
        told = [*c.who("post.write", at="yard").ranks, *(use.rank for use in used)]
        answers.append((sorted(covered.values()), gone.answers, len(gone.acts), len({*told})))
    assert answers == [([1, 1, 1, 1], 3, 1, 4)] * 2


class TestCountingAndWalking:
    @few
    @given(communities())
    @pytest.mark.slow
    def test_cover_and_where_equal_counting(self, made: Generated) -> None:
        c = made.open()
        active = [key for key, m in c.register.members.items() if m.status == "active"]
        duties = list(c.charter.catalogue.keys)
        found = c.cover(duties, without=active[:1], when=NOW)
        table = found.table()
        counted = active[1:]
        for p, here in c.charter.places.items():
            for k in duties:
                able = [key for key in counted if c.may(key, k, at=p, when=NOW)]
                if c.charter.catalogue.capabilities[k].has_meaning_in(here.kind):
                    assert table.loc[p, k] == len(able)
                    assert [g.only for g in found.gaps if (g.place, g.capability) == (p, k)] == (
                        [None] if not able else able if len(able) == 1 else []
                    )
                    assert sum(found.by_rank(p, k).values()) == len(able)
                else:
                    assert table.isna().loc[p, k]
        for who in [*c.register.members, *(f"rank:{r}" for r in c.charter.ranks), "visitor"]:
            for k in duties[:4]:
                assert c.where(who, k, when=NOW) == [p for p in c.charter.places if c.may(who, k, at=p, when=NOW)]

    @few
    @given(communities())
    @pytest.mark.slow
    def test_a_tour_lists_exactly_what_can_be_used(self, made: Generated) -> None:
        c = made.open()
        for who in [*c.register.members, *(f"rank:{r}" for r in c.charter.ranks), "visitor"]:
            tour = c.tour(who, when=NOW)
            assert [stop.place for stop in tour.stops] == list(c.charter.places)
            for stop in tour.stops:
                usable = [k for k in c.charter.catalogue.keys if c.may(who, k, at=stop.place, when=NOW)]
                assert list(stop.can) == usable
                assert set(stop.more) <= set(usable)
                assert not set(stop.less) & set(usable)
                assert (stop.state == "open") or not usable
                assert bool(stop.why) is (stop.state != "open")

    @few
    @given(communities())
    @pytest.mark.slow
    def test_a_comparison_lists_what_only_one_may(self, made: Generated) -> None:
        c = made.open()
        who = [*c.register.members, *(f"rank:{r}" for r in c.charter.ranks), "visitor"]
        one, other = who[0], who[-2]
        found = c.compare(one, other, when=NOW) if not other.startswith("rank:") or one in c.register.members else None
        assert found is not None
        cells = {(row.capability, p): row.who for row in found.rows for p in row.places}
        for k in c.charter.catalogue.keys:
            for p in c.charter.places:
                has = (c.may(one, k, at=p, when=NOW).allowed, c.may(other, k, at=p, when=NOW).allowed)
                wanted = {(True, True): "both", (True, False): "one", (False, True): "other", (False, False): None}[has]
                assert cells.get((k, p)) == wanted

    @few
    @given(communities())
    @pytest.mark.slow
    def test_who_may_act_is_everyone_for_whom_the_single_answer_is_yes(self, made: Generated) -> None:
        c = made.open()
        target, some_rank = next(iter(c.register.members)), next(iter(c.charter.ranks))
        p = list(c.charter.places)[-1]
        found = c.who("moderate", target, at=p, when=NOW)
        assert list(found.member) == [m for m in c.register.members if c.may_moderate(m, target, at=p, when=NOW)]
        found = c.who("assign", some_rank, to=target, at=p, when=NOW)
        wanted = [m for m in c.register.members if c.may_assign(m, some_rank, to=target, at=p, when=NOW)]
        assert list(found.member) == wanted

    def test_a_gate_with_a_teaser_is_shown_as_closed_and_the_rest_is_not_there(self) -> None:
        places = [
            place("shown", gate={"any": ["a"], "teaser": "true"}, places=[place("inside")]),
            place("hidden", gate={"any": ["a"]}),
            place("unseen", overrides={"m": {"deny": ["place.see"]}}),
        ]
        c = community(
            rank("a"), rank("m", "place.see", held_by="members"), places=places, rules={"seeing": "place.see"}
        )
        states = {stop.place: stop.state for stop in c.tour("rank:m").stops}
        assert states == {
            "site": "open",
            "shown": "closed",
            "inside": "not there",
            "hidden": "not there",
            "unseen": "not there",
        }
        assert {stop.state for stop in c.tour("rank:a").stops if stop.place != "unseen"} == {"open"}

    def test_a_rank_is_compared_with_the_one_it_was_copied_from_and_those_it_builds_on(self) -> None:
        found = Community.demo().related("volunteer")
        assert [(each.how, each.other) for each in found] == [("copied from", "Surveyor")]
        assert "charter.yaml line" in found[0].of("one")[0].one
        assert [each.how for each in Community.demo().related("warden")] == ["builds on"]

    def test_unknown_names_are_refused_with_the_nearest(self) -> None:
        c = Community.demo()
        for ask in (
            lambda: c.tour("brm"),
            lambda: c.compare("bram", "rank:hst"),
            lambda: c.cover(["post.publsh"]),
            lambda: c.cover(without=["kofy"]),
            lambda: c.fit([("post.publish", "frontpage")]),
            lambda: c.who("assign", "surveyr"),
            lambda: c.ways("bram", "moderate", "tomass"),
        ):
            with pytest.raises(UnknownNameError, match=r"[Nn]earest"):
                ask()
        with pytest.raises(QuestionError):
            c.who("moderate")


class TestRoster:
    def test_members_stand_under_their_highest_heading_with_their_looks(self) -> None:
        found = {heading.rank: heading for heading in Community.demo().roster()}
        assert [each.member.key for each in found["steward"].members] == ["ines", "olaf"]
        assert found["warden"].members[0].looks.prefix == "[Warden]"
        assert "niko" not in {each.member.key for heading in found.values() for each in heading.members}

    def test_what_ends_and_starts_soon_and_who_has_been_waiting(self) -> None:
        from ask_above.ask.roster import day_of, soon, waiting
        from ask_above.charter.moments import instant

        c, now = Community.demo(), instant(NOW)
        edges = soon(c.decider, now, 100)
        assert [(edge.starts, edge.assignment.member) for edge in edges] == [
            (True, "runa"),
            (False, "arne"),
            (True, "marek"),
        ]
        assert day_of(c.decider.compiled, edges[1].at, last=True) == "2027-01-31"
        assert soon(c.decider, now, 10) == []
        assert [each.member.key for each in waiting(c.decider, now, "pending", 14)] == ["lena", "joss", "emil"]
        assert [each.member.key for each in waiting(c.decider, now, "invited", 14)] == ["wim"]
        # since the day they joined; whom nobody knows a day of comes first
        c = c.after(register=c.register.with_member(c.member("joss")._replace(joined="2026-10-26")))
        assert [(each.member.key, each.days) for each in waiting(c.decider, now, "pending")] == [
            ("lena", None),
            ("emil", None),
            ("joss", 30),
        ]
        assert "joss" in {each.member.key for each in waiting(c.decider, now, "pending", 29)}
        assert "joss" not in {each.member.key for each in waiting(c.decider, now, "pending", 30)}


class TestSignIns:
    def test_an_account_used_from_many_networks_within_a_week_is_told_with_what_it_could_do(self) -> None:
        from ask_above.charter.moments import instant
        from ask_above.people.signins import SignIn, network_of

        c, day = Community.demo(), 86_400_000_000
        at = instant(NOW)
        addresses = ["10.1.0.1", "10.2.0.1", "10.3.9.9", "192.168.1.1", "::ffff:10.4.0.1"]
        spread = [SignIn("kofi", at + n * day, network_of(a)) for n, a in enumerate(addresses)]
        slow = [SignIn("ada", at + 3 * n * day, network_of(a)) for n, a in enumerate(addresses)]
        same = [SignIn("olaf", at + n, network_of(f"10.7.{n}.1")) for n in range(20)]
        found = c.shared_accounts([*spread, *slow, *same])
        assert [each.member.key for each in found] == ["kofi"]
        assert ("medium", "post.publish") in found[0].can
        wider = c.shared_accounts([*spread, *slow], days=30)
        assert [each.member.key for each in wider] == ["ada", "kofi"]
        assert wider[0].can[0][0] == "high"
        assert c.shared_accounts(spread, networks=6) == []
