"""The reach of a change, spot by spot: each case turns by one thing alone (rules 9.3 to 9.7)."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from ask_above import AskAboveError, Community
from ask_above.change import (
    CharterSet,
    Edit,
    Grant,
    MemberAdd,
    MemberGroups,
    MemberSet,
    MemberStatus,
    RankRename,
    RankSet,
    SetGate,
    Withhold,
)
from small import held, member, place, rank, texts

LEAD = "rank.assign", "rank.manage", "place.manage", "member.mute", "post.write", "place.see"
RULES = {
    "seeing": "place.see",
    "authority": {
        "assign": {"using": "rank.assign"},
        "manage": {"using": "rank.manage"},
        "moderate": {"using": "member.mute"},
    },
    "overrides": {"using": "place.manage"},
    "accounts": {"using": "member.mute"},
}
CAPABILITIES = {"All": dict.fromkeys((*LEAD, "post.publish", "post.pin", "place.gate"), "Do it")}
CAST = [member("ada"), member("bo"), member("cy"), member("di")]


def made(folder: Path, *ranks: dict[str, Any], **how: Any) -> Community:
    """Ada owns it, bo leads; the ranks stand below the lead's unless they say otherwise by ``above=True``."""
    top = [each for each in ranks if each.pop("above", False)]
    below = [each for each in ranks if each not in top]
    given = [held("bo", "lead"), *how.pop("assignments", ())]
    whole = {"members": CAST, "rules": RULES, "capabilities": CAPABILITIES, "owner": "ada", **how}
    ladder = *top, rank("lead", *LEAD), *below, rank("all", "place.see", held_by="members")
    files = texts(*ladder, assignments=given, **whole)
    folder.mkdir(exist_ok=True)
    for name, text in files.items():
        (folder / name).write_text(text, "utf-8")
    return Community.open(folder)


def against(c: Community, *edits: Edit) -> str:
    return "\n".join(f"{each.rule}: {each}" for each in c.plan(*edits, by="bo").refusals)


class TestToEverybody:
    """9.3: who lets everybody hold a rank hands on what it brings."""

    def test_what_it_brings_is_held_to_what_the_actor_holds(self, tmp_path: Path) -> None:
        wanted = RankSet("helper", {"open": "true"})
        c = made(tmp_path / "a", rank("helper", "post.publish"))
        said = "Helper would bring everybody post.publish on the whole site, which Bo does not hold"
        assert said in against(c, wanted)
        assert "would bring everybody" not in against(made(tmp_path / "b", rank("helper", "post.write")), wanted)

    def test_not_where_anything_may_be_handed_on(self, tmp_path: Path) -> None:
        assign = {"assign": {"using": "rank.assign", "hand-on": "any"}}
        rules = RULES | {"authority": {**RULES["authority"], **assign}}  # type: ignore[dict-item]
        c = made(tmp_path, rank("helper", "post.publish"), rules=rules)
        assert "would bring everybody" not in against(c, RankSet("helper", {"open": "true"}))


class TestAddresses:
    """9.3: by somebody's address one could sign in as them."""

    def test_what_they_hold_now_or_will_is_held_to_what_the_actor_holds(self, tmp_path: Path) -> None:
        ranks = rank("writer", "post.publish"), rank("guest")
        wanted = MemberSet("cy", {"email": "cy@river.example"})
        for n, given in enumerate((held("cy", "writer"), held("cy", "writer", since="2100-01-01"))):
            c = made(tmp_path / str(n), *ranks, assignments=[given])
            assert "Cy holds post.publish on the whole site, which Bo does not hold there" in against(c, wanted)
        gone = held("cy", "writer", since="2000-01-01", until="2001-01-01")
        assert against(made(tmp_path / "gone", *ranks, assignments=[gone]), wanted) == ""
        there = made(tmp_path / "there", *ranks, assignments=[held("cy", "writer", "yard")])
        assert "Cy holds post.publish in yard" in against(there, wanted)


