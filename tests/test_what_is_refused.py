"""What cannot be meant is said, and with what to do instead; what can be is done: edits, names, moments, one by one."""

from __future__ import annotations

from copy import deepcopy as copied
from multiprocessing.reduction import ForkingPickler
from pathlib import Path
from typing import Any

import pytest

from ask_above import AskAboveError, Community, MomentError, QuestionError
from ask_above.change import (
    Assign,
    CharterAdd,
    CharterRemove,
    CharterSet,
    Edit,
    EditError,
    GroupAdd,
    GroupRename,
    GroupSet,
    HandOver,
    MemberAdd,
    MemberForget,
    MemberGroups,
    MemberSet,
    MemberStatus,
    PlaceAdd,
    PlaceMove,
    PlaceRemove,
    PlaceRename,
    PlaceSet,
    RankAdd,
    RankMove,
    RankRename,
    RankSet,
    Unassign,
)
from conftest import Place
from small import held, member, rank, texts

REFUSED: list[tuple[Edit, str]] = [
    (GroupAdd("host"), "There is a rank or group 'host' already"),
    (GroupSet("upper-team", {}), "Say what changes of Upper reach team"),
    (GroupSet("upper-team", {"key": "other"}), "another key is given by renaming it"),
    (GroupRename("upper-team", new_key="lower-team"), "There is a rank or group 'lower-team' already"),
    (MemberAdd("Zed One"), "zed"),
    (HandOver("ines"), "Ines Moor is the owner already"),
    (Assign("tove", "host", "commons", since="soon"), "'soon' is no moment; write"),
    (MemberSet("dara", {"groups": "uper-team"}), "upper-team"),
    (MemberForget("ines"), "is the owner, who cannot be forgotten; hand over first"),
    (PlaceAdd("weir", "board", fields={"kind": "section"}), "are given by themselves"),
    (RankMove("host", above="host"), "neither above nor below itself"),
    (RankSet("host", {"key": "greeter"}), "ask-above rank rename --key"),
    (CharterSet("rules.seeing", None), "to take out what stands there, remove it"),
    (CharterAdd("rules.seeing", "place.see"), "is no list; set a value with"),
    (CharterRemove("ranks.host.grants", "site.restart"), "does not hold site.restart"),
]


@pytest.fixture(scope="module")
def valley() -> Community:
    return Community.demo()


@pytest.mark.parametrize(("edit", "said"), REFUSED, ids=lambda each: str(each)[:50])
def test_an_edit_that_cannot_be_meant_says_what_to_do(valley: Community, edit: Edit, said: str) -> None:
    with pytest.raises(AskAboveError, match=said.replace("?", r"\?")):
        valley.plan(edit)


def test_one_who_was_forgotten_is_not_forgotten_again(brook: Any) -> None:
    brook.open().plan(MemberForget("dara"), why="Asked for it").apply()
    stranger = next(key for key in brook.open().register.members if key.startswith("stranger-"))
    with pytest.raises(AskAboveError, match=f"{stranger} has been forgotten already"):
        brook.open().plan(MemberForget(stranger))


class TestDone:
    def test_a_field_of_a_place_is_taken_out_and_what_confers_follows_its_key(self, brook: Any) -> None:
        brook.open().plan(PlaceSet("photo-wall", {"about": "Pictures"})).apply()
        brook.open().plan(PlaceSet("photo-wall", {"about": None})).apply()
        assert not brook.open().place("photo-wall").about
        brook.open().plan(PlaceRename("field", new_key="fields")).apply()
        assert brook.open().charter.groups["samplers"].confers[0].place == "fields"

    def test_something_is_taken_out_of_a_list_and_what_is_there_is_not_put_twice(self, brook: Any) -> None:
        grants = [*brook.open().rank("host").grants]
        again = brook.open().plan(CharterAdd("ranks.host.grants", "place.pin"))
        assert "already" in str(again.what)
        brook.open().plan(CharterRemove("ranks.host.grants", "place.pin")).apply()
        assert [*brook.open().rank("host").grants] == [each for each in grants if each != "place.pin"]

    def test_places_that_change_their_order_by_hand_are_told(self, brook: Any) -> None:
        brook.open().plan(MemberSet("tove", {"note": "first"})).apply()
        file = brook.folder / "charter.yaml"
        lines = file.read_text("utf-8").splitlines(keepends=True)
        n = next(n for n, line in enumerate(lines) if "{key: photo-wall" in line)
        first = next(n for n, line in enumerate(lines) if "{key: notices" in line)
        lines.insert(first, lines.pop(n))
        file.write_text("".join(lines), "utf-8")
        brook.open().plan(MemberSet("tove", {"note": "second"})).apply()
        edits = [entry.what for entry in brook.open().home.store.entries() if entry.kind != "change"]
        assert any("the place among its neighbours of Photo wall" in each for each in edits), edits


