"""How far a rank can climb: shapes known by hand, nothing reached that is not shown, and what is certain played."""

from __future__ import annotations

import json
from pathlib import Path
from random import Random
from typing import Any

import pytest

from ask_above import Community, RefusedError
from ask_above.change import Assign, Edit, Grant, MemberAdd, MemberSet, RankAdd, RankSet, Say, Unassign
from ask_above.escalation.paths import Climbed
from commands import run
from seeds import seeds
from small import held, member, place, rank
from test_cli import demo
from ways_up import CAPS, reached, small_charter, write

__all__ = ["demo"]

PEOPLE = rank("anybody", "x.see", held_by="members")
KEEPER = rank("keeper", unbounded="true")
BASE: dict[str, Any] = {
    "places": [place("hall", "section", places=[place("desk")]), place("yard")],
    "capabilities": CAPS,
}


def made(*ranks: dict[str, Any], **charter: Any) -> Community:
    from small import community

    return community(KEEPER, *ranks, PEOPLE, **BASE | charter)


def ways(found: Climbed) -> dict[str, set[tuple[str, ...]]]:
    """The kinds of moves that lead to each capability, at any place."""
    result: dict[str, set[tuple[str, ...]]] = {}
    for path in found.paths:
        for name in path.capabilities:
            result.setdefault(name, set()).add(tuple(move.kind for move in path.moves))
    return result


def rules(**acts: dict[str, str]) -> dict[str, Any]:
    using = {"moderate": ["x.act"], "assign": "x.give", "manage": "x.change"}
    authority = {act: {"using": using[act], **acts.get(act, {})} for act in using}
    return {"rules": {"authority": authority, "overrides": {"using": "x.arrange", **acts.get("overrides", {})}}}


# -- shapes known by hand


def test_with_the_defaults_whoever_may_give_and_change_climbs_nowhere() -> None:
    c = made(rank("head", "x.give", "x.change", "x.arrange", "x.write"), rank("low", "x.act"), **rules())
    assert c.climb("head").paths == ()
    assert c.climb("head", accomplice=True).paths == ()


def test_a_helper_who_may_give_themselves_ranks_and_hand_on_what_they_do_not_hold() -> None:
    c = made(rank("helper", "x.give"), rank("low", "x.risky"), **rules(assign={"self": "true", "hand-on": "any"}))
    found = c.climb("helper")
    assert ways(found) == {"x.risky": {("give",)}}
    (path,) = found.paths
    assert path.certain
    assert set(path.places) == {"site", "hall", "desk", "yard"}
    assert "do not let members assign ranks to themselves" in path.cuts
    assert "let members who may assign ranks hand on only what they may use" in path.cuts
    assert "withhold x.give from Helper" in path.cuts


def test_a_detour_leads_to_what_is_not_carried() -> None:
    c = made(rank("planner", "x.plan"), **rules())
    (path,) = c.climb("planner").paths
    assert (path.capabilities, path.certain, path.cuts) == (("x.risky",), True, ("withhold x.plan from Planner",))


def test_an_open_rank_is_joined_and_its_conditions_are_climbed_too() -> None:
    c = made(rank("top", "x.risky", open="true", after=["low"]), rank("low", "x.write", open="true"), **rules())
    found = ways(c.climb("anybody"))
    assert found == {"x.write": {("join",)}, "x.risky": {("join", "join")}}
    assert (
        "x.risky" in ways(made(rank("top", "x.risky", open="true", after=["keeper"]), **rules()).climb("anybody"))
    ) is False


def test_what_passes_over_a_limit_or_ranks_apart_is_a_bound_only_unless_the_rank_can_be_given_up() -> None:
    full = made(
        rank("few", "x.risky", open="true", limit="1"),
        members=[member("una")],
        assignments=[held("una", "few")],
        **rules(),
    )
    (path,) = full.climb("anybody").paths
    assert not path.certain
    assert path.why == "At most 1 member may have Few; with someone it would be 2."
    apart = made(rank("one", "x.risky", open="true", apart_from=["two"]), rank("two", "x.write"), **rules())
    (path,) = apart.climb("two").paths
    assert path.certain
    assert [move.kind for move in path.moves] == ["leave", "join"]


