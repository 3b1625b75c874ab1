"""The reach of a change, spot by spot: each case turns by one thing alone (rules 9.3 to 9.7)."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from ask_above import AskAboveError, Community
from ask_above.change import (
    Assign,
    CharterSet,
    Edit,
    Grant,
    MemberAdd,
    MemberGroups,
    MemberSet,
    MemberStatus,
    PlaceRemove,
    RankAdd,
    RankRemove,
    RankRename,
    RankSet,
    Say,
    SetGate,
    Withhold,
    turns,
)
from ask_above.charter import changes
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
    lead = rank("lead", *LEAD) | how.pop("lead", {})
    everybody = rank("all", "place.see", *how.pop("everyone", ()), held_by="members")
    whole = {"members": CAST, "rules": RULES, "capabilities": CAPABILITIES, "owner": "ada", **how}
    ladder = *top, lead, *below, everybody
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

    @pytest.mark.parametrize("above", [True, False])
    def test_who_makes_it_has_to_stand_above_everybody_also_where_it_is_new(
        self, tmp_path: Path, *, above: bool
    ) -> None:
        c = made(tmp_path, rank("high", held_by="members", above=above), rank("guest"))
        for edit in (RankSet("guest", {"open": "true"}), RankAdd("new", {"open": "true"}, below="guest")):
            assert ("A member without other ranks does not stand below Bo" in against(c, edit)) is above


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
        places = [place("hall"), place("yard", gate={"any": ["boss"]}, exceptions={"cy": {"allow": ["post.publish"]}})]
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
        said = "9.3: Bo may not leave this group: they would gain post.write in yard."
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


@pytest.fixture(params=["looked at one by one", "worked out in arrays"])
def many(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """Both ways in which a change is looked at: of a few people, and of many."""
    if request.param == "worked out in arrays":
        monkeypatch.setattr(turns, "_FEW", 0)


def test_where_the_charter_has_nothing_that_an_edit_takes_it_says_what_is_missing(tmp_path: Path) -> None:
    lead, catalogue = [key for key in LEAD if key != "place.manage"], dict(CAPABILITIES["All"])
    del catalogue["place.manage"]
    how: dict[str, Any] = {"capabilities": {"All": catalogue}, "lead": {"grants": lead}}
    rules = {key: said for key, said in RULES.items() if key != "overrides"}
    said = against(made(tmp_path, rank("guest"), rules=rules, **how), Say("yard", "guest", "deny", ["post.write"]))
    assert "the rules name no capability for this act, and there is no place.manage" in said


@pytest.mark.usefixtures("many")
class TestPower:
    """9.7b and 9.7d: nobody comes to have power that the actor has not."""

    @pytest.mark.parametrize(("which", "told"), [("senior", True), ("guest", False)])
    @pytest.mark.parametrize("called", ["Cy", "Cy {0} {}"])
    def test_over_ranks_by_what_a_place_says(self, tmp_path: Path, which: str, called: str, *, told: bool) -> None:
        cast = [*CAST[:2], member("cy", name=called, groups="crew"), CAST[3]]
        ranks = rank("senior", above=True), rank("guest"), rank("newcomer")
        groups = [{"key": "crew", "title": "The crew"}]
        c = made(tmp_path, *ranks, groups=groups, members=cast, assignments=[held("cy", which)])
        said = against(c, Say("yard", "crew", "allow", ["member.mute"]))
        assert (f"9.7d: {called} would gain power over Lead, which Bo has not there in yard." in said) is told
        assert told or said == ""

    def test_over_ranks_and_members_by_an_edit_of_ranks(self, tmp_path: Path) -> None:
        for n, (lists, told) in enumerate((({"moderates": {"only": ["guest"]}}, True), ({}, False))):
            given = [held("bo", "helper"), held("cy", "guest"), held("di", "other")]
            c = made(tmp_path / str(n), rank("helper"), rank("guest"), rank("other"), assignments=given, lead=lists)
            said = against(c, Grant("helper", ["member.mute"]))
            assert ("9.7b: Bo would gain power over Helper on the whole site." in said) is told
            assert ("9.7d: Bo would come to have power over Di." in said) is told
            assert "power over Cy" not in said
            assert told or said == ""

    def test_the_owner_and_oneself_are_told_of_by_other_rules(self, tmp_path: Path) -> None:
        cast = [member("ada", groups="crew"), member("bo", groups="crew"), *CAST[2:]]
        c = made(tmp_path, rank("guest"), groups=[{"key": "crew"}], members=cast)
        assert "9.7d" not in against(c, Say("yard", "crew", "allow", ["member.mute"]))


@pytest.mark.parametrize(
    ("fields", "of", "why"),
    [
        ({"paused": "true"}, "cy", "Senior is paused; it is given to nobody"),
        ({"kept-by": "feed"}, "cy", "Senior is kept by feed"),
        ({}, "ed", "Ed is retired; only active, pending or invited"),
    ],
)
def test_what_a_group_confers_is_given_besides_to_those_alone_who_may_be_given_it(
    tmp_path: Path, fields: dict[str, str], of: str, why: str
) -> None:
    crew = {"key": "crew", "confers": [{"rank": "senior"}]}
    people = [*CAST[:2], member("cy", groups="crew"), member("ed", groups="crew", status="retired")]
    c = made(tmp_path, {**rank("senior"), **fields}, groups=[crew], members=people)
    assert any(each.why.startswith(why) for each in c.plan(Assign(of, "senior")).refusals)


def test_what_a_paused_rank_brings_is_looked_at_when_the_pause_ends(tmp_path: Path) -> None:
    c = made(tmp_path, {**rank("guest"), "paused": "true"})
    assert against(c, grant := Grant("guest", ["post.publish"])) == ""
    assert "9.7a: Guest would gain post.publish" in against(c, grant, RankSet("guest", {"paused": None}))


@pytest.mark.usefixtures("many")
class TestWordsOfAPlace:
    """9.7c and 9.7e."""

    @pytest.mark.parametrize("word", ["deny", "bar", "allow"])
    def test_a_range_names_the_ranks_in_it_whose_answers_change_held_or_not(self, tmp_path: Path, word: str) -> None:
        ranks = rank("highest", above=True), rank("senior", above=True), rank("guest")
        quiet = {each: {"deny": ["post.write"]} for each in ("highest", "senior") if word == "allow"}
        hall = place("hall", "section", places=[place("yard")], overrides=quiet)
        c = made(tmp_path, *ranks, assignments=[held("cy", "guest")], places=[hall], everyone=["post.write"])
        said = against(c, Say("yard", "senior+", word, ["post.write"]))
        assert "9.7c: senior+ in yard speaks of Highest, who does not stand below Bo there: name the ranks" in said

    @pytest.mark.parametrize(("names", "told"), [(["post.write"], True), (["post.pin"], False)])
    def test_what_a_range_says_of_the_actor_by_another_rank_alone_names_nobody(
        self, tmp_path: Path, names: list[str], *, told: bool
    ) -> None:
        c = made(
            tmp_path, rank("guest", grants=["post.pin"]), assignments=[held("bo", "guest")], everyone=["post.write"]
        )
        said = against(c, Say("yard", "guest+", "deny", names))
        assert ("guest+ in yard speaks of Lead" in said) is told
        assert bool(said) is told

    def test_a_bar_in_the_place_of_a_denial_gives_nothing(self, tmp_path: Path) -> None:
        yard = place("yard", overrides={"guest": {"deny": ["post.pin"]}, "other": {"bar": ["post.pin"]}})
        c = made(tmp_path, rank("guest"), rank("other"), places=[place("hall"), yard])
        assert against(c, Say("yard", "guest", "bar", ["post.pin"])) == ""
        assert "words for other would no longer take post.pin" in against(c, Say("yard", "other", "deny", ["post.pin"]))

    @pytest.mark.parametrize(("title", "called"), [({"title": "The crew"}, "The crew"), ({}, "crew")])
    def test_a_group_is_named_by_its_title(self, tmp_path: Path, title: dict[str, str], called: str) -> None:
        group = {"key": "crew", "confers": [{"rank": "senior"}], **title}
        c = made(tmp_path, rank("senior", above=True), groups=[group])
        said = against(c, Say("yard", "crew", "deny", ["post.write"]))
        assert f"What is said in yard names somebody in {called}, who does not stand below Bo there." in said

    def test_a_place_that_is_removed_takes_with_it_what_it_said(self, tmp_path: Path) -> None:
        ranks = rank("senior", above=True), rank("guest")
        given = [held("di", "senior"), held("di", "guest")]
        yard = place("yard", overrides={"guest": {"allow": ["post.pin"]}})
        c = made(
            tmp_path, *ranks, assignments=given, places=[place("hall"), yard], lead={"grants": [*LEAD, "post.pin"]}
        )
        assert against(c, PlaceRemove("yard")) == ""
        assert "9.7c: Di would lose post.pin in yard" in against(c, Say("yard", "guest", "clear", ["post.pin"]))


@pytest.mark.usefixtures("many")
class TestLosses:
    """9.7c: who does not stand below loses nothing, but with the actor what the actor loses."""

    def test_level_with_the_actor(self, tmp_path: Path) -> None:
        cast = [CAST[0], member("bo", groups="one"), member("cy", groups="two"), CAST[3]]
        groups = [{"key": "one"}, {"key": "two"}]
        c = made(tmp_path, rank("guest"), groups=groups, members=cast, assignments=[held("cy", "lead")])
        told = "9.7c: Cy would lose post.write in yard, and does not stand below Bo there."
        both = [Say("yard", each, "deny", ["post.write"]) for each in ("one", "two")]
        assert told in against(c, both[1])
        assert told not in against(c, *both)
        elsewhere = Say("hall", "one", "deny", ["post.write"])
        assert told in against(c, elsewhere, both[1])

    def test_each_who_loses_is_looked_at(self, tmp_path: Path) -> None:
        given = [held(key, "guest") for key in ("bo", "cy", "di")] + [held("cy", "lead"), held("di", "senior")]
        c = made(tmp_path, rank("senior", above=True), rank("guest", "post.pin"), assignments=given)
        said = against(c, Withhold("guest", ["post.pin"]))
        assert "9.7c: Di would lose post.pin on the whole site, and does not stand below Bo there." in said
        assert "Cy would lose" not in said

    def test_of_very_many_the_first_are_named_and_the_others_counted(self, tmp_path: Path) -> None:
        cast = [*CAST, *(member(f"m{n}", groups=f"g{n}") for n in range(11))]
        given = [held(each["key"], key) for each in cast[4:] for key in ("guest", "senior")]
        groups = [{"key": f"g{n}"} for n in range(11)]
        ranks = rank("senior", above=True), rank("guest", "post.pin")
        c = made(tmp_path, *ranks, members=cast, groups=groups, assignments=given)
        said = against(c, Withhold("guest", ["post.pin"])).splitlines()
        assert len(said) == 9
        assert "9.7c: 3 others would lose something as well." in said[-1]

    def test_those_alike_are_named_by_one_and_counted(self, tmp_path: Path) -> None:
        given = [held(key, kind) for key in ("cy", "di", "m0") for kind in ("guest", "senior")] + [held("bo", "guest")]
        ranks = rank("senior", above=True), rank("guest", "post.pin")
        c = made(tmp_path, *ranks, members=[*CAST, member("m0", name="Mo")], assignments=given)
        lost = "9.7c: Cy and 2 others would lose post.pin on the whole site, and do not stand below Bo there."
        assert lost in against(c, Withhold("guest", ["post.pin"]))
        gained = "9.7a: Cy and 2 others would gain post.publish on the whole site, which Bo does not hold there."
        assert gained in against(c, Grant("guest", ["post.publish"]))

    def test_who_is_left_is_counted_member_by_member_without_the_actor(self, tmp_path: Path) -> None:
        cast = [*CAST, *(member(f"m{n}", name=f"M{n:02}", groups=f"g{n // 2}") for n in range(20))]
        given = [held(each["key"], "guest") for each in cast[4:]] + [held("bo", "guest")]
        groups = [{"key": f"g{n}"} for n in range(10)]
        c = made(tmp_path, rank("guest", "post.pin"), members=cast, groups=groups, assignments=given)
        said = against(c, Grant("guest", ["post.publish"])).splitlines()
        named = [line for line in said if line.startswith("9.7a") and " and 1 other would gain" in line]
        rest = next(int(line.split()[1]) for line in said if "would gain what is out of reach as well" in line)
        guests = any("Guest would gain" in line for line in said)
        assert 2 * len(named) + rest + guests == 21


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
        with pytest.raises(AskAboveError, match="holds a character that cannot be seen"):
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


class TestByTheWay:
    """What a change does through whom it does not name, and what is over by then."""

    def test_a_range_that_begins_at_a_rank_made_with_it_names_the_ranks_above(self, tmp_path: Path) -> None:
        c = made(tmp_path, rank("chief", above=True), rank("guest"), everyone=["post.write"])
        new = RankAdd("new", {}, above="guest")
        assert against(c, new) == ""
        said = against(c, new, Say("yard", "new+", "deny", ["post.write"]))
        assert "new+ in yard speaks of Chief, who does not stand below Bo there: name the ranks below" in said
        gone = RankRemove("guest"), Say("yard", "all+", "deny", ["post.pin"])  # it has no answers any more
        assert against(c, *gone) == ""

    def test_whoever_stands_lower_by_an_edit_of_ranks_comes_under_no_new_power(self, tmp_path: Path) -> None:
        cast = [*CAST, member("em", status="pending")]
        c = made(tmp_path, rank("guest", held_by="anyone"), members=cast)
        assert "Em" not in against(c, RankSet("guest", {"held-by": "members"}))
        high = rank("high", held_by="anyone", above=True)
        c = made(tmp_path, high, members=cast, everyone=LEAD)
        assert "9.7d: Bo would come to have power over Em." in against(c, RankSet("high", {"held-by": "members"}))

    def test_of_a_rank_that_nobody_has_only_what_the_rules_name_counts_as_lost(self, tmp_path: Path) -> None:
        everyone = rank("everyone", held_by="members", above=True)
        c = made(tmp_path, everyone, rank("guest", "rank.assign", "post.pin"))
        assert "Guest would lose" not in against(c, SetGate("yard", {"none": ["lead", "guest"]}))

    def test_what_one_holds_now_one_may_prolong_by_oneself(self, tmp_path: Path) -> None:
        assign = {"assign": {"using": "rank.assign", "self": "true"}}
        rules = RULES | {"authority": {**RULES["authority"], **assign}}  # type: ignore[dict-item]
        guest = rank("guest", "post.pin")
        for name, fields in (("some", {}), ("all", {"unbounded": "true"})):
            given = [held("bo", "guest", until="2099-01-01")]
            c = made(tmp_path / name, {**guest, **fields}, rules=rules, assignments=given)
            assert against(c, Assign("bo", "guest")) == ""
        assert "6.6: Bo would gain post.pin" in against(made(tmp_path / "b", guest, rules=rules), Assign("bo", "guest"))

    def test_who_leaves_is_held_to_no_condition_and_what_has_ended_does_not_come_back(self, tmp_path: Path) -> None:
        everybody = {"apart-from": ["helper"]}
        cast = [
            *CAST,
            member("em", status="pending"),
            member("fay", status="retired", was="active", joined="2020-01-01"),
        ]
        given = [held("em", "helper"), held("fay", "helper", until="2021-01-01")]
        c = made(tmp_path, rank("helper"), rank("calm", held_by="members") | everybody, members=cast, assignments=given)
        assert not c.plan(MemberStatus("em", "retired")).passable
        assert not c.plan(MemberStatus("fay", "active")).passable
        given += [held("fay", "helper", until="2099-01-01")]
        c = made(tmp_path, rank("helper"), rank("calm", held_by="members") | everybody, members=cast, assignments=given)
        assert "Nobody may have both" in str(c.plan(MemberStatus("fay", "active")).passable)

    def test_a_rank_that_is_automatic_otherwise_is_new_to_nobody(self, tmp_path: Path) -> None:
        helper = rank("helper", held_by="visitors", limit="1")
        c = made(tmp_path, helper, groups=[{"key": "crew"}])
        edits = RankSet("helper", {"held-by": "members"}), MemberGroups("cy", put=["crew"])
        assert not c.plan(*edits).passable

    def test_whoever_has_a_limited_rank_until_then_has_room_in_it_afterwards(self, tmp_path: Path) -> None:
        yard = place("yard", overrides={key: {"deny": ["post.pin"]} for key in ("guest", "lead")})
        given = [held("cy", "guest", "hall"), held("di", "guest")]
        ranks = rank("guest", open="true", limit="2")
        c = made(tmp_path, ranks, assignments=given, places=[place("hall"), yard], everyone=["post.pin"])
        assert against(c, Assign("cy", "guest", "hall", until="2099-01-01")) == ""

    def test_whoever_is_added_with_it_is_none_who_could_take_it_back(self, tmp_path: Path) -> None:
        c = made(tmp_path, rank("guest", "post.write"))
        edits = SetGate("yard", {"none": ["lead"]}), Withhold("guest", ["post.write"]), MemberAdd("em", {}, "active")
        plan = c.plan(*edits, by="bo")
        assert (plan.refusals, plan.lasting) == ([], ["Ada"])


def test_what_a_place_says_counts_for_what_may_be_assigned_above_it() -> None:
    c = Community.from_texts(texts(rank("lead", *LEAD), rank("guest"), capabilities=CAPABILITIES, rules=RULES))
    said = changes.saying(c.charter, "desk", "guest", "allow", ["post.pin"])
    told = {shift[1:] for shift in c.impact(c.after(charter=said)).powers if not shift.gains}
    assert told == {("assign", "lead", "guest", place) for place in ("site", "hall", "desk")}


def test_a_rank_that_somebody_has_is_unassigned_before_it_is_made_automatic(tmp_path: Path) -> None:
    c = made(tmp_path, rank("guest"), assignments=[held("cy", "guest")])
    with pytest.raises(AskAboveError, match="Guest is assigned to Cy; unassign it before it is made automatic"):
        c.plan(RankSet("guest", {"held-by": "members"}))