# -- whom a change concerns


def there(folder: Path, ranks: Any, **how: Any) -> Community:
    for name, text in texts(*ranks, **how).items():
        (folder / name).write_text(text, "utf-8")
    return Community.open(folder)


ONE = [member("ada"), member("bo"), member("cy"), member("di")]


class TestConditions:
    RANKS = (
        rank("top", "*"),
        rank("guide", "rank.assign", "post.write", limit=2, open=True),
        rank("guest", "post.write"),
        rank("kept", "post.write", kept_by="directory"),
        rank("everyone", "place.see", held_by="members"),
    )

    def here(self, folder: Path, *given: dict[str, str]) -> Community:
        return there(folder, ranks=self.RANKS, members=ONE, assignments=given, owner="ada")

    def test_an_open_rank_that_is_full_is_no_way_to_more(self, tmp_path: Path) -> None:
        """4.7 and 9.6: what anybody could come to hold by joining counts for as long as it can be joined."""
        c = self.here(tmp_path, held("bo", "guide"), held("cy", "guide"))
        assert [each.rule for each in c.plan(Assign("di", "guide"), by="di").refusals][:1] == ["6.8"]
        free = self.here(tmp_path, held("bo", "guide"))
        assert free.plan(Assign("di", "guide"), by="di").refusals == []

    def test_what_is_kept_is_neither_given_nor_taken(self, tmp_path: Path) -> None:
        c = self.here(tmp_path, held("bo", "kept"))
        assert "kept by directory" in str(c.plan(Assign("cy", "kept")).refusals[0])
        assert "kept by directory" in str(c.plan(Unassign("bo", "kept")).refusals[0])
        with pytest.raises(AskAboveError, match="is automatic"):
            c.plan(Assign("cy", "everyone"))

    def test_two_that_were_held_together_before_may_go_on(self, tmp_path: Path) -> None:
        ranks = (rank("top", "*"), rank("judge", apart_from=["clerk"]), rank("clerk"))
        both = held("bo", "judge"), held("bo", "clerk")
        c = there(tmp_path, ranks=ranks, members=ONE, assignments=both, owner="ada")
        assert c.plan(MemberStatus("bo", "locked")).refusals == []
        assert c.plan(Assign("bo", "clerk", "hall")).refusals == []
        plan = c.plan(Assign("cy", "judge"), Assign("cy", "clerk"))
        assert "may have both" in str(plan.passable[0])

    def test_what_is_held_without_being_given_counts_as_what_has_to_be_there_before(self, tmp_path: Path) -> None:
        ranks = (rank("top", "*"), rank("pilot", after=["robots"]), rank("robots", held_by="bots"))
        c = there(tmp_path, ranks=ranks, members=[*ONE[:3], member("di", kind="bot")], owner="ada")
        assert c.plan(Assign("di", "pilot")).passable == []
        assert "only to someone who has Robots" in str(c.plan(Assign("cy", "pilot")).passable[0])

    def test_nobody_is_given_a_rank_that_is_made_by_the_same_change_from_above_themselves(self, tmp_path: Path) -> None:
        from ask_above.change import RankAdd

        c = self.here(tmp_path, held("bo", "guide"))
        plan = c.plan(RankAdd("high", above="guide"), Assign("cy", "high"), by="bo")
        assert {each.rule for each in plan.refusals} & {"6.3", "9.3", "6.2"}

    def test_one_who_acts_over_anyone_is_held_by_the_owner_alone(self, tmp_path: Path) -> None:
        rules = {"authority": {"assign": {"using": "rank.assign", "over": "anyone", "hand-on": "any"}}}
        c = there(tmp_path, ranks=self.RANKS, members=ONE, assignments=[held("bo", "guide")], owner="ada", rules=rules)
        assert c.plan(Assign("cy", "guest"), by="bo").refusals == []
        assert [each.rule for each in c.plan(Assign("ada", "guest"), by="bo").refusals] == ["6.12"]

    def test_a_place_where_a_group_confers_a_rank_stays(self, tmp_path: Path) -> None:
        groups = [{"key": "desk-team", "title": "Desk team", "confers": [{"rank": "guest", "place": "yard"}]}]
        c = there(tmp_path, ranks=self.RANKS, members=ONE, owner="ada", groups=groups)
        with pytest.raises(AskAboveError, match="Desk team confers a rank there; change that first"):
            c.plan(PlaceRemove("yard"))


# -- names and moments


