"""Changes at random: what stays true after any sequence of them, after a crash, and with many writers."""

from __future__ import annotations

import io
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from itertools import product
from random import Random
from typing import Any

import pytest
from soak.edits import as_told, held_to_the_rules
from soak.told import as_it_differs

import small
from ask_above import AskAboveError, Community, FaultyFilesError
from ask_above.ask.advice.piece import Piece
from ask_above.ask.cover import default_duties
from ask_above.change import Edit, GroupRename, PlaceAdd, PlaceRename, RankRename, RankSet, turns
from ask_above.change.importing import ImportAssignments
from ask_above.charter.rules import Act
from ask_above.decide.authority import reached
from ask_above.decide.decider import Decider
from ask_above.decide.gains import as_active
from ask_above.decide.profile import Asked, Profile, ask_anybody, ask_rank, ask_visitor
from ask_above.decide.walk import standing
from ask_above.people.reading import FileRow, FileRows
from ask_above.show.impact import impact_table
from ask_above.show.plans import show_plan
from ask_above.show.screen import Screen
from ask_above.workspace.plans import Plan
from ask_above.workspace.undoing import undo
from conftest import Place
from crashes import kill_at_random, write_at_once
from generated import generate
from random_changes import changes, random_edit, several_edits
from seeds import seeds

pytestmark = pytest.mark.slow


@pytest.mark.parametrize("seed", seeds(2))
def test_undoing_everything_gives_back_the_first_file_byte_for_byte(brook: Place, seed: int) -> None:
    before, first = brook.charter, brook.open()
    made = changes(str(brook.folder), Random(seed))
    texts = []
    for _ in range(10):
        plan, _ = next(made)
        texts.append(brook.charter)
        assert not Community(plan.after.charter, plan.after.register).impact(brook.open()).shifts
    home = brook.open().home
    for text in [*reversed(texts[:-1]), before]:
        undo(home, why="back").apply(force=True)
        assert brook.charter == text
    assert not first.impact(brook.open()).shifts
    assert [e[:6] for e in brook.open().register.assignments] == [e[:6] for e in first.register.assignments]


def everyone(plan: Plan) -> Iterator[tuple[str, str, str, Any, Any, int]]:
    """Whoever may be touched, at every moment from now on: form, key, label, what they were, what they are, when.

    Members whatever their status, as if active; visitors; everyone asked as a rank; as ``joined`` with
    every open rank that they may join.
    """
    old, new = plan.old, plan.after.decider
    edges = {plan.at}
    for register in (old.people.register, new.people.register):
        edges |= {
            edge
            for each in register.assignments
            for edge in (each.period.start, each.period.end)
            if edge and edge > plan.at
        }
    for at in sorted(edges):
        for key, member in new.people.register.members.items():
            known = key in old.people.register.members
            was = old.people.ask(key, at) if known else ask_anybody(old.compiled)
            joins = plan.difference.joins(key)
            before = with_open(old, was) if joins or not known else as_active(was)
            after = new.people.ask(key, at)
            yield "member", key, member.called, before, as_active(after), at
            if member.status == "active":
                yield "joined", key, member.called, with_open(old, was), with_open(new, after), at
    yield "visitor", "", "a visitor", ask_visitor(old.compiled).profile, ask_visitor(new.compiled).profile, plan.at
    for key, rank in new.compiled.charter.ranks.items():
        was_rank = old.compiled.charter.ranks.get(key)
        kind = (rank.held_by, rank.entry)
        if was_rank is not None and (was_rank.held_by, was_rank.entry) == kind:
            one, two = ask_rank(old.compiled, was_rank), ask_rank(new.compiled, rank)
            yield "rank", key, rank.title, one.profile, two.profile, plan.at
        elif was_rank is None and kind == (None, False):
            one, two = ask_anybody(old.compiled), ask_rank(new.compiled, rank)
            yield "rank", key, rank.title, one.profile, two.profile, plan.at