class TestWhomItTouches:
    """9.6: ranks that nobody has, bots, those who wait and visitors are subjects as members are."""

    @pytest.mark.parametrize(
        ("fields", "who"),
        [
            ({"held_by": "bots"}, "Helper"),
            ({"held_by": "visitors"}, "Helper"),
            ({"held_by": "anyone"}, "Helper"),
            ({"entry": "true"}, "Helper"),
            ({}, "Helper"),
        ],
    )
    def test_whoever_comes_to_hold_more(self, tmp_path: Path, fields: dict[str, str], who: str) -> None:
        c = made(tmp_path, rank("helper", "place.see", **fields))
        assert f"9.7a: {who} would gain post.publish" in against(c, Grant("helper", ["post.publish"]))

    def test_what_a_holder_could_join_counts_beside_what_they_hold(self, tmp_path: Path) -> None:
        ranks = rank("helper", "post.publish"), rank("friend", open="true"), rank("boss", above=True)
        gated = [place("yard", gate={"all": ["helper", "friend", "boss"]})]
        wanted = SetGate("yard", {"all": ["helper", "friend"]})
        c = made(tmp_path / "a", *ranks, places=gated)
        assert "9.7a: Helper would gain place.see and post.publish in yard" in against(c, wanted)
        closed = rank("helper", "post.publish"), rank("friend"), rank("boss", above=True)
        assert "9.7a" not in against(made(tmp_path / "b", *closed, places=gated), wanted)

    @pytest.mark.parametrize(("where", "gains"), [("", True), ("hall", False)])
    def test_who_may_join_has_what_it_takes_on_the_whole_site(self, tmp_path: Path, where: str, *, gains: bool) -> None:
        ranks = rank("helper"), rank("friend", open="true", after=["helper"]), rank("boss", above=True)
        places = [
            place("hall"),
            place("yard", gate={"any": ["boss"]}, exceptions={"cy": {"allow": ["post.publish"]}}),
        ]
        c = made(tmp_path, *ranks, places=places, assignments=[held("cy", "helper", where)])
        assert ("9.7a: Cy would gain" in against(c, SetGate("yard", {"any": ["friend"]}))) is gains

    @pytest.mark.parametrize(("status", "loses"), [("active", True), ("locked", False), ("retired", False)])
    def test_who_is_out_loses_nothing(self, tmp_path: Path, status: str, *, loses: bool) -> None:
        ranks = rank("senior", above=True), rank("guest", "post.write")
        cast = [*CAST[:3], member("di", status=status)]
        c = made(tmp_path, *ranks, members=cast, assignments=[held("di", "senior"), held("di", "guest")])
        assert ("9.7c: Di would lose post.write" in against(c, Withhold("guest", ["post.write"]))) is loses


class TestGroups:
    """9.3: who is put into a group, or out of one."""

    GROUPS = ({"key": "calm", "title": "Calm"}, {"key": "crew", "confers": [{"rank": "senior", "place": "hall"}]})

    @pytest.mark.parametrize("gate", [{}, {"gate": {"any": ["senior"]}}], ids=["open", "with the gate left aside"])
    def test_nobody_leaves_what_takes_from_them(self, tmp_path: Path, gate: dict[str, Any]) -> None:
        cast = [CAST[0], member("bo", groups="calm;crew"), *CAST[2:]]
        yard = place("yard", overrides={"calm": {"deny": ["post.write"]}}, **gate)
        c = made(
            tmp_path, rank("senior", above=True), groups=[*self.GROUPS], members=cast, places=[place("hall"), yard]
        )
        said = "9.3: Bo would gain post.write in yard by that, and then one's own group stays."
        assert said in against(c, MemberGroups("bo", take=["calm"]))
        assert against(c, MemberGroups("bo", take=["crew"])) == ""

    def test_what_a_group_confers_is_given_and_taken_by_those_who_may(self, tmp_path: Path) -> None:
        cast = [*CAST[:2], member("cy", groups="crew"), CAST[3]]
        low = [{"key": "crew", "confers": [{"rank": "guest", "place": "hall"}]}]
        for n, (groups, may) in enumerate((([*self.GROUPS], False), (low, True))):
            ranks = rank("senior", above=True), rank("guest", "post.write")
            c = made(tmp_path / str(n), *ranks, groups=groups, members=cast)
            for edit in (MemberGroups("di", put=["crew"]), MemberGroups("cy", take=["crew"])):
                assert (against(c, edit) == "") is may

    def test_who_will_stand_above_is_above(self, tmp_path: Path) -> None:
        later = held("cy", "senior", since="2100-01-01")
        c = made(tmp_path, rank("senior", above=True), groups=[*self.GROUPS], assignments=[later])
        assert "6.3" in against(c, MemberGroups("cy", put=["calm"]))
        assert against(c, MemberGroups("di", put=["calm"])) == ""