class TestNames:
    def test_someone_is_named_by_key_or_by_what_a_call_returned(self, valley: Community) -> None:
        host, dara = valley.rank("host"), valley.member("dara")
        assert valley.may(host, "post.write", at="river-talk").allowed
        answers = [valley.may(who, "post.write", at="river-talk").reason for who in (dara, "dara")]
        assert answers[0] == answers[1]
        odd: Any = 7
        with pytest.raises(QuestionError, match="neither a member, a rank nor VISITOR"):
            valley.may(odd, "post.write")

    @pytest.mark.parametrize(
        ("who", "what", "said"), [("dara", "poll", r"say poll\.start"), ("host", "post.write", "type rank:host")]
    )
    def test_a_part_of_a_name_or_a_rank_for_a_member_is_told(
        self, valley: Community, who: str, what: str, said: str
    ) -> None:
        with pytest.raises(AskAboveError, match=said):
            valley.may(who, what)

    @pytest.mark.parametrize("mark", ["place:notices", "group:upper-team", "rank:host", "member:dara"])
    def test_a_mark_says_which_of_several_is_meant(self, valley: Community, mark: str) -> None:
        assert valley.describe(mark).text

    @pytest.mark.parametrize("when", ["yesterdayish", 7])
    def test_what_is_no_moment_is_told(self, valley: Community, when: Any) -> None:
        with pytest.raises(MomentError, match="is no moment"):
            valley.may("dara", "post.write", when=when)

    def test_a_name_that_is_asked_about_again_and_is_none_is_told_again(self, valley: Community) -> None:
        for _ in range(2):
            assert valley.may("dara", "post.write", at="river-talk").allowed
            with pytest.raises(AskAboveError, match=r"post\.write"):
                valley.may("dara", "post.writ", at="river-talk")

    def test_an_answer_about_an_act_says_why_when_it_is_asked(self, valley: Community) -> None:
        """The reason is worked out when it is read, and a step that is copied has it."""
        answer = valley.may_moderate("rank:member", "bram", at="notices")
        step = next(step for step in copied(answer.steps) if step.code == "no-capability")
        assert step.text in answer.reason
        assert "Member may not use" in step.text


def sent(thing: Any) -> Any:
    """What another process has of it."""
    return ForkingPickler.loads(ForkingPickler.dumps(thing))


def test_a_community_and_its_answers_go_to_other_processes(valley: Community) -> None:
    first = valley.may("dara", "post.write", at="river-talk")
    for answer in (first, valley.may("dara", "post.write", at="notices"), valley.may("rank:host", "post.write")):
        there = sent(answer)
        assert (there.allowed, there.reason) == (answer.allowed, answer.reason)
    elsewhere = sent(valley)
    assert elsewhere.may("dara", "post.write", at="river-talk").reason == first.reason
    assert elsewhere.may_moderate("ada", "dara").reason == valley.may_moderate("ada", "dara").reason


class TestWhatIsKept:
    """A community made of another keeps what is still true of it, however much changes."""

    def test_of_many_who_are_changed_at_once_each_is_answered_anew(self) -> None:
        people = [{"key": f"m{n}"} for n in range(1_600)]
        ranks = (rank("top", "*"), rank("guest", "post.write"), rank("all", "place.see", held_by="members"))
        c = Community.from_texts(texts(*ranks, members=people))
        for n in range(1_600):
            c.may(f"m{n}", "post.write", at="yard")
        from ask_above.people.register import Assignment

        register = c.register
        for n in range(600):
            register = register.assigned(Assignment(f"m{n}", "guest"))
        after = c.after(register=register)
        assert [n for n in range(1_600) if after.may(f"m{n}", "post.write", at="yard")] == [*range(600)]
        assert not any(c.may(f"m{n}", "post.write", at="yard") for n in range(1_600))

    def test_places_that_come_or_move_are_answered_as_if_read_anew(self, brook: Any) -> None:
        for edit in (PlaceAdd("weir", "board", "commons"), PlaceMove("photo-wall", "field", keep=False)):
            c = brook.open()
            c.may("dara", "photo.upload", at="photo-wall")
            after = c.plan(edit).after
            fresh = Community(after.charter, after.register)
            made = c.after(charter=after.charter)
            for key in after.charter.places:
                one, two = (each.may("dara", "photo.upload", at=key) for each in (made, fresh))
                assert one.reason == two.reason
            c.plan(edit).apply()


def test_a_rename_is_told_by_its_old_and_new_key(brook: Any) -> None:
    plan = brook.open().plan(RankRename("host", new_key="greeter"))
    assert "greeter" in str(plan.what)


def test_what_is_given_and_gone_in_one_plan_is_refused(brook: Place) -> None:
    c = brook.open()
    with pytest.raises(EditError, match="the rank gauger would no longer be there; unassign it first"):
        c.plan(RankAdd("gauger", {"title": "Gauger"}), Assign("dara", "gauger"), CharterRemove("ranks.gauger"))
    with pytest.raises(EditError, match="otters"):
        c.plan(GroupAdd("otters"), MemberGroups("dara", ["otters"]), CharterRemove("groups.otters"))