def with_open(decider: Decider, asked: Asked) -> Profile:
    """Somebody as if active, with every open rank that they may join and that asks for nothing."""
    profile = as_active(asked)
    plain = [
        rank
        for rank in decider.compiled.ranks
        if rank.open and not rank.kept_by and not rank.automatic and not rank.after and rank.limit is None
    ]
    has = {decider.compiled.ranks[each.rank].key for each in asked.recorded} | {each.rank for each in asked.later}
    has |= {decider.compiled.ranks[each.rank].key for each in asked.active}
    ranks = decider.compiled.charter.ranks
    free = [r for r in plain if not any(k in r.apart_from or r.key in ranks[k].apart_from for k in has)]
    return profile._replace(placed=profile.placed | {(rank.position, 0) for rank in free})


def named_in_rules(decider: Decider) -> int:
    rules = decider.compiled.charter.rules
    names = {name for rule in rules.acts.values() for name in (*rule.using, *rule.naming)}
    names |= {rules.seeing or "", f"{rules.contacts}.own", f"{rules.contacts}.all"}
    return decider.compiled.catalogue.mask(name for name in names if name in decider.compiled.catalogue.bit)


def nobody_has(plan: Plan, rank: str) -> bool:
    decider = plan.old
    people = (decider.people.ask(key, plan.at) for key in decider.people.register.members)
    position = decider.compiled.rank_at[rank]
    return not any(
        any(each.rank == position for each in asked.recorded) or any(each.rank == rank for each in asked.later)
        for asked in people
    )


def touched(plan: Plan, actor: str) -> None:
    """Nobody gains what the actor did not hold there, and nobody loses who does not stand below, now or later."""
    old, new = plan.old, plan.after.decider
    asked = old.people.ask(actor, plan.at)
    if asked.rules_all or not asked.acts or plan._reach.rights.by_oneself_alone(actor):
        return
    own = asked.profile
    assert own is not None
    handed = plan._reach._rule.hand_on
    lost_by_actor: dict[tuple[str, bool, int], int] = {}
    losses = []
    for form, key, label, before, after, at in everyone(plan):
        for place in plan.after.charter.places:
            here = new.compiled.place_at[place]
            there = next(
                old.compiled.place_at[k]
                for k in reversed(plan.after.charter.chain(place))
                if k in old.compiled.place_at
            )
            for gated in (True, False):
                was, now = old.reckoner.held(before, there, gated=gated), new.reckoner.held(after, here, gated=gated)
                if was == now:
                    continue
                mine = old.reckoner.held(own, there, gated=gated)
                gained, lost = now.mask & ~was.mask, was.mask & ~now.mask
                if handed == "held":
                    assert not gained & ~mine.mask, (plan.what, label, place, at)
                    assert mine.unbounded or not (now.unbounded and not was.unbounded), (plan.what, label, place)
                if key == actor and form in ("member", "joined"):
                    assert not gained, (plan.what, label, place, at)
                    if form == "member":
                        lost_by_actor[place, gated, at] = lost_by_actor.get((place, gated, at), 0) | lost
                elif lost and form != "joined":
                    losses.append((form, key, label, place, there, gated, at, lost))
    for form, key, label, place, there, gated, at, lost in losses:
        if form == "member":
            if key not in old.people.register.members:
                continue
            target = old.people.ask(key, plan.at)
            if target.owner or target.status in ("locked", "retired", "invited"):
                continue
        else:
            target = (
                ask_visitor(old.compiled)
                if form == "visitor"
                else ask_rank(old.compiled, old.compiled.charter.ranks.get(key, old.compiled.ranks[-1]))
            )
            if form == "rank" and key not in old.compiled.rank_at:
                continue
            if form == "rank" and nobody_has(plan, key) and not lost & named_in_rules(old):
                continue
        standing_of = reached(old.compiled, target, there, later=True)
        mine_is = standing(old.compiled, own, there)
        level = standing_of == mine_is and not lost & ~lost_by_actor.get((place, gated, at), 0)
        assert standing_of > mine_is or level or plan._reach._rule.over != "below", (plan.what, label, place, at)