class TestAccounts:
    def test_an_invitation_is_one_s_own_or_that_of_those_below(self, tmp_path: Path) -> None:
        cast = [*CAST[:2], member("cy", status="invited"), member("di", status="invited")]
        c = made(tmp_path, rank("senior", above=True), members=cast, assignments=[held("di", "senior")])
        assert against(c, MemberStatus("cy", "active")) == ""
        assert "6.3" in against(c, MemberStatus("di", "active"))

    def test_names_are_set_right_by_what_can_be_used_on_the_whole_site(self, tmp_path: Path) -> None:
        rules = RULES | {"accounts": {"using": "post.pin", "naming": "member.mute"}}
        quiet = [place("hall", overrides={"lead": {"deny": ["member.mute"]}}), place("yard")]
        c = made(tmp_path, rank("guest"), rules=rules, places=quiet)
        assert against(c, MemberSet("cy", {"name": "Cyra"})) == ""
        assert "6.2" in against(c, MemberSet("cy", {"note": "Seen"}))

    def test_whoever_may_give_ranks_adds_members(self, tmp_path: Path) -> None:
        c = made(tmp_path, rank("clerk", "rank.assign"), assignments=[held("cy", "clerk")])
        assert c.plan(MemberAdd("eve", {"name": "Eve"}), by="cy").refusals == []
        assert "6.2" in {each.rule for each in c.plan(MemberAdd("eve", {"name": "Eve"}), by="di").refusals}


class TestValues:
    def test_a_group_of_the_same_key_as_a_place_is_the_one_that_is_named(self, tmp_path: Path) -> None:
        c = made(tmp_path, groups=[{"key": "yard", "title": "Yard team"}])
        c.plan(CharterSet("groups.yard.title", "Those of the yard")).apply()
        after = Community.open(tmp_path)
        assert (after.charter.groups["yard"].title, after.place("yard").title) == ("Those of the yard", "yard")

    def test_of_a_rank_and_a_place_of_one_key_the_rank_alone_is_renamed(self, tmp_path: Path) -> None:
        said = ["guide may post.write in guide", "all may place.see in guide"]
        ranks, places = rank("guide", "post.write"), [place("guide"), place("yard")]
        made(tmp_path, ranks, places=places, expectations=said).plan(RankRename("guide", new_key="leader")).apply()
        after = Community.open(tmp_path).charter.expectations
        assert [each.text for each in after] == ["leader may post.write in guide", "all may place.see in guide"]

    def test_signs_that_cannot_be_seen_are_found_in_lists_too(self, tmp_path: Path) -> None:
        with pytest.raises(AskAboveError, match="holds a sign that cannot be seen"):
            made(tmp_path).plan(CharterSet("kinds", ["board", "sec\u202etion", "stage"]))

    def test_every_value_of_a_mapping_is_of_its_kind(self, tmp_path: Path) -> None:
        odd: Any = {"note": 7}
        with pytest.raises(AskAboveError, match=r"fields.* of text"):
            made(tmp_path).plan(MemberSet("cy", odd))


def test_an_edit_by_hand_is_told_in_the_words_of_a_command(tmp_path: Path) -> None:
    """Each sentence says what is set, added or removed, and of which thing."""
    c = made(tmp_path, rank("helper", "post.pin"), rank("old"), groups=[{"key": "team", "title": "The team"}])
    c.plan(MemberSet("cy", {"note": "first"})).apply()
    file = tmp_path / "charter.yaml"
    text = file.read_text("utf-8")
    for old, new in (
        ("- key: old\n", "- key: young\n  title: Young\n- key: old\n"),
        ("title: Helper\n", "title: Helping hand\n"),
        ("title: The team\n", "title: Our team\n"),
        ("seeing: place.see\n", "seeing: post.write\n"),
        ("- key: yard\n", "- key: court\n  kind: board\n- key: yard\n"),
    ):
        assert text.count(old) == 1, old
        text = text.replace(old, new)
    file.write_text(text, "utf-8")
    Community.open(tmp_path).plan(MemberSet("cy", {"note": "second"})).apply()
    told = next(each.what for each in Community.open(tmp_path).home.store.entries() if "by hand" in each.what)
    for said in (
        "add the rank Young",
        "set title of Helping hand",
        "set title of Our team",
        "set rules",
        "add the place court",
    ):
        assert said in told, told
