"""What a plan tells unasked: who is then the only one, what has no effect and why, what others go on having."""

from __future__ import annotations

from collections import Counter
from email import message_from_string, policy
from pathlib import Path

import pytest
from soak.written import as_it_is

from ask_above import Community
from ask_above.ask.tables import power_cells
from ask_above.change import (
    Assign,
    Edit,
    Grant,
    GroupSet,
    HandOver,
    MemberGroups,
    MemberSet,
    MemberStatus,
    PlaceRemove,
    PlaceSet,
    RankAdd,
    RankRemove,
    RankRename,
    RankSet,
    Say,
    Unassign,
    Withhold,
)
from ask_above.charter.rules import Act
from ask_above.show.letters import letters
from ask_above.show.powers import reasons
from ask_above.show.report import report
from ask_above.workspace.plans import Plan
from commands import run
from conftest import Place
from small import community, held, member, place, rank, texts

RANKS = (
    rank("top", "post.write", "member.ban", "rank.assign"),
    rank("crew", "post.write", "post.pin"),
    {**rank("copy", "post.write", "post.pin"), "copied-from": "crew"},
    rank("everyone", "place.see", "post.publish", held_by="members"),
)


@pytest.fixture
def small(tmp_path: Path) -> Community:
    capabilities = {
        "Posts": {
            "place.see": "See",
            "post.write": "Write",
            "post.pin": {"about": "Pin", "needs": ["post.write"]},
            "post.publish": "Publish",
            "voice.speak": {"about": "Speak", "kinds": ["stage"]},
        },
        "People": {
            "member.ban": {"about": "Ban", "risk": "high"},
            "rank.assign": {"about": "Give ranks", "risk": "medium"},
        },
    }
    files = texts(
        *RANKS,
        capabilities=capabilities,
        nobody=["voice.speak"],
        members=[member("ada"), member("bo"), member("cy")],
        assignments=[held("ada", "top"), held("bo", "top"), held("cy", "crew")],
        places=[place("club", gate={"any": ["top"]}), place("yard")],
    )
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    return Community.open(tmp_path)


def told(plan: Plan) -> list[str]:
    return [f"{piece.code}: {piece.what}".lower() for piece in plan.brought]


class TestWhoIsThenTheOnlyOne:
    @pytest.mark.parametrize(
        "edit", [MemberStatus("bo", "locked"), MemberStatus("bo", "retired"), Unassign("top", "bo")]
    )
    def test_when_somebody_goes(self, small: Community, edit: object) -> None:
        edits = [Unassign("bo", "top")] if isinstance(edit, Unassign) else [edit]
        gaps = {(gap.capability, gap.only) for gap in small.plan(*edits).gaps}
        assert gaps == {("member.ban", "ada"), ("rank.assign", "ada")}

    def test_and_what_nobody_can_do_any_more(self, small: Community) -> None:
        small.plan(MemberStatus("bo", "retired")).apply()
        gaps = {
            (gap.capability, gap.only)
            for gap in Community.open(small.home.folder).plan(Withhold("top", ["member.ban"])).gaps
        }
        assert gaps == {("member.ban", None)}

    def test_and_nothing_where_others_are_left(self, small: Community) -> None:
        assert small.plan(Unassign("cy", "crew")).gaps == []
        assert small.plan(Assign("cy", "top")).gaps == []

    def test_it_stands_in_the_plan(self, small: Community) -> None:
        out = run("member", "lock", "bo", "--plan", cwd=small.home.folder)
        assert "! After this, only Ada may use member.ban and rank.assign on the whole site" in out.stdout, out