def test_a_deny_that_one_can_leave() -> None:
    denied = [place("yard", overrides={"held-back": {"deny": ["x.risky"]}})]
    c = made(rank("held-back", "x.write"), rank("free", "x.risky", open="true"), places=denied, **rules())
    yard = [path for path in c.climb("held-back").paths if "yard" in path.places]
    assert [[move.kind for move in path.moves] for path in yard] == [["leave", "join"]]
    assert yard[0].certain


def test_handing_on_anything_by_changing_ranks_stuffs_a_rank_and_joins_it() -> None:
    c = made(rank("head", "x.change"), rank("low", open="true"), **rules(manage={"hand-on": "any"}))
    found = c.climb("head")
    assert ("grant", "join") in ways(found)["x.risky"]
    # a bound only: another word in an open rank counts as giving it to everybody, and oneself gains by no edit
    assert not any(path.certain for path in found.paths)
    assert made(rank("head", "x.change"), rank("low"), **rules(manage={"hand-on": "any"})).climb("head").paths == ()


def test_handing_on_anything_by_places() -> None:
    c = made(rank("head", "x.arrange"), rank("low", open="true"), **rules(overrides={"hand-on": "any"}))
    found = c.climb("head")
    assert ("allow", "join") in ways(found)["x.risky"]
    assert not any(path.certain for path in found.paths)


def test_a_rank_of_ones_own_is_made_filled_and_joined() -> None:
    c = made(rank("head", "x.change", "x.give"), **rules(manage={"hand-on": "any"}))
    found = c.climb("head")
    assert ("make", "grant", "join") in ways(found)["x.risky"]
    assert not any(path.certain for path in found.paths)


def test_two_of_a_level_give_each_other_what_one_alone_cannot_have() -> None:
    c = made(rank("pair", "x.give"), rank("low", "x.risky"), **rules(assign={"over": "level", "hand-on": "any"}))
    assert c.climb("pair").paths == ()
    found = c.climb("pair", accomplice=True)
    assert ways(found) == {"x.risky": {("receive",)}}
    assert found.paths[0].certain


def test_an_accomplice_makes_one_a_bot_for_what_bots_have() -> None:
    robots = rank("robots", "x.risky", held_by="bots")
    for hand_on, led in (("any", {"x.risky": {("leave", "bot")}}), ("held", {})):
        said = rules(assign={"hand-on": hand_on})["rules"] | {"accounts": {"using": "x.act"}}
        c = made(rank("pair", "x.act"), robots, rules=said)
        assert c.climb("pair").paths == ()
        found = c.climb("pair", accomplice=True)
        assert ways(found) == led
        assert all(path.certain and path.cuts == ("withhold x.act from Pair",) for path in found.paths)


def test_an_accomplice_fills_what_everybody_has() -> None:
    barred = place("hall", overrides={"pair": {"bar": ["x.risky"]}})
    c = made(rank("pair", "x.change", "x.risky"), places=[barred], **rules(manage={"hand-on": "any"}))
    assert c.climb("pair").paths == ()
    found = c.climb("pair", accomplice=True)
    assert ways(found)["x.risky"] == {("leave", "grant")}
    assert [path.places for path in found.paths if path.certain and "x.risky" in path.capabilities] == [("hall",)]
    assert "Lets the other grant x.risky to Anybody" in str(found)


def test_an_unbounded_rank_within_reach() -> None:
    c = made(rank("helper", "x.give"), **rules(assign={"self": "true", "hand-on": "any", "over": "anyone"}))
    found = c.climb("helper")
    assert found.free
    assert {name for path in found.paths for name in path.capabilities} >= {"x.risky", "x.write", "x.change"}
    codes = {piece.code: piece for piece in c.advice().pieces}
    assert codes["climbs-to-everything"].concerned == ("helper",)


