"""Ways past the rules of changes that were open once: each is closed by what the difference says, not by a case."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from ask_above import AskAboveError, Community, RefusedError
from ask_above.change import (
    Assign,
    CharterSet,
    EditError,
    GroupSet,
    MemberAdd,
    MemberForget,
    MemberGroups,
    MemberSet,
    PlaceMove,
    PlaceRemove,
    PlaceSet,
    RankAdd,
    RankMove,
    RankRename,
    RankSet,
    Say,
    SetLike,
    Unassign,
)
from ask_above.change.importing import ImportAssignments
from ask_above.files.csv_rows import read_rows
from ask_above.people.reading import ASSIGNMENT_COLUMNS
from ask_above.workspace.undoing import undo
from conftest import Place
from small import held, member, place, rank, texts

HANDS = ["rank.assign", "rank.manage", "place.manage", "member.lock", "member.mute"]
CAPABILITIES = {
    "All": {**{name: name for name in (*HANDS, "post.write", "post.pin", "rank.call")}, "place.see": "See a place"}
}
RANKS = [
    rank("top", *HANDS, "post.write", "post.pin", "rank.call"),
    rank("lead", *HANDS, "post.write", "post.pin"),
    rank("mate", *HANDS, "post.write", "post.pin"),
    rank("aide", "post.write"),
    rank("clerk", "post.write", limit="1"),
    rank("empty", "post.pin"),
    rank("member", "place.see", held_by="members"),
]
CAST = [member(key) for key in ("own", "boss", "lea", "max", "ann", "bix")]
GIVEN = [held("boss", "top"), held("lea", "lead"), held("max", "mate"), held("ann", "aide")]


UNSEEN = (
    0x07, 0xAD, 0x34F, 0x61C, 0x115F, 0x1160, 0x17B4, 0x180E, 0x200B, 0x200E, 0x2028, 0x202E, 0x2060, 0x2800, 0x3164,
    0xFE0F, 0xFEFF, 0xFFA0, 0xE000, 0xE0041, 0xD800,
)  # fmt: skip


def small(folder: Path, *, ranks: Any = RANKS, given: Any = GIVEN, members: Any = CAST, **charter: Any) -> Community:
    whole: dict[str, Any] = {"capabilities": CAPABILITIES, "owner": "own", **charter}
    for name, text in texts(*ranks, members=members, assignments=given, **whole).items():
        (folder / name).write_text(text)
    return Community.open(folder)


def rules(c: Community, by: str, *edits: Any) -> set[str]:
    return {refusal.rule for refusal in c.plan(*edits, by=by).refusals}


class TestARankThatIsMadeInTheSameChange:
    """It is assigned by the rules of assigning like any other, as it stands after the change."""

    def test_the_target_the_owner_and_oneself_are_asked_about(self, tmp_path: Path) -> None:
        c = small(tmp_path)
        made = RankAdd("fresh", {"grants": ["post.write"]}, below="aide")
        assert not rules(c, "lea", made, Assign("ann", "fresh"))
        assert "6.3" in rules(c, "lea", made, Assign("boss", "fresh"))  # who stands above
        assert "6.12" in rules(c, "lea", made, Assign("own", "fresh"))
        assert rules(c, "lea", made, Assign("lea", "fresh"))  # oneself

    def test_so_are_the_lists_of_ranks(self, tmp_path: Path) -> None:
        ranks = [RANKS[0], rank("lead", *HANDS, "post.write", assigns={"only": ["aide"]}), *RANKS[2:]]
        c = small(tmp_path, ranks=ranks)
        made = RankAdd("fresh", {"grants": ["post.write"]}, below="aide")
        assert "6.4" in rules(c, "lea", made, Assign("bix", "fresh"))


@pytest.mark.parametrize("flag", [{"held-by": "members"}, {"entry": "true"}, {"on-joining": "true"}])
def test_no_condition_ends_by_making_a_rank_everybodys(tmp_path: Path, flag: dict[str, str]) -> None:
    ranks = [*RANKS, rank("guard", apart_from=["aide"])]
    c = small(tmp_path, ranks=ranks, given=[])
    for key in ("clerk", "aide", "guard"):  # a limit, another's apart-from, its own
        for by in ("own", None):
            assert "9.5" in {each.rule for each in c.plan(RankSet(key, flag), by=by).refusals}
    assert not c.plan(RankSet("empty", flag), by="own").refusals


def test_a_loss_for_good_is_no_loss_for_a_day(tmp_path: Path) -> None:
    """Who is level loses only what the actor loses, for as long as the actor loses it."""
    denied = Say("hall", "member", "deny", ["post.pin"])
    lasting = small(tmp_path, given=[held("lea", "lead"), held("max", "lead")])
    assert not rules(lasting, "lea", denied)
    for_a_while = small(tmp_path, given=[held("lea", "lead", until="2099-01-02"), held("max", "lead")])
    assert "9.7c" in rules(for_a_while, "lea", denied)


class TestTheRecordOfAnAssignment:
    def test_only_leaves_what_stands_as_it_is_recorded(self, brook: Place) -> None:
        brook.open().plan(Assign("bram", "host", why="first"), by="ines")
        plan = brook.open().plan(Assign("bram", "host", only=True, why="another"), by="ada")
        assert not [row for row in plan.rows if row.after is not None]

    def test_writing_one_anew_takes_what_giving_it_takes(self, tmp_path: Path) -> None:
        c = small(tmp_path)
        rows = "member,rank,place,from,until,by,why,source\nboss,top,,,,lea,mine,\n"
        import_ = ImportAssignments(read_rows("a.csv", rows.encode(), ASSIGNMENT_COLUMNS, ()))
        assert c.plan(import_, by="lea").is_empty  # what is held already is not written anew
        register = c.register
        forged = register.of("boss")[0]._replace(why="mine", by="lea")
        after = c.after(register=register.changed({}, {"boss": [forged]}))
        from ask_above.change.difference import Difference
        from ask_above.change.parts import State
        from ask_above.change.reach import Reach
        from ask_above.change.rights import Making

        sides = [State(each.charter, each.register) for each in (c, after)]
        reach = Reach(c.decider, after.decider, Difference(sides[0], sides[1], 0), 0, Making("lea"))
        assert "6.3" in {each.rule for each in reach.refusals("lea")}

    def test_by_and_source_of_others_imports_are_passed_over_and_that_is_told(self, tmp_path: Path) -> None:
        c = small(tmp_path)
        rows = "member,rank,by,source\nbix,aide,boss,mill\n"
        edit = ImportAssignments(read_rows("a.csv", rows.encode(), ASSIGNMENT_COLUMNS, ()))
        plan = c.plan(edit, by="lea")
        assert "columns by and source passed over" in plan.what
        assert [(row.after or {})["by"] + (row.after or {})["source"] for row in plan.rows] == ["lea"]
        trusted = c.plan(edit, by="own")
        assert [(row.after or {})["source"] for row in trusted.rows] == ["mill"]


class TestGroups:
    def test_putting_oneself_into_a_group_counts_as_assigning_what_it_confers(self, tmp_path: Path) -> None:
        groups = [{"key": "inner"}, {"key": "outer", "includes": ["inner"], "confers": ["aide"]}]
        c = small(tmp_path, groups=groups, given=[*GIVEN, held("lea", "aide")])
        assert "6.8" in rules(c, "lea", MemberGroups("lea", put=["inner"]))  # through a group it lies in
        assert not rules(c, "lea", MemberGroups("bix", put=["inner"]))
        assert "6.3" in rules(c, "lea", MemberGroups("boss", put=["inner"]))


def test_a_bundle_counts_under_every_act_whose_words_it_changes(tmp_path: Path) -> None:
    ranks = [rank("top", *HANDS, "post.write", "post.pin", "rank.call"), rank("lead", *HANDS, "post.write"), *RANKS[3:]]
    c = small(
        tmp_path,
        ranks=ranks,
        given=[held("lea", "lead")],
        bundles={"pack": ["post.write"]},
        places=[place("hall", overrides={"aide": {"allow": ["pack"]}})],
        rules={"authority": {"manage": {"hand-on": "any"}}, "overrides": {"hand-on": "held"}},
    )
    assert "9.7e" in rules(c, "lea", CharterSet("bundles.pack", ["post.write", "post.pin"]))


def test_the_order_of_like_counts_as_the_words_that_come_to_speak(tmp_path: Path) -> None:
    sets = {"open": {"aide": {"allow": ["rank.call"]}}, "shut": {"aide": {"deny": ["rank.call"]}}}
    places = [place("hall", like=["shut", "open"], overrides={"empty": {"deny": ["rank.call"]}})]
    c = small(tmp_path, override_sets=sets, places=places)
    assert "9.7e" in rules(c, "lea", SetLike("hall", ["open", "shut"]))  # lea may not call
    assert not rules(c, "boss", SetLike("hall", ["open", "shut"]))


def test_of_a_rank_that_nobody_is_in_only_what_the_rules_name_counts(tmp_path: Path) -> None:
    """A lead makes a room read-only for members, though a rank above that nobody holds would lose by it."""
    ranks = [rank("over-all", "post.write"), *RANKS]
    c = small(tmp_path, ranks=ranks, given=[held("lea", "lead"), held("ann", "aide")])
    assert not rules(c, "lea", Say("hall", "member", "deny", ["post.write"]))
    assert "9.7c" in rules(
        small(tmp_path, ranks=ranks, given=[held("lea", "lead"), held("bix", "over-all")]),
        "lea",
        Say("hall", "member", "deny", ["post.write"]),
    )
    named = small(tmp_path, ranks=[rank("over-all", "member.lock"), *RANKS], given=[held("lea", "lead")])
    assert "9.7c" in rules(named, "lea", Say("hall", "member", "deny", ["member.lock"]))


class TestWhoSomebodyIs:
    def test_nobody_takes_what_is_anothers(self, brook: Place) -> None:
        known = MemberSet("dara", {"user_name": "Dara@Mill", "external_id": "mill:7"})
        said = "Set the user name of Dara Fenwick: that is the owner's alone."
        assert said in [refusal.why for refusal in brook.open().plan(known, by="dara").refusals]
        plan = brook.open().plan(known)
        assert "set user name, external id of Dara Fenwick" in str(plan.what)
        plan.apply()
        c = brook.open()
        for fields in (
            {"user_name": "dara@mill"},
            {"user_name": "DARA"},  # against keys too
            {"external_id": "MILL:7"},
            {"email": c.member("dara").email.upper()},
        ):
            for edit in (MemberSet("tove", fields), MemberAdd("ulla", fields)):
                for by in ("ines", None):
                    assert "9.16" in {each.rule for each in c.plan(edit, by=by).refusals}, (edit, by)
        with pytest.raises(RefusedError, match=r"user name of Dara Fenwick \(dara\)"):
            c.plan(MemberSet("tove", {"user_name": "dara@mill"})).apply()

    def test_nobody_new_has_the_key_of_a_rank(self, brook: Place) -> None:
        with pytest.raises(EditError, match="key of a rank"):
            brook.open().plan(MemberAdd("host"))

    @pytest.mark.parametrize("number", UNSEEN)
    def test_no_name_holds_a_character_that_cannot_be_seen(self, brook: Place, number: int) -> None:
        sign = chr(number)
        for edit in (MemberSet("tove", {"name": f"Bo{sign}ss"}), RankRename("host", title=f"Bo{sign}ss")):
            with pytest.raises(AskAboveError, match="cannot be seen"):
                brook.open().plan(edit)
        brook.open().plan(MemberSet("tove", {"name": "\u0646\u200c\u0646 Łukasz Größe"}))


class TestAJournalOneCanHoldAgainstSomebody:
    def test_it_has_the_key_and_the_name_as_it_was_then(self, brook: Place) -> None:
        brook.open().plan(MemberSet("bram", {"name": "Boss"}), by="bram").apply()
        brook.open().plan(MemberSet("bram", {"name": "Bram"}), by="bram").apply()
        assert [(e.who, e.name) for e in brook.open().journal()[1:]] == [("bram", "Bram Ashby"), ("bram", "Boss")]
        brook.open().plan(MemberForget("bram")).apply()
        assert {e.name for e in brook.open().journal()[1:3]} == {"stranger-1"}

    def test_moments_are_in_microseconds(self, brook: Place) -> None:
        for n in range(2):
            brook.open().plan(MemberSet("bram", {"note": f"{n}"})).apply()
        moments = [e.at for e in brook.open().journal()]
        assert moments == sorted(set(moments))
        assert all("." in at for at in moments)

    @pytest.mark.parametrize(
        "edit",
        [
            GroupSet("upper-team", {"title": "Upper reach team"}),
            PlaceSet("notices", {"title": "Notices"}),
            RankRename("host", title="Board host"),
            RankSet("host", {"grants": ["place.pin"]}),
            CharterSet("title", "Wren Valley River Watch"),
            Assign("bram", "host"),
        ],
    )
    def test_a_change_that_differs_in_nothing_leaves_no_entry(self, brook: Place, edit: Any) -> None:
        c = brook.open()
        if isinstance(edit, RankSet):
            edit = RankSet("host", {"grants": list(c.charter.ranks["host"].grants)})
        plan = c.plan(edit)
        assert plan.is_empty
        with pytest.raises(EditError, match="Nothing would change"):
            plan.apply()
        assert not (brook.folder / "register.db").exists()

    def test_what_happened_to_somebody_as_far_as_one_may_see(self, brook: Place) -> None:
        brook.open().plan(MemberSet("bram", {"email": "new@river.example"}), by="ines").apply()
        brook.open().plan(Unassign("bram", "host"), by="ada").apply()
        c = brook.open()
        told = [(event.what, event.by) for event in c.history("bram").events][-2:]
        assert told[0][0].startswith("address: ")
        assert told[0][0].endswith("→ new@river.example")
        assert told[1] == ("Board host on the whole site unassigned", "ada")
        hidden = c.history("bram", viewer="tove")
        assert hidden.hidden
        assert "new@river.example" not in str(hidden)
        assert "address changed" in str(hidden)
        assert "unassigned" in str(hidden)


class TestUndoing:
    @pytest.mark.slow
    def test_what_was_added_goes_wherever_it_was_moved_since(self, brook: Place) -> None:
        before = brook.charter
        added = brook.open().plan(RankAdd("helper", {"title": "Helper"}, below="host"), why="x").apply(force=True)
        brook.open().plan(RankMove("helper", above="warden"), why="x").apply(force=True)
        undo(brook.open().home, added.number, why="x").apply(force=True)
        assert "helper" not in brook.open().charter.ranks
        assert brook.charter == before

    @pytest.mark.slow
    def test_of_two_moves_the_first_names_the_one_that_is_in_the_way(self, brook: Place) -> None:
        first = brook.open().plan(RankMove("host", above="warden"), why="x").apply(force=True)
        second = brook.open().plan(RankMove("host", below="volunteer"), why="x").apply(force=True)
        with pytest.raises(EditError, match=rf"ask-above undo {second.number}"):
            undo(brook.open().home, first.number)
        for entry in (second, first):
            undo(brook.open().home, entry.number, why="x").apply(force=True)

    def test_what_something_outside_holds_is_undone_by_the_owner_alone_and_those_named_may(self, brook: Place) -> None:
        from ask_above.change.syncing import GroupGives, Outsider, Sync
        from ask_above.workspace.plans import plan

        person = Outsider("1", "ida", "Ida Reed", "ida@x.example", frozenset({"g"}))
        sync = plan(brook.open().home, [Sync("mill", [person], [GroupGives("g", "surveyor")])])
        sync.source = "mill"
        sync.apply()
        refused = undo(brook.open().home, by="ada")
        assert refused.refusals
        assert refused.could == ["Ines Moor"]
        assert not undo(brook.open().home, by="ines").refusals
        assert not undo(brook.open().home).refusals

    def test_a_forgetting_is_never_undone(self, brook: Place) -> None:
        entry = brook.open().plan(MemberForget("tove")).apply()
        for number in (entry.number, None):
            with pytest.raises(EditError):
                undo(brook.open().home, number)


def test_a_new_end_alone_leaves_the_start_and_says_both(brook: Place) -> None:
    brook.open().plan(Assign("tove", "host", since="2099-01-01")).apply()
    plan = brook.open().plan(Assign("tove", "host", until="2099-06-30"))
    assert "from 1 Jan 2099 through 30 Jun 2099" in plan.what
    plan.apply()
    assert not brook.open().may("tove", "place.pin", at="notices")
    assert brook.open().may("tove", "place.pin", at="notices", when="2099-02-01")


@pytest.mark.parametrize("edit", [PlaceRemove("site"), PlaceMove("site", "commons", True)])
def test_the_site_itself_is_neither_removed_nor_moved(brook: Place, edit: Any) -> None:
    with pytest.raises(EditError, match="The site itself cannot be"):
        brook.open().plan(edit)


class TestForgetting:
    def test_a_name_is_looked_for_as_a_word(self, tmp_path: Path) -> None:
        c = small(tmp_path, members=[*CAST, member("zz", name="Mal")], title="A small site")
        assert not c.plan(MemberForget("zz")).refusals
        named = small(tmp_path, members=[*CAST, member("zz", name="Mal")], title="Ask Mal about it")
        with pytest.raises(EditError, match=r"charter.yaml still names Mal on line \d+"):
            named.plan(MemberForget("zz"))

    def test_who_may_not_do_it_is_told_nothing_of_the_files(self, tmp_path: Path) -> None:
        c = small(tmp_path, members=[*CAST, member("zz", name="Mal")], title="Ask Mal about it")
        with pytest.raises(RefusedError) as refused:
            c.plan(MemberForget("zz"), by="ann").apply()
        assert "line" not in str(refused.value)

    def test_whoever_has_nothing_but_a_key_is_forgotten_by_the_owner_alone(self, tmp_path: Path) -> None:
        c = small(tmp_path, members=[*CAST, {"key": "bare", "status": "retired"}])
        assert c.plan(MemberForget("bare"), by="boss").refusals
        c.plan(MemberForget("bare"), by="own").apply()
        assert "bare" not in Community.open(tmp_path).register.members
