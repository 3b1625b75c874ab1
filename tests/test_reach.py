"""What a change takes: the usual edits of a warden, a host and the owner, and the ways that must not lead past it."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import pytest

from ask_above import AskAboveError, Community, RefusedError
from ask_above.change import (
    Assign,
    Edit,
    EditError,
    Grant,
    HandOver,
    MemberAdd,
    MemberSet,
    MemberStatus,
    PlaceAdd,
    PlaceMove,
    PlaceRemove,
    PlaceSet,
    RankAdd,
    RankMove,
    RankRemove,
    RankRename,
    RankSet,
    Realign,
    Say,
    SetGate,
    SetLike,
    Unassign,
    Withdraw,
    Withhold,
    difference,
)
from ask_above.change import parts as differ
from ask_above.change.difference import Difference
from ask_above.change.importing import COLUMNS, Import
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Perk, Rank
from ask_above.charter.places import Group, OverrideSet, Place
from ask_above.files.csv_rows import read_rows
from ask_above.people.register import Assignment, Member
from ask_above.workspace.undoing import undo
from conftest import Place as Folder
from small import held, member, rank, texts

# what wardens, hosts and the owner do most, and why not where they may not
USUAL: list[tuple[str, Any, str]] = [
    ("ada", MemberStatus("lena", "active"), ""),
    ("ada", MemberAdd("ulla", {"name": "Ulla Ness"}), ""),
    ("ada", Assign("tove", "host", "commons"), ""),
    ("ada", Assign("tove", "surveyor"), ""),
    ("ada", Assign("tove", "editor"), "9.7a"),  # she does not hold what editors do
    ("ada", Assign("tove", "warden"), "6.3"),  # her own rank
    ("ada", Unassign("bram", "host"), ""),
    ("ada", SetGate("rota", {"any": ["field-teams", "warden+"]}), ""),  # a private room
    ("ada", SetLike("river-talk", ["read-only"]), ""),  # a read-only room
    ("ada", Say("river-talk", "tove", "bar", ["post.write"], True), ""),
    ("ada", Say("site", "member", "deny", ["photo.upload"]), ""),  # withheld from all
    ("ada", Withdraw("photo.upload"), ""),
    ("ada", Grant("host", ["kit.lend"]), ""),
    ("ada", Grant("host", ["contact.export"]), "9.7a"),
    ("ada", RankAdd("helper", {"title": "Helper", "grants": ["place.pin"]}), ""),
    ("ada", RankAdd("deputy", {"grants": ["place.pin"]}, above="warden"), "6.3"),
    ("ada", RankMove("founding-friend", below="host"), ""),
    ("ada", RankSet("host", {"limit": "3"}), "9.3"),  # the owner's alone
    ("ada", MemberSet("tove", {"email": "tove@river.example"}), ""),
    ("ada", MemberSet("olaf", {"email": "olaf@river.example"}), "6.3"),
    ("ada", MemberSet("rosa", {"groups": "lower-team"}), ""),  # out of a team
    ("ada", MemberStatus("tove", "locked"), ""),
    ("ada", MemberStatus("niko", "active"), ""),
    ("ada", PlaceAdd("tide-talk", "board", "commons"), ""),
    ("ada", PlaceMove("river-talk", "journal", True), "9.7a"),  # the editors would gain what she has not
    ("ada", Realign("lower-gauges"), "9.7b"),  # she would gain by it herself
    ("bram", MemberSet("vesna", {"name": "Vesna H."}), ""),  # hosts set names right
    ("bram", MemberSet("vesna", {"email": "v@river.example"}), "6.2"),
    ("bram", MemberSet("bram", {"email": "b@river.example"}), "6.2"),  # one could pass for somebody else
    ("bram", MemberSet("bram", {"name": "B. Ashby"}), ""),  # one's own
    ("bram", MemberSet("bram", {"phone": "0123"}), ""),
    ("bram", MemberSet("vesna", {"phone": "0123"}), "6.2"),
    ("ada", MemberSet("ada", {"email": "a@river.example"}), ""),
    ("ada", MemberSet("tove", {"user_name": "tove"}), "9.3"),  # who somebody is says the owner
    ("ada", MemberAdd("ulla", {"external_id": "mill:7"}), "9.3"),
    ("bram", MemberSet("bram", {"kind": "bot"}), "6.7"),
    ("bram", Unassign("bram", "host"), ""),  # one's own may be given up
    ("bram", Assign("vesna", "host"), "6.2"),
    ("bram", MemberStatus("vesna", "locked"), "6.2"),
    ("bram", Say("river-talk", "vesna", "deny", ["post.write"], True), "6.2"),
    ("vesna", Assign("vesna", "volunteer"), ""),  # an open rank is joined
    ("vesna", Assign("vesna", "host"), "6.2"),
    ("wim", MemberStatus("wim", "active"), ""),  # one's own invitation
    ("lena", MemberStatus("lena", "active"), "6.1"),
    ("ines", RankSet("host", {"limit": "9"}), ""),
    ("ines", Assign("tove", "editor"), ""),
    ("ines", HandOver("olaf"), ""),
    ("ines", RankSet("host", {"moderates": {"except": ["surveyor"]}}), ""),
    ("ines", PlaceSet("photo-wall", {"kind": "board"}), ""),
    ("ines", Assign("petra", "relay-bot"), "6.8"),  # kept by something outside, for the owner too
    ("ines", Assign("tove", "reach-lead"), "6.8"),  # conditions bind the owner too
]


@pytest.fixture(scope="module")
def valley(tmp_path_factory: pytest.TempPathFactory) -> Community:
    from conftest import DEMO

    folder = tmp_path_factory.mktemp("usual") / "valley"
    shutil.copytree(DEMO, folder)
    return Community.open(folder)


@pytest.mark.parametrize(("by", "edit", "why"), USUAL, ids=lambda each: each if isinstance(each, str) else repr(each))
def test_usual_edits_are_made_or_refused_and_say_why(valley: Community, by: str, edit: Edit, why: str) -> None:
    found = valley.plan(edit, by=by).refusals
    if why:
        assert why in {each.rule for each in found}, found
    else:
        assert found == []


# -- a small society of its own: quiet takes from whoever has it, calm and loud stay apart


def society(tmp_path: Path, **charter: Any) -> Folder:
    """Head may do everything, lead some, tom is nobody; ``quiet`` denies, ``one`` may be held by one."""
    ranks = [
        rank("boss", unbounded="true"),
        rank(
            "lead",
            "post.publish",
            "post.pin",
            "member.mute",
            "member.ban",
            "rank.assign",
            "rank.manage",
            "place.manage",
        ),
        rank("apart", "post.write", apart_from=["one"]),
        rank("one", "post.write", limit="1"),
        rank("second", "post.write", after=["one"]),
        rank("friend", "post.write", open="true"),
        rank("editor", "post.publish"),
        rank("quiet"),
        rank("guest", entry="true"),
        rank("bots", "post.pin", held_by="bots"),
        rank("everyone", "place.see", "post.write", held_by="members"),
    ]
    caps = {
        "All": {
            name: f"Do {name}"
            for name in (
                "place.see",
                "post.write",
                "post.publish",
                "post.pin",
                "member.mute",
                "member.ban",
                "rank.assign",
                "rank.manage",
                "place.manage",
            )
        }
    }
    members = [
        member("ann"),
        member("lea"),
        member("tom", joined="2020-01-01"),
        member("tim", status="retired", was="active", joined="2020-01-01"),
        member("pia", status="pending"),
        member("pat", status="active", joined="2020-01-01"),
        member("bo", groups="club"),
    ]
    given = [held("ann", "boss"), held("lea", "lead"), held("tom", "quiet")]
    places = [{"key": "hall", "kind": "board", "overrides": {"quiet": {"deny": ["post.write"]}}}]
    rules = {
        "authority": {"moderate": {"using": ["member.mute"]}, "assign": {}, "manage": {}},
        "accounts": {"using": "member.ban"},
    }
    more = {
        "capabilities": caps,
        "owner": "ann",
        "rules": rules,
        "places": places,
        "groups": [{"key": "club", "confers": ["quiet"]}],
        "site": {"overrides": {"quiet": {"deny": ["post.publish"]}}},
        "bundles": {"pack": ["post.pin"]},
    } | charter
    folder = tmp_path / "society"
    folder.mkdir()
    for name, text in texts(*ranks, members=members, assignments=given, **more).items():
        (folder / name).write_text(text, encoding="utf-8")
    return Folder(folder, None)


def rules_of(place: Folder, *edits: Edit, by: str | None) -> set[str]:
    return {each.rule for each in place.open().plan(*edits, by=by).refusals}


class TestSpelling:
    """What a value is spelled like makes no difference."""

    @pytest.mark.parametrize("yes", ["true", "yes", "on", "True", "YES", True])
    @pytest.mark.parametrize("field", ["open", "on-joining"])
    def test_every_way_to_say_yes_is_held_alike(self, tmp_path: Path, yes: Any, field: str) -> None:
        there = society(tmp_path)
        assert {"9.3"} & rules_of(there, RankSet("quiet", {"unbounded": yes}), by="lea")
        assert rules_of(there, RankSet("boss", {field: yes}), by="lea")
        made = RankAdd("new", {"grants": ["post.write"], field: yes}, above="quiet")
        assert not rules_of(there, made, by="lea")
        assert rules_of(there, made, by="tom") >= {"6.2"}

    def test_fields_do_not_override_the_key(self, tmp_path: Path) -> None:
        with pytest.raises(EditError, match="key"):
            society(tmp_path).open().plan(RankAdd("decoy", {"key": "neu", "open": "true"}, above="lead"), by="tom")


class TestTime:
    """A period is given and taken for the time it newly covers, and covers no longer."""

    def test_ones_own_restraint_is_not_ended_by_another_period(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        assert rules_of(there, Unassign("tom", "quiet"), by="tom") == {"6.9"}
        with pytest.raises(EditError, match="is past"):
            there.open().plan(Assign("tom", "quiet", until="2020-01-01"), by="tom")
        assert "6.9" in rules_of(there, Assign("tom", "quiet", until="2099-01-01"), by="tom")
        assert "6.9" in rules_of(there, Assign("tom", "quiet", since="2099-01-01"), by="tom")

    def test_an_end_before_the_beginning_is_refused(self, tmp_path: Path) -> None:
        with pytest.raises(EditError, match="before it starts"):
            society(tmp_path).open().plan(Assign("pat", "friend", since="2099-02-01", until="2099-01-01"))

    def test_what_starts_later_counts_from_then(self, tmp_path: Path) -> None:
        there = society(tmp_path, expectations=["no editor may post.publish", "@pat may not post.publish"])
        plan = there.open().plan(Assign("pat", "editor", since="2099-01-01"))
        assert [(shift.gains, shift.members) for shift in plan.effect.shifts] == [(True, ("pat",))]
        assert plan.effect.day(plan.effect.shifts[0].since) == "2099-01-01"
        assert [plan.effect.day(each.since) for each in plan.broken] == ["2099-01-01", "2099-01-01"]
        with pytest.raises(RefusedError, match="from 1 Jan 2099"):
            plan.apply()
        assert rules_of(there, Assign("pat", "boss", since="2099-01-01"), by="lea") >= {"6.3"}

    def test_a_target_stands_by_what_they_will_hold(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        there.open().plan(Assign("pat", "boss", since="2099-01-01"), by="ann").apply()
        assert "6.3" in rules_of(there, MemberStatus("pat", "locked"), by="lea")

    def test_what_is_given_again_changes_nothing(self, tmp_path: Path) -> None:
        assert society(tmp_path).open().plan(Assign("tom", "quiet")).is_empty


class TestStatusAndKind:
    def test_who_waited_before_a_lock_waits_again(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        there.open().plan(MemberStatus("pia", "locked"), by="lea").apply()
        there.open().plan(MemberStatus("pia", "active"), by="lea").apply()
        assert there.open().register.members["pia"].status == "pending"

    def test_restored_to_more_than_there_was_is_vouched_for_as_well(self, tmp_path: Path) -> None:
        there = society(
            tmp_path,
            rules={
                "accounts": {"using": "member.ban"},
                "authority": {"moderate": {"using": ["member.mute"]}, "assign": {"using": "place.see"}},
            },
        )
        there.open().plan(MemberStatus("pia", "locked"), by="ann").apply()
        rows = read_rows("a.csv", b"key,status\npia,active\n", COLUMNS, ())
        plan = there.open().plan(Import(rows), by="lea")
        assert {part.row.value for part in plan.difference.parts if part.field == "status"} == {"account", "people"}

    def test_ranks_on_joining_come_once(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        there.open().plan(RankSet("friend", {"on-joining": "true"}), by="ann").apply()
        there.open().plan(MemberStatus("pia", "active"), by="lea").apply()
        assert [each.rank for each in there.open().register.of("pia")] == ["friend"]
        there.open().plan(Unassign("pia", "friend"), by="pia").apply()
        there.open().plan(MemberStatus("pia", "locked"), by="lea").apply()
        there.open().plan(MemberStatus("pia", "active"), by="lea").apply()
        assert there.open().register.members["pia"].status == "active"
        assert there.open().register.of("pia") == []

    def test_another_kind_counts_as_what_it_gives(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        assert not rules_of(there, MemberSet("pat", {"kind": "bot"}), by="lea")
        there.open().plan(Withhold("lead", ["post.pin"]), why="x").apply()
        assert "9.7a" in rules_of(there, MemberSet("pat", {"kind": "bot"}), by="lea")

    def test_who_is_retired_is_reckoned_as_if_active(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        there.open().plan(Withhold("lead", ["post.pin"]), why="x").apply()
        assert {"9.7a", "9.7e"} <= rules_of(there, Say("hall", "tim", "allow", ["post.pin"], True), by="lea")

    def test_an_exception_for_somebody_who_is_not_there_is_the_owners(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        text = there.charter.replace(
            "  overrides:\n    quiet:\n      deny:\n      - post.publish",
            "  exceptions:\n    zoe:\n      allow:\n      - post.write",
        )
        before, after = (
            there.open(),
            Community.from_texts(
                {
                    "charter.yaml": text,
                    **{n: (there.folder / n).read_text() for n in ("members.csv", "assignments.csv")},
                }
            ),
        )
        from ask_above.change.reach import Reach

        states = [differ.State(c.charter, c.register) for c in (before, after)]
        found = Reach(before.decider, after.decider, Difference(states[0], states[1], 0), 0).refusals("lea")
        assert any("zoe" in each.why for each in found)


class TestSeveralAtOnce:
    def test_a_limit_counts_all_of_a_change(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        assert rules_of(there, Assign("tom", "one"), Assign("pat", "one"), by="ann") == {"6.8"}
        assert not rules_of(there, Assign("pat", "one"), by="ann")

    def test_ranks_that_stay_apart_are_seen_in_one_change(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        assert rules_of(there, Assign("pat", "one"), Assign("pat", "apart"), by="ann") == {"6.8"}

    def test_what_was_there_before_or_comes_with_it_fulfils_a_condition(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        assert rules_of(there, Assign("pat", "second"), by="ann") == {"6.8"}
        assert not rules_of(there, Assign("pat", "one"), Assign("pat", "second"), by="ann")
        there.open().plan(Assign("pat", "one"), by="ann").apply()
        assert not rules_of(there, Unassign("pat", "one"), Assign("pat", "second"), by="ann")

    def test_one_row_of_an_import_hides_nothing_of_another(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        rows = read_rows("a.csv", b"key,groups,status\npat,club,active\nbo,,active\ntom,club,retired\n", COLUMNS, ())
        assert {"6.2"} <= rules_of(there, Import(rows), by="pat")


class TestNamedElsewhere:
    def test_removing_what_others_fields_name_is_an_edit_of_those_fields(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        assert "9.3" in rules_of(there, RankRemove("one"), by="lea")
        assert not rules_of(there, RankRemove("editor"), by="lea")

    def test_removing_a_place_takes_the_assignments_there(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        there.open().plan(Assign("pat", "boss", "hall"), by="ann").apply()
        assert "6.3" in rules_of(there, PlaceRemove("hall"), by="lea")

    def test_a_bundle_of_the_rules_is_the_owners(self, tmp_path: Path) -> None:
        for using, owners in (("pack", True), ("member.mute", False)):
            where = tmp_path / using
            where.mkdir()
            there = society(where, rules={"authority": {"moderate": {"using": [using]}}})
            before = there.open()
            texts_after = {
                n: (there.folder / n).read_text() for n in ("charter.yaml", "members.csv", "assignments.csv")
            }
            texts_after["charter.yaml"] = texts_after["charter.yaml"].replace(
                "  pack:\n  - post.pin", "  pack:\n  - post.write"
            )
            after = Community.from_texts(texts_after)
            states = [differ.State(c.charter, c.register) for c in (before, after)]
            (row,) = {p.row for p in Difference(states[0], states[1], 0).parts if p.kind is differ.Kind.BUNDLE}
            assert (row is differ.EditRow.OWNER) is owners


class TestUndo:
    @pytest.mark.slow
    def test_what_the_owner_closed_is_not_opened_again_by_another(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        there.open().plan(RankSet("boss", {"open": "true"}), by="ann").apply()
        closed = there.open().plan(RankSet("boss", {"open": None}), by="ann").apply()
        assert undo(there.open().home, closed.number, by="lea").refusals
        assert not undo(there.open().home, closed.number, by="ann").refusals

    def test_who_was_given_something_since_is_not_taken_out(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        added = there.open().plan(MemberAdd("zoe"), by="lea").apply()
        assert not undo(there.open().home, added.number, by="lea").refusals
        assert "9.3" in {each.rule for each in undo(there.open().home, added.number, by="pat").refusals}
        there.open().plan(Assign("zoe", "friend"), by="lea").apply()
        with pytest.raises(EditError, match="given friend since"):
            undo(there.open().home, added.number, by="lea")
        assert "zoe" in there.open().register.members

    def test_conditions_hold_for_taking_back_too(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        there.open().plan(Assign("pat", "one"), by="ann").apply()
        taken = there.open().plan(Unassign("pat", "one"), by="ann").apply()
        there.open().plan(Assign("pat", "apart"), by="ann").apply()
        assert {each.rule for each in undo(there.open().home, taken.number, by="ann").refusals} == {"6.8"}


class TestTheOwnerAndTheKeeper:
    @pytest.mark.parametrize("status", ["locked", "retired", "pending", "invited"])
    def test_the_owner_is_never_anything_but_active(self, tmp_path: Path, status: str) -> None:
        there = society(tmp_path)
        rows = read_rows("a.csv", f"key,status\nann,{status}\n".encode(), COLUMNS, ())
        for edits in ([MemberStatus("ann", status)], [Import(rows)]):
            with pytest.raises(EditError, match="owner"):
                there.open().plan(*edits)
        text = (there.folder / "members.csv").read_text().replace("ann,Ann,,,", f"ann,Ann,,,{status}", 1)
        (there.folder / "members.csv").write_text(text)
        with pytest.raises(AskAboveError, match="owner"):
            there.open()

    def test_an_owner_who_is_not_in_the_register_is_a_fault(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        (there.folder / "charter.yaml").write_text(there.charter.replace("owner: ann", "owner: zoe"))
        with pytest.raises(AskAboveError, match="'zoe' is not in the register"):
            there.open()

    def test_an_empty_name_is_never_the_keeper(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        for name in ("", " "):
            with pytest.raises(EditError, match="Nobody is named"):
                there.open().plan(MemberStatus("tom", "locked"), by=name)

    def test_the_keeper_passes_conditions_by_with_a_reason_alone(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        plan = there.open().plan(Assign("pat", "second"))
        with pytest.raises(RefusedError, match="given only to someone who has One"):
            plan.apply()
        with pytest.raises(RefusedError, match="needs a reason"):
            plan.apply(force=True)
        entry = there.open().plan(Assign("pat", "second"), why="Agreed").apply(force=True)
        assert entry.forced

    def test_what_is_kept_outside_binds_the_keeper_too(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        there.open().plan(RankSet("editor", {"kept-by": "the feed"}), by="ann").apply()
        for edit in (Assign("pat", "editor"), RankSet("editor", {"title": "X"})):
            assert there.open().plan(edit, why="x").refusals
        assert not there.open().plan(RankSet("editor", {"kept-by": None}), by="ann").refusals

    def test_expectations_are_passed_by_by_the_owner_and_the_keeper_alone(self, tmp_path: Path) -> None:
        there = society(tmp_path, expectations=["editor may post.publish"])
        edit = Withhold("editor", ["post.publish"])
        for by, may in (("lea", False), ("ann", True), (None, True)):
            plan = there.open().plan(edit, by=by, why="x")
            assert plan.broken
            assert plan.may_pass is may
            if not may:
                with pytest.raises(RefusedError, match="Only the owner"):
                    plan.apply(force=True)


class TestReversal:
    def test_a_change_that_its_maker_could_not_take_back_says_who_could(self, valley: Community) -> None:
        assert valley.plan(Withdraw("photo.upload"), by="ada").lasting == ["Ines Moor", "Olaf Tarn"]
        assert valley.plan(MemberSet("tove", {"name": "T"}), by="ada").lasting == []


class TestTheDifference:
    def test_every_field_of_charter_and_register_has_a_row(self) -> None:
        tables: dict[Any, Any] = {
            Rank: differ.RANK_ROWS,
            Place: differ.PLACE_ROWS,
            Member: differ.MEMBER_ROWS,
            Charter: differ.CHARTER_ROWS,
            Group: differ.GROUP_ROWS,
            OverrideSet: differ.SET_ROWS,
            Perk: differ.PERK_ROWS,
        }
        for kind, rows in tables.items():
            assert set(kind._fields) == set(rows), kind
        assert set(Assignment._fields) == {
            "member", "rank", "place", "period", "by", "why", "where", "number", "source",
        }  # fmt: skip

    def test_a_field_without_a_row_is_the_owners_alone(
        self, valley: Community, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        rows = {key: row for key, row in differ.RANK_ROWS.items() if key != "badge"}
        monkeypatch.setattr(difference, "RANK_ROWS", rows)
        refused = valley.plan(RankSet("host", {"badge": "*"}), by="ada").refusals
        assert [each.rule for each in refused] == ["9.3"]

    def test_a_key_that_is_changed_with_every_reference_is_a_rename_and_turns_nothing(self, valley: Community) -> None:
        plan = valley.plan(RankRename("host", new_key="greeter"), by="ada")
        assert [(part.field, part.row.value) for part in plan.difference.parts] == [("key", "manage")]
        assert not plan.difference.given
        assert not plan.effect
        assert plan.refusals == []

    def test_only_comments_and_order_of_words_make_no_difference(self, tmp_path: Path) -> None:
        there = society(tmp_path)
        before = there.open()
        (there.folder / "charter.yaml").write_text("# a comment\n" + there.charter)
        after = there.open()
        states = [differ.State(c.charter, c.register) for c in (before, after)]
        assert not Difference(states[0], states[1], 0)


def test_what_ends_between_plan_and_change_is_not_passed_over(tmp_path: Path) -> None:
    there = society(tmp_path)
    there.open().plan(Assign("pat", "editor", until="2099-01-01"), by="ann").apply()
    plan = there.open().plan(Assign("pat", "friend"), by="lea")
    later = 4_200_000_000_000_000  # in 2103
    assert plan.is_overtaken(plan.at) is False
    assert plan.is_overtaken(later) is True