def given_as_one_may(plan: Plan, actor: str) -> None:
    """Ranks are given to those below, of those below, in the giver's own name; nobody says who somebody is."""
    old, new = plan.old, plan.after.decider
    asked = old.people.ask(actor, plan.at)
    if asked.rules_all or not asked.acts or plan.kind == "undo":
        return
    assert asked.profile is not None
    over = old.compiled.charter.rules.act(Act.ASSIGN).over
    for given in plan.difference.given:
        for record in given.come:
            same = [old for old in given.gone if (old.by, old.why) == (record.by, record.why)]
            assert record.by == actor or same, (plan.what, record)
            assert not record.source, (plan.what, record)
        member = old.people.register.members.get(given.member)
        rank = new.compiled.charter.ranks.get(given.rank)
        if member is None or rank is None or given.member == actor or over == "anyone" or not given.come:
            continue
        if plan.difference.on_joining(given):
            continue
        there = old.compiled.place_at.get(given.place, 0)
        own, target = standing(old.compiled, asked.profile, there), old.people.ask(given.member, plan.at)
        assert not target.owner, plan.what
        assert reached(old.compiled, target, there, later=True) > own or over == "level", (plan.what, given.member)
        later = new.people.ask(actor, plan.at).profile
        assert rank.position > standing(new.compiled, later, new.compiled.place_at[given.place]) or over == "level"
    for key, after in plan.after.register.members.items():
        before = plan.difference.before.register.members.get(key)
        for field in ("user_name", "external_id"):
            assert getattr(after, field) == (getattr(before, field) if before else ""), (plan.what, key)


def unbroken(plan: Plan) -> None:
    """What is made breaks no condition and no expectation at any coming moment, and leaves the owner where they are."""
    assert plan.after.register.members[plan.after.charter.owner or ""].status == "active"
    assert not [each for each in plan.broken if plan.by != plan.after.charter.owner] or not plan.may_pass
    counts: dict[str, set[str]] = {}
    for key, member in plan.after.register.members.items():
        given = {each.rank for each in plan.after.register.of(key) if not each.period.end or each.period.end > plan.at}
        for each in given if member.status != "retired" else ():
            counts.setdefault(each, set()).add(key)
        before = {each.rank for each in plan.before.register.of(key)}
        for one in given - before:
            for other in given - {one}:
                ranks = plan.after.charter.ranks
                assert other not in ranks[one].apart_from, (plan.what, key)
                assert one not in ranks[other].apart_from, (plan.what, key)
    for key, rank in plan.after.charter.ranks.items():
        if rank.limit is not None and len(counts.get(key, ())) > rank.limit:
            was = sum(
                any(each.rank == key for each in plan.before.register.of(who))
                for who, member in plan.before.register.members.items()
                if member.status != "retired"
            )
            assert len(counts[key]) <= was or plan.after.charter.ranks != plan.before.charter.ranks, plan.what


@pytest.mark.parametrize("actor", ["ada", "olaf", "sigrid", "petra", "bram", "tove", "kofi"])
@pytest.mark.parametrize("seed", seeds(1))
def test_no_accepted_change_reaches_beyond_its_actor(brook: Place, actor: str, seed: int) -> None:
    """Edits of every kind, singly and several at once, as commands and as undoing, by another too."""
    assert one_actor(brook, Random(f"{seed}{actor}"), actor) == 36


def one_actor(brook: Place, rng: Random, actor: str) -> int:
    """Let somebody try 36 changes; each that is accepted is held to what they may. Returns how many were tried."""
    c = brook.open()
    for n in range(36):
        try:
            plan = c.plan(*several_edits(rng, c), by=actor)
        except AskAboveError:
            continue
        if plan.is_empty:
            continue
        if plan.refusals:
            assert all(each.why for each in plan.refusals)
            continue
        held_to_reach(plan, actor)
        if n % 9 == 0 and not plan.passable:
            plan.apply()
            c = brook.open()
            for other in (actor, rng.choice(["ada", "olaf", "sigrid"])):
                try:
                    back = undo(c.home, by=other)
                except AskAboveError:
                    continue
                if not back.refusals:
                    held_to_reach(back, other)
    return 36