class TestWhatHasNoEffect:
    def test_a_rank_behind_a_gate(self, small: Community) -> None:
        (sentence,) = small.plan(Assign("cy", "copy", "club")).vain
        assert sentence.startswith(
            "Copy has no effect for Cy in club: the gate of club does not admit them; it requires"
        )
        assert small.plan(Assign("ada", "crew", "club")).vain == []

    def test_a_rank_that_brings_nothing_new(self, small: Community) -> None:
        (sentence,) = small.plan(Assign("cy", "copy", "yard")).vain
        assert sentence == "Copy grants Cy nothing new in yard."

    def test_but_what_lasts_longer_or_comes_with_a_higher_standing_is_new(self) -> None:
        ranks = rank("high", "post.pin"), rank("low", "post.pin"), rank("all", "place.see", held_by="members")
        given = [held("ada", "low"), held("bo", "low", until="2990-01-01")]
        c = community(*ranks, members=[member("ada"), member("bo")], assignments=given)
        assert c.plan(Assign("ada", "low", "hall")).vain == ["Low grants Ada nothing new in The Hall."]
        for edit in (Assign("bo", "low", until="2999-01-01"), Assign("bo", "low", until="2980-01-01")):
            assert c.plan(edit).vain == []
        assert c.plan(Assign("ada", "high", "hall")).vain == []

    def test_a_word_that_something_else_keeps_from_being_so(self, small: Community) -> None:
        behind, in_vain = (small.plan(Say(where, "crew", "allow", ["voice.speak"])).vain for where in ("club", "yard"))
        assert "Crew still may not use voice.speak in club" in behind[0]
        assert "does not apply" in in_vain[0]
        assert small.plan(Say("yard", "everyone", "allow", ["post.write"])).vain == []


class TestWhatToLookAtAgain:
    def test_a_right_is_taken_from_everybody_and_others_keep_it(self, small: Community) -> None:
        plan = small.plan(Grant("everyone", ["post.write"]))
        plan.apply()
        now = Community.open(small.home.folder)
        plan = now.plan(Withhold("everyone", ["post.write"]))
        assert told(plan) == ["still-carried: everyone no longer grants post.write, but top, crew and copy grant it"]
        assert plan.brought[0].commands == tuple(
            f"ask-above rank withhold {key} post.write" for key in ("top", "crew", "copy")
        )

    def test_a_copy_keeps_what_its_original_loses(self, small: Community) -> None:
        assert told(small.plan(Withhold("crew", ["post.pin"]))) == [
            "copy-behind: copy, copied from crew, still grants post.pin"
        ]
        assert told(small.plan(Grant("copy", ["post.publish"]))) == []

    def test_what_is_meant_for_nobody_is_granted(self, small: Community) -> None:
        assert "meant-for-nobody: crew grants voice.speak, which 'nobody' lists" in told(
            small.plan(Grant("crew", ["voice.speak"]))
        )

    def test_high_risk_for_everybody_who_joins(self, small: Community) -> None:
        found = told(small.plan(RankSet("top", {"on-joining": "true"})))
        assert any("assigned on joining, grants member.ban" in each for each in found), found

    @pytest.mark.parametrize("go", [MemberStatus("bo", "retired"), Unassign("bo", "mod")])
    def test_what_is_left_where_somebody_goes(self, go: Edit) -> None:
        hall = place("hall", gate={"any": ["mod"]}, exceptions={"bo": {"allow": ["post.write"]}})
        ranks = rank("mod", "member.ban"), rank("all", "place.see", held_by="members")
        people, given = [*map(member, ("ada", "bo", "cy"))], [held("bo", "mod")]
        c = community(*ranks, members=people, assignments=given, places=[hall], owner="ada")
        retires = isinstance(go, MemberStatus)
        gone = ["exception-gone: there is an exception in hall for bo, who has left"] if retires else []
        assert told(c.plan(go)) == [*gone, "gate-nobody: the gate of hall admits no active member"]
        assert told(c.plan(Assign("cy", "mod"), go)) == gone

    def test_how_many_have_a_rank_is_no_news_where_most_had_it(self) -> None:
        ranks = rank("old", "post.write"), rank("mod", "member.mute"), rank("all", "place.see", held_by="members")
        given = [held("ada", "old"), held("bo", "old"), held("cy", "mod")]
        rules = {"authority": {"moderate": {"using": "member.mute"}}}
        c = community(*ranks, members=[*map(member, ("ada", "bo", "cy"))], assignments=given, rules=rules)
        assert [piece.code for piece in c.advice().pieces].count("below-everyone") == 1
        assert told(c.plan(Assign("cy", "old"), RankSet("old", {"about": "Who was here first"}))) == []

    def test_it_stands_in_the_plan_with_what_mends_it(self, brook: Place) -> None:
        out = run("rank", "withhold", "member", "photo.remove.own", "--plan", cwd=brook.folder).stdout
        assert "▲ Member no longer grants photo.remove.own, but River warden grants it. [still-carried]" in out
        assert "→ ask-above rank withhold warden photo.remove.own" in out