@pytest.mark.parametrize(
    ("text", "holds"),
    [
        ("low can never reach x.risky", True),
        ("helper can never reach x.risky", False),
        ("helper can never reach x.risky in yard", False),
        ("low+ can never reach x.risky", False),
        ("low can never reach x.write", False),
        ("anybody can never reach x.change", True),
    ],
)
def test_an_expectation_says_how_far_a_rank_must_not_climb(text: str, holds: bool) -> None:
    c = made(
        rank("helper", "x.give"),
        rank("middle", "x.risky"),
        rank("low", "x.write"),
        expectations=[text],
        **rules(assign={"self": "true", "hand-on": "any"}),
    )
    unmet = c.unmet()
    assert (not unmet) is holds
    if text == "helper can never reach x.risky in yard":
        assert unmet[0].because == "Helper could reach x.risky in yard: gives themselves Middle on the whole site."


def test_the_table_of_all_ranks_counts_what_the_paths_say(demo: Path) -> None:
    c = Community.open(demo)
    for accomplice in (False, True):
        table = c.climbs(accomplice=accomplice).set_index("rank")
        for key in c.charter.ranks:
            paths = c.climb(key, accomplice=accomplice, cuts=False).paths
            pairs = {(name, where) for path in paths for name in path.capabilities for where in path.places}
            assert table.loc[key, ["high", "medium", "low"]].sum() == len(pairs)


def test_the_command_tells_the_way_and_what_cuts_it(demo: Path) -> None:
    said = " ".join(run("climb", cwd=demo).stdout.split())
    assert "River warden 1 · · site.restart" in said
    assert "✓ Nothing more: Steward, Reach lead, Volunteer, Newcomer and Passer-by." in said
    said = " ".join(run("climb", "warden", cwd=demo).stdout.split())
    assert "Uses job.schedule (schedule a job), which leads to" in said
    assert "→ site.restart (high risk) on the whole site prevented by: withhold job.schedule from River warden" in said
    data = json.loads(run("climb", "editor", "--at", "rota", "--format", "json", cwd=demo).stdout)
    assert [path["capabilities"] for path in data["paths"]] == [["poll.start", "rota.join"]]
    assert run("climb", "passer-by", cwd=demo).stdout.startswith("✓ Passer-by can reach nothing")
    assert "There is no rank 'wardn'. Nearest: warden" in run("climb", "wardn", cwd=demo).stderr


# -- nothing is reached that is not shown; what is certain can be done


@pytest.mark.parametrize("seed", seeds(1))
@pytest.mark.slow
def test_no_real_sequence_of_changes_reaches_what_climb_does_not(seed: int) -> None:
    rng = Random(seed)
    charter = small_charter(rng)
    c = Community.from_texts({"charter.yaml": charter})
    for accomplice in (False, True):
        for key in ("a",):
            shown = c.climb(key, accomplice=accomplice, cuts=False)

            pairs = {(name, where) for path in shown.paths for name in path.capabilities for where in path.places}
            first, found = reached(c, key, accomplice=accomplice, most=8, rng=rng)
            assert found - first <= pairs, (seed, key, accomplice, sorted(found - first - pairs))