def held_to_reach(plan: Plan, actor: str) -> None:
    touched(plan, actor)
    given_as_one_may(plan, actor)
    unbroken(plan)


@pytest.mark.parametrize("seed", seeds(1))
def test_in_a_large_community_a_change_is_held_to_the_same_reach(
    brook: Place, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Where there are very many, only those who hold other things afterwards are looked at."""
    rng, c = Random(seed), brook.open()
    actors = ["ada", "olaf", "sigrid", "ines", "birgit"]
    edits = [(random_edit(rng, c), rng.choice(actors)) for _ in range(80)]
    assert refused_both_ways(c, edits, monkeypatch)


@pytest.mark.parametrize("seed", seeds(12))
def test_in_any_community_it_is_held_to_the_same_reach_whichever_way_is_taken(
    seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    rng = Random(seed)
    c = generate(rng).open()
    refused_both_ways(c, [(random_edit(rng, c), rng.choice([*c.register.members])) for _ in range(25)], monkeypatch)


def refused_both_ways(c: Community, edits: Sequence[tuple[Edit, str]], monkeypatch: pytest.MonkeyPatch) -> int:
    """Plan edits with everybody looked at one by one, and in arrays; count those refused for their effect."""
    refused = 0
    for edit, actor in edits:
        said = []
        for few in (1_000_000, 0):
            monkeypatch.setattr(turns, "_FEW", few)
            try:
                plan = c.plan(edit, by=actor)
                said.append((plan.refusals, plan.could))
            except AskAboveError as error:
                said.append(([], [str(error)]))
        assert said[0] == said[1], edit
        refused += any(each.rule.startswith("9.7") for each in said[0][0])
    return refused


@pytest.mark.parametrize("seed", seeds(8))
def test_what_is_refused_and_what_passes_is_what_the_rules_say_read_once_more(seed: int) -> None:
    """Edits of any kind, lists, parts of other communities and undoing, by whoever may do much and by others."""
    told = sum((held_to_the_rules(each) for each in range(6 * seed, 6 * seed + 6)), Counter[str]())
    assert told["refused"]
    assert told["passes"]


@pytest.mark.parametrize("seed", seeds(2))
def test_what_a_plan_tells_of_its_effect_is_what_differs_read_once_more(seed: int) -> None:
    counts = sum((as_it_differs(each) for each in range(20 * seed, 20 * seed + 20)), Counter[str]())
    differs = {"answers", "powers", "acts", "perks", "gaps", "vain", "broken", "other things there"}
    assert {*differs, "changes", "Sync", "LetGo"} <= counts.keys()
    assert counts.keys() <= {*differs, "changes", "Sync", "LetGo", "MemberForget"}


@pytest.mark.parametrize("seed", seeds(2))
def test_whom_a_refusal_names_may_make_it_and_what_its_maker_may_not_take_back_is_said_before(seed: int) -> None:
    told = sum((as_told(each) for each in range(25 * seed, 25 * seed + 25)), Counter[str]())
    assert told["named"]
    assert told["undone by the same"]
    assert told["undone by others"] + told["undone by nobody"]


@pytest.mark.parametrize(
    "edit", [PlaceAdd("new", "board", "hall", {}), RankSet("step", {"held-by": "members"})], ids=["kind", "standing"]
)
def test_power_comes_with_what_a_place_is_and_with_where_somebody_stands(
    edit: Edit, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whoever holds what they held, and may use it where a place is of another kind, or on more ranks than before."""
    c = small.community(
        small.rank("keeper", "place.manage", "rank.manage", "rank.assign"),
        small.rank("step", call="closed"),
        small.rank("guard", "member.mute"),
        small.rank("crew"),
        members=[small.member("bo")],
        assignments=[small.held("bo", "keeper")],
        capabilities={
            "All": {"place.manage": {}, "rank.manage": {}, "rank.assign": {}, "member.mute": {"kinds": ["board"]}}
        },
        rules={"authority": {"moderate": {"using": ["member.mute"]}}},
    )
    assert refused_both_ways(c, [(edit, "bo")], monkeypatch) == 1


def test_rows_of_a_list_can_be_looked_at_more_than_once() -> None:
    c = small.community(small.rank("crew"), members=[small.member("bo")])
    rows = FileRows("records.csv")
    rows.rows = [FileRow({"member": "bo", "rank": "crow"}, 2)]
    faults = []
    for _ in range(2):
        with pytest.raises(FaultyFilesError) as error:
            c.plan(ImportAssignments(rows))
        faults.append(error.value.faults)
    assert faults[0] == faults[1]


@pytest.mark.parametrize("seed", seeds(8))
def test_what_a_change_leaves_to_nobody_or_to_one_is_what_counting_finds(seed: int) -> None:
    for plan in plans_in_any_community(seed):
        old, new = Community.of(plan.before), Community.of(plan.after)
        duties = [key for key in default_duties(new.decider.compiled) if key in old.charter.catalogue.keys]
        expected: set[tuple[str, str, str | None]] = set()
        for place, duty in product((key for key in new.charter.places if key in old.charter.places), duties):
            was, now = ({*able(side, duty, place)} for side in (old, new))
            if was - now and (len(now) == 1 or (not now and duty not in new.charter.catalogue.nobody)):
                expected.add((place, duty, next(iter(now), None)))
        assert {tuple(gap) for gap in plan.gaps} == expected, plan.what


def able(c: Community, duty: str, place: str) -> Iterator[str]:
    """Whoever is active and may use something where it has a meaning."""
    if c.charter.catalogue.capabilities[duty].has_meaning_in(c.charter.places[place].kind):
        active = (key for key, member in c.register.members.items() if member.status == "active")
        yield from (key for key in active if c.may(key, duty, at=place))


def plans_in_any_community(seed: int) -> Iterator[Plan]:
    """Changes of a random community that change something and name nothing anew."""
    rng = Random(seed)
    made = generate(rng)
    for said in made.charter["capabilities"]["All"].values():
        said["risk"] = rng.choice(["low", "medium", "high"])
    made.charter.setdefault("rules", {})["advice"] = {"most-high-risk": rng.randrange(4)}
    # some have another who is just like them, until a change is of one alone
    alike = [row for row in made.members if rng.random() < 0.5]
    made.members += [{**row, "key": f"{row['key']}-too", "email": ""} for row in alike]
    keys = {row["key"] for row in alike}
    made.assignments += [{**a, "member": f"{a['member']}-too"} for a in made.assignments if a["member"] in keys]
    c = made.open()
    for _ in range(15):
        try:
            plan = c.plan(random_edit(rng, c))
        except AskAboveError:
            continue
        if not plan.is_empty and plan.difference.renaming is None:
            yield plan


@pytest.mark.parametrize("seed", seeds(8))
def test_what_a_change_of_people_brings_is_new_and_all_that_is_new_of_whom_it_touches(seed: int) -> None:
    told_of_each = {"contradictory", "never-starts", "over-limit", "too-many-unbounded", "exception-gone"}
    for plan in plans_in_any_community(seed):
        if plan.before.charter is not plan.after.charter:
            continue
        was, now = (Counter(map(told, Community.of(side).advice().pieces)) for side in (plan.before, plan.after))
        brought = Counter(map(told, plan.brought))
        assert brought <= now - was, plan.what
        among = {row.key if row.table == "members" else (row.after or row.before or {})["member"] for row in plan.rows}
        for piece in Community.of(plan.after).advice().pieces:
            of_them = not among.isdisjoint(key[1:] for key in piece.concerned)
            counted = piece.code == "too-many-high-risk" and any(
                f"may use {key} " in piece.what for key in gained(plan)
            )
            if (counted or (piece.code in told_of_each and of_them)) and (now - was)[told(piece)]:
                assert brought[told(piece)], plan.what


@pytest.mark.parametrize("seed", seeds(12))
def test_what_an_edit_does_now_is_what_asking_everybody_before_and_after_finds(seed: int) -> None:
    for plan in plans_in_any_community(seed):
        then = datetime.fromtimestamp(plan.at / 1_000_000, UTC)
        was, now = (
            {
                (key, capability, place)
                for key, capability, place in product(
                    c.register.members, c.charter.catalogue.capabilities, c.charter.places
                )
                if c.may(key, capability, at=place, when=then)
            }
            for c in (Community.of(plan.before), Community.of(plan.after))
        )
        rows = {row[:5] for row in plan.effect.rows() if not row[5] and row[4] in {key for key, *_ in was | now}}
        told = {(verb, who, capability, place) for verb, _, capability, place, who in rows}
        assert told == {("gains", *each) for each in now - was} | {("loses", *each) for each in was - now}, plan.what


def gained(plan: Plan) -> set[str]:
    return {key for shift in plan.effect.shifts if shift.gains for key in shift.capabilities}


@pytest.mark.parametrize("seed", seeds(16))
def test_whatever_is_planned_can_be_shown(seed: int) -> None:
    """With all that a plan tells, for each kind of edit, whoever makes it."""
    rng = Random(seed)
    c = generate(rng).open()
    for _ in range(20):
        try:
            plan = c.plan(random_edit(rng, c), by=rng.choice([None, *c.register.members]))
        except AskAboveError:
            continue
        out = io.StringIO()
        show_plan(Screen.plain(out), plan, force=rng.random() < 0.5)
        assert out.getvalue().lower().startswith(plan.what[:20].lower())
        assert impact_table(plan.effect).data["answers"] == plan.effect.answers
        with suppress(AskAboveError):
            plan.apply(force=True)


@pytest.mark.parametrize("seed", seeds(6))
def test_another_key_is_no_news(seed: int) -> None:
    """Whatever is told of a change is compared under the new key: what it brings, what has no effect, who is named."""
    c = generate(Random(seed)).open()
    charter = c.charter
    edits: list[Edit] = [RankRename(key, new_key="a-new-key") for key in charter.ranks]
    edits += [PlaceRename(key, new_key="a-new-key") for key in charter.places if key != "site"]
    edits += [GroupRename(key, new_key="a-new-key") for key in charter.groups]
    for plan in map(c.plan, edits):
        assert plan.difference.renaming is not None
        news = [plan.vain, plan.gaps, plan.perks, plan.brought, plan.effect.shifts, plan.effect.powers]
        assert [*news, plan.effect.acts, plan.effect.turned, plan.rows_of_news] == [[]] * 9, plan.what


def told(piece: Piece) -> tuple[str, str]:
    return piece.code, piece.what


def test_those_who_could_make_a_change_are_the_first_who_would_not_be_refused(brook: Place) -> None:
    rng, c, told = Random(11), brook.open(), 0
    while told < 4:
        try:
            plan = c.plan(random_edit(rng, c), by="petra")
        except AskAboveError:
            continue
        if plan.refusals:
            owner, members = c.charter.owner, list(c.register.members)
            order = [key for key in dict.fromkeys([owner, *members] if owner else members) if key != "petra"]
            could = [c.member(key).called for key in order if not plan._reach.refusals(key)]
            assert plan.could == could[:3]
            told += bool(could)


def test_a_process_that_is_killed_leaves_a_whole_state(brook: Place) -> None:
    assert kill_at_random(brook.folder, 7, seed=5) > 7


def test_many_writers_at_once_lose_nothing(river: Place) -> None:
    write_at_once(river.folder, 3, 4, seed=9, url=river.url)


def test_a_plan_on_a_community_in_memory_says_that_there_is_nowhere_to_change_it() -> None:
    with pytest.raises(AskAboveError, match="not opened from a folder"):
        _ = Community.from_texts(
            {"charter.yaml": "charter: 1\nkey: a\ncapabilities: {A: {a.b: B}}\nranks: [{key: r}]"}
        ).home