class TestWhatStandsInTheWay:
    def test_a_gate_is_named_where_it_is_all_that_keeps_somebody_out(self) -> None:
        c = community(
            rank("mod", "member.moderate", "place.see"),
            rank("low", "place.see"),
            capabilities={"All": {"member.moderate": "Moderate", "place.see": "See"}},
            places=[place("club", gate={"any": ["low"]}), place("yard")],
        )
        codes = {at: [s.code for s in c.may_moderate("rank:mod", "rank:low", at=at).steps] for at in ("club", "yard")}
        assert "behind-gate" in codes["club"]
        assert "behind-gate" not in codes["yard"]
        assert "no-capability" in [s.code for s in c.may_moderate("rank:low", "rank:mod", at="club").steps]
        cells = power_cells(c.decider, Act.MODERATE, c.names.place_number("club"), c.names.moment())
        assert {reasons(cell) for cell in cells if (cell.actor, cell.target) == ("mod", "low")} == {"g"}

    def test_a_new_rank_is_denied_what_everybody_has_and_it_must_never_have(self) -> None:
        c = Community.demo()
        made = c.propose(["rota.plan"], never=["post.write"])
        assert made is not None
        new = Community(made.charter, c.register)
        someone = f"rank:{made.key}"
        assert new.where(someone, "rota.plan")
        assert new.where(someone, "post.write") == []
        assert c.where("rank:member", "post.write")
        assert any("deny: [post.write]" in line for _, line in made.overrides)


def test_a_rank_or_a_place_is_removed_of_which_somebody_holds_another_too() -> None:
    members = [member("bo"), member("al")]
    given = [held("bo", "lead"), held("bo", "crew"), held("al", "crew", "desk"), held("al", "lead", "hall")]
    c = Community.from_texts(texts(rank("lead", "post.write"), rank("crew"), members=members, assignments=given))
    for edit in (RankRemove("crew"), RankRemove("crew", "lead"), PlaceRemove("hall")):
        plan = c.plan(edit)
        assert str(plan).startswith(plan.what[:1].upper())
        assert not plan.vain


def test_of_a_rank_with_another_key_a_letter_and_the_history_say_no_more_than_that(brook: Place) -> None:
    plan = brook.open().plan(RankRename("volunteer", new_key="helper"), Assign("petra", "host"))
    ((_, letter),) = letters(plan)
    assert letter.count("You have the rank") == 1
    assert "assigned helper" not in str(plan)
    plan.apply()
    told = [event.what for event in brook.open().history("petra").events]
    assert told[-2:] == [
        "volunteer on the whole site → Volunteer on the whole site from 3 Jan 2019",
        "Board host on the whole site assigned",
    ]


