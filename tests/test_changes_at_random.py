"""Changes at random: what stays true after any sequence of them, after a crash, and with many writers."""

from __future__ import annotations

from random import Random

import pytest

from ask_above import AskAboveError, Community
from ask_above.change import reach
from ask_above.decide.gains import as_active
from ask_above.decide.profile import ask_rank
from ask_above.plans import Plan
from ask_above.undoing import undo
from conftest import Place
from crashes import kill_at_random, write_at_once
from random_changes import changes, random_edit


@pytest.mark.parametrize("seed", range(3))
def test_undoing_everything_gives_back_the_first_file_byte_for_byte(brook: Place, seed: int) -> None:
    before, first = brook.charter, brook.open()
    made = changes(str(brook.folder), Random(seed))
    texts = []
    for _ in range(10):
        plan, _ = next(made)
        texts.append(brook.charter)
        assert not plan.after.impact(brook.open()).shifts
    home = brook.open().home
    for text in [*reversed(texts[:-1]), before]:
        undo(home, why="back").apply(force=True)
        assert brook.charter == text
    assert not first.impact(brook.open()).shifts
    assert [e[:6] for e in brook.open().register.assignments] == [e[:6] for e in first.register.assignments]


def touched(plan: Plan, actor: str) -> None:
    """Nobody gains what the actor did not hold there, and nobody is touched who does not stand below."""
    old, new, at = plan.before.decider, plan.after.decider, plan.at
    asked = old.people.ask(actor, at)
    if asked.rules_all or any(need.kind in ("assign", "unassign", "account") for need in plan.needs):
        return
    subjects = [
        (old.people.ask(k, at), new.people.ask(k, at))
        for k, m in old.people.register.members.items()
        if m.status != "retired"
    ]
    if any(need.kind == "people" for need in plan.needs):  # becoming active brings ranks that count apart
        known = plan.after.register.members
        subjects = [
            (one, two) for one, two in subjects if one.member and known[one.member.key].groups != one.member.groups
        ]
    pairs = [(one, as_active(one), as_active(two)) for one, two in subjects]
    for key in old.frame.rank_at:
        if key in new.frame.rank_at:
            one, two = ask_rank(old.frame, old.frame.rank_at[key]), ask_rank(new.frame, new.frame.rank_at[key])
            if one.profile and two.profile:
                pairs.append((one, one.profile, two.profile))
    own = asked.profile
    assert own is not None
    for subject, before, after in pairs:
        for place in plan.after.charter.places:
            here, there = new.frame.place_at[place], old.frame.place_at[place]
            for gated in (True, False):
                was, now = old.reckoner.held(before, there, gated=gated), new.reckoner.held(after, here, gated=gated)
                if was == now:
                    continue
                mine = old.reckoner.held(own, there, gated=gated)
                assert not now.mask & ~was.mask & ~mine.mask, (plan.what, subject.label, place)
                assert subject.key != actor or subject.form != "member"
                case = old.case(asked, there, at)
                assert case.reached(subject) > case._own_standing(there)[0], (plan.what, subject.label, place)


@pytest.mark.parametrize("actor", ["ada", "olaf", "sigrid", "petra"])
def test_no_accepted_change_reaches_beyond_its_actor(brook: Place, actor: str) -> None:
    rng, c, accepted = Random(len(actor)), brook.open(), 0
    for _ in range(60):
        try:
            plan = c.plan(random_edit(rng, c), by=actor)
        except AskAboveError:
            continue
        if plan.is_empty or plan.refusals:
            continue
        accepted += 1
        touched(plan, actor)
    assert accepted or actor == "petra"


@pytest.mark.parametrize("seed", range(2))
def test_in_a_large_community_a_change_is_held_to_the_same_reach(
    brook: Place, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Where there are very many, only those who hold other things afterwards are looked at."""
    rng, c, refused = Random(seed), brook.open(), 0
    for _ in range(40):
        edit, actor = random_edit(rng, c), rng.choice(["ada", "olaf", "sigrid", "ines", "birgit"])
        said = []
        for few in (10_000, 0):
            monkeypatch.setattr(reach, "_FEW", few)
            try:
                plan = c.plan(edit, by=actor)
                said.append((plan.refusals, plan.could))
            except AskAboveError as error:
                said.append(([], [str(error)]))
        assert said[0] == said[1]
        refused += any(each.rule == "9.3" for each in said[0][0])
    assert refused


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
    assert kill_at_random(brook.folder, 20, seed=5) > 20


def test_many_writers_at_once_lose_nothing(river: Place) -> None:
    write_at_once(river.folder, 4, 6, seed=9, url=river.url)


def test_a_plan_on_a_community_in_memory_says_that_there_is_nowhere_to_change_it() -> None:
    with pytest.raises(AskAboveError, match="not opened from a folder"):
        _ = Community.from_texts(
            {"charter.yaml": "charter: 1\nkey: a\ncapabilities: {A: {a.b: B}}\nranks: [{key: r}]"}
        ).home