def _edits(path: Any, me: str, other: str) -> list[tuple[str, Edit]]:
    """The moves of a path as edits, each with who makes it."""
    found: list[tuple[str, Edit]] = []
    for move in path.moves:
        edit: Edit
        by = other if move.kind in ("receive", "except", "bot") or move.rank in ("all", "bots") else me
        if move.kind in ("join", "give", "receive"):
            edit = Assign(me, move.rank, move.place)
        elif move.kind == "leave":
            edit = Unassign(me, move.rank)
        elif move.kind == "open":
            edit = RankSet(move.rank, {"open": "true"})
        elif move.kind == "make":
            edit = RankAdd(move.rank, {"open": "true"}, below=path.rank)
        elif move.kind == "grant":
            edit = Grant(move.rank, move.names)
        elif move.kind == "allow":
            edit = Say(move.place, move.rank, "allow", move.names)
        elif move.kind == "bot":
            edit = MemberSet(me, {"kind": "bot"})
        elif move.kind == "except":
            edit = Say(move.place, me, "allow", move.names, member=True)
        else:
            continue  # a detour changes nothing
        found.append((by, edit))
    return found


@pytest.mark.slow
def test_what_is_certain_can_be_done_by_command(tmp_path: Path) -> None:
    rng = Random(7)
    played = 0
    for n in range(8):
        charter = small_charter(rng)
        c = Community.from_texts({"charter.yaml": charter})
        for accomplice in (False, True):
            paths = [path for path in c.climb("a", accomplice=accomplice, cuts=False).paths if path.certain]
            for k, path in enumerate(paths[:3]):
                folder = write(tmp_path / f"{n}-{accomplice}-{k}", charter)
                home = Community.open(folder)
                people = [MemberAdd("me"), MemberAdd("you")]
                home.plan(*people, Assign("me", "a"), Assign("you", "a"), why="a try").apply(force=True)
                for by, edit in _edits(path, "me", "you"):
                    try:
                        Community.open(folder).plan(edit, by=by).apply(force=True)
                    except RefusedError as refused:
                        pytest.fail(f"{path}: {refused}")
                end = Community.open(folder)
                detours = {name for move in path.moves if move.kind == "detour" for name in move.names[1:]}
                for name in set(path.capabilities) - detours:
                    for where in path.places:
                        assert end.may("me", name, at=where), (path, name, where)
                played += 1
    assert played > 15


def test_a_range_that_takes_is_left_by_moving_a_rank() -> None:
    shut = [place("yard", overrides={"low+": {"deny": ["x.risky"]}})]
    c = made(
        rank("head", "x.change"),
        rank("free", open="true"),
        rank("low", "x.write"),
        places=shut,
        **rules(manage={"hand-on": "any"}),
    )
    found = c.climb("head", at="yard")
    assert "x.risky" in {name for path in found.paths for name in path.capabilities}


def test_the_rank_held_at_the_start_is_given_up_filled_and_joined_again() -> None:
    c = made(rank("head", "x.change", open="true"), rank("own", open="true"), **rules(manage={"hand-on": "any"}))
    found = c.climb("own")
    (path,) = [path for path in found.paths if "x.risky" in path.capabilities]
    assert [move.kind for move in path.moves] == ["join", "leave", "grant", "join"]
    assert not path.certain


def test_lists_that_open_only_further_down_are_seen() -> None:
    given = [place("hall", "section", overrides={"plain": {"allow": ["x.give"]}})]
    c = made(
        rank("strict", "x.give", assigns={"only": ["strict"]}),
        rank("plain", "x.write", open="true"),
        rank("low", "x.risky"),
        places=given,
        **rules(assign={"self": "true", "hand-on": "any"}),
    )
    found = {(name, where) for path in c.climb("strict").paths for name in path.capabilities for where in path.places}
    assert ("x.risky", "hall") in found
    assert ("x.risky", "site") not in found


def test_a_group_that_a_gate_asks_for_is_a_way_of_its_own() -> None:
    gated = [place("yard", gate={"any": ["club"]})]
    c = made(
        rank("pair", "x.give"),
        groups=[{"key": "club"}],
        places=gated,
        **rules(assign={"over": "level", "hand-on": "any"}),
    )
    alone, found = c.climb("pair"), c.climb("pair", accomplice=True)
    assert alone.paths == ()
    assert {move.kind for path in found.paths for move in path.moves} == {"enter"}
    assert not any(path.certain for path in found.paths)