def test_of_very_many_it_is_told_as_of_few_who_they_are(brook: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    edits = Withhold("volunteer", ["reading.post"]), Grant("member", ["kit.lend"]), Unassign("bram", "host")
    few = str(brook.open().plan(*edits))
    assert "Volunteer" in few
    monkeypatch.setattr("ask_above.show.impact._MANY", 0)
    assert str(brook.open().plan(*edits)) == few


@pytest.mark.parametrize(
    "edits",
    [
        [RankSet(key, {"title": "Called otherwise"}) for key in ("host", "editor", "volunteer", "member")],
        [PlaceSet(key, {"title": "Called otherwise"}) for key in ("review", "alder-landowners", "lower-gauges")],
        [MemberSet(key, {"name": "Called Otherwise"}) for key in ("kofi", "mira")],
        [GroupSet("field-teams", {"title": "Called otherwise"}), RankSet("host", {"title": "Journal editor (new)"})],
    ],
    ids=["ranks", "places", "members", "several"],
)
def test_what_is_called_otherwise_brings_no_advice_that_was_there_before(edits: list[Edit]) -> None:
    c = Community.demo()
    assert c.advice().pieces
    for edit in edits:
        assert c.plan(edit).brought == [], edit
    assert c.plan(*edits[:1], Withhold("member", ["post.write"])).brought


def test_a_title_that_somebody_else_has_already_is_told() -> None:
    assert [piece.code for piece in Community.demo().plan(RankSet("host", {"title": "Surveyor"})).brought]


class TestWhoMayJoin:
    """What somebody else's rank means for whoever might join it is told: it is full now, or has room again."""

    @pytest.fixture
    def club(self) -> Community:
        ranks = {**rank("duo", "post.pin"), "open": "yes", "limit": "2"}, rank("all", "place.see", held_by="members")
        people = [*map(member, ("ada", "bo", "cy", "di")), member("em", status="locked")]
        return community(ranks[0], ranks[1], members=people, assignments=[held("ada", "duo")])

    def joins(self, plan: Plan) -> list[tuple[bool, tuple[str, ...]]]:
        return [(shift.gains, shift.actors) for shift in plan.effect.acts if shift.act == "join"]

    def test_when_it_is_full_and_when_there_is_room_again(self, club: Community) -> None:
        plan = club.plan(Assign("bo", "duo"))
        assert [(gains, sorted(who)) for gains, who in self.joins(plan)] == [(False, ["cy", "di"])]
        plan.apply()
        full = club.again()
        assert self.joins(full.plan(MemberStatus("cy", "locked"))) == []
        gone = self.joins(full.plan(MemberStatus("bo", "retired")))
        assert (True, ["cy", "di"]) in [(gains, sorted(who)) for gains, who in gone]

    def test_by_somebody_to_whom_it_comes_later(self, club: Community) -> None:
        plan = club.plan(Assign("em", "duo", since="2999-01-01"), by=None)
        assert plan.refusals  # who is locked is given nothing
        plan = club.plan(MemberStatus("em", "active"), Assign("em", "duo", since="2999-01-01"))
        assert (False, ("bo", "cy", "di")) in self.joins(plan)

    def test_a_rank_that_comes_and_one_that_goes(self, club: Community) -> None:
        come = club.plan(RankAdd("walkers", {"open": "true"}))
        assert [(gains, sorted(who)) for gains, who in self.joins(come)] == [(True, ["ada", "bo", "cy", "di"])]
        come.apply()
        gone = club.again().plan(RankRemove("walkers"))
        assert [(gains, sorted(who)) for gains, who in self.joins(gone)] == [(False, ["ada", "bo", "cy", "di"])]


RANKS_CHANGED, MEMBERSHIP_CHANGED, MAY_CHANGED = "Your ranks", "Your membership", "What you may do"
THREADS, CALM = "pin a thread; close a thread", "mute a member; rename any member"
HOSTS = "moderate Board host, Volunteer, Newcomer, Member and Passer-by."
WRITTEN: dict[str, tuple[Edit, str, list[str]]] = {
    "otto": (
        Assign("otto", "host", "river-talk", "2097-01-01", "2097-06-01"),
        RANKS_CHANGED,
        [
            "You will have the rank Board host in River talk from 1 Jan 2097 through 1 Jun 2097.",
            f"You may, in River talk, from 1 Jan 2097 through 1 Jun 2097: {THREADS}; {CALM}.",
            f"You may, in River talk, from 1 Jan 2097: {HOSTS}",
        ],
    ),
    "bram": (MemberStatus("bram", "locked"), MEMBERSHIP_CHANGED, ["Your account is locked."]),
    "petra": (MemberStatus("petra", "retired"), MEMBERSHIP_CHANGED, ["You are no longer a member."]),
    "niko": (MemberStatus("niko", "active"), MEMBERSHIP_CHANGED, ["Your account is no longer locked."]),
    "lena": (
        Assign("lena", "surveyor"),
        RANKS_CHANGED,
        ["You will have the rank Surveyor on the whole site once you are active."],
    ),
    "vesna": (
        Assign("vesna", "founding-friend"),
        RANKS_CHANGED,
        ["You have the rank Founding friend on the whole site."],
    ),
    "dara": (
        Unassign("dara", "host", "commons"),
        RANKS_CHANGED,
        [
            "You no longer have the rank Board host in Common room.",
            f"You may no longer, in Common room, Notices, Welcome desk, River talk and Photo wall: {CALM}.",
            "You may no longer, in Notices, Welcome desk and River talk: pin a thread; close a thread.",
            f"You may no longer, in Common room: {HOSTS}",
        ],
    ),
    "freya": (
        Grant("host", ["post.edit.all"]),
        MAY_CHANGED,
        ["You may now, in Alder board and Alder journal: edit any post."],
    ),
}


class TestLetters:
    """What members are told of themselves is so: from when, until when, and as whom."""

    @pytest.mark.slow
    def test_they_say_what_differs_read_once_more_and_no_more(self) -> None:
        counts = sum(map(as_it_is, range(40)), Counter[str]())
        assert counts.keys() == {"standing", "groups", "ranks", "answers", "acts"}

    @pytest.mark.parametrize("key", WRITTEN)
    def test_what_has_changed_is_said_first_and_no_more_than_that(self, brook: Place, key: str) -> None:
        edit, subject, news = WRITTEN[key]
        plan = brook.open().plan(MemberSet(key, {"email": f"{key}@river.example"}), edit)
        letter = next(text for file, text in letters(plan) if file.endswith(f"-{key}.eml"))
        mail = message_from_string(letter, policy=policy.default)
        assert str(mail["Subject"]).startswith(f"{subject} at Wren Valley River Watch ha")
        assert mail.get_content().partition("River Watch.\n\n")[2].strip().splitlines() == news

    def test_of_the_ownership_both_are_told(self, brook: Place) -> None:
        plan = brook.open().plan(MemberSet("dara", {"email": "d@river.example"}), HandOver("dara"))
        said = {file.rpartition("-")[2]: text for file, text in letters(plan)}
        assert "You are now the owner and may do everything." in said["dara.eml"]
        assert "You are no longer the owner." in said["ines.eml"]

    def test_of_the_status_they_say_it_in_words_of_the_language(self) -> None:
        bo = member("bo", status="invited", email="bo@river.example")
        c = community(rank("all", "post.write", held_by="members"), members=[bo])
        accepted = c.plan(MemberStatus("bo", "active"))
        ((_, letter),) = letters(accepted)
        assert "You are now an active member." in letter
        gone = c.plan(MemberStatus("bo", "retired"))
        gone.apply()
        ((_, letter),) = letters(c.again().plan(MemberStatus("bo", "active")))
        assert "Your invitation is valid again." in letter

    def test_of_groups_they_say_which(self, brook: Place) -> None:
        plan = brook.open().plan(MemberSet("otto", {"email": "o@river.example"}), MemberGroups("otto", ("upper-team",)))
        ((_, letter),) = letters(plan)
        assert "You are now in the group Upper reach team." in letter

    def test_of_a_record_alone_nobody_is_told(self, brook: Place) -> None:
        edits = Unassign("dara", "host", "commons"), Assign("dara", "host", "commons", "2025-04-01", why="Again")
        assert letters(brook.open().plan(*edits)) == []


def test_what_begins_later_is_said_with_its_day_in_plans_the_journal_the_history_and_the_report(brook: Place) -> None:
    dates = "2097-01-01", "2097-06-01"
    plan = brook.open().plan(*(Assign(key, "host", "river-talk", *dates) for key in ("tove", "ilse")))
    said = " ".join(str(plan).split())
    assert "may now moderate" not in said
    assert (
        "someone without any rank using member.mute or member.rename.all in River talk, from 1 Jan 2097 through" in said
    )
    assert "tove assigned Board host in River talk from 1 Jan 2097 through 1 Jun 2097" in said
    (spell,) = {(shift.since, shift.until) for shift in plan.effect.acts}
    assert spell == (plan.effect.shifts[0].since, plan.effect.shifts[0].until)
    # as a register has it: through the last day
    assert set(plan.effect.table()["until"]) == {"2097-06-01"}
    (line,) = plan.apply().effect
    # each has its own risk, and no other's
    assert line == (
        "+ place.pin, thread.close, member.mute (medium risk), member.rename.all in River talk, from 1 Jan 2097 "
        "through 1 Jun 2097: 2 members"
    )
    c = brook.open()
    told = c.history("tove").events[-1].what
    assert told == "Board host in River talk from 1 Jan 2097 through 1 Jun 2097 assigned"
    assert "Board host  River talk  from 1 Jan 2097 through 1 Jun 2097" in c.describe("tove").text
    c.plan(Assign("tove", "surveyor", until="2097-06-01")).apply()
    assert "Surveyor through 1 Jun 2097" in report(brook.open(), "md")
