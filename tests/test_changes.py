"""Changes: planned, held to the rules, made whole, journalled, taken back."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from pathlib import Path
from threading import Event, Thread
from typing import Any

import pytest
from soak.imported import as_it_is

from ask_above import Community, FaultyFilesError, UnknownNameError
from ask_above.change import (
    Assign,
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
)
from ask_above.workspace.plans import RefusedError
from ask_above.workspace.storage import ChangedMeanwhileError
from ask_above.workspace.undoing import undo
from conftest import DEMO, Place, assert_files_say_the_same
from seeds import seeds

EVERY_EDIT: list[Any] = [
    Grant("host", ["kit.lend"]),
    Withhold("volunteer", ["photo.upload"]),
    Withdraw("photo.upload"),
    RankAdd("helper", {"title": "Helper: new", "grants": ["place.pin"]}, above="volunteer"),
    RankAdd("junior", {}, copy_of="host"),
    RankMove("founding-friend", below="host"),
    RankRename("founding-friend", title="Old friend"),
    RankRename("host", new_key="greeter"),
    RankSet("host", {"color": "#257292", "badge": None, "limit": "9"}),
    RankRemove("newcomer"),
    RankSet("volunteer", {"open": None}),
    RankMove("host", above="founding-friend"),
    PlaceAdd("tide-talk", "board", "alder-mouth", {"title": "Tide talk"}),
    PlaceMove("river-talk", "field", keep=True),
    PlaceMove("welcome", "site", keep=False),
    PlaceSet("photo-wall", {"title": "Wall of photos"}),
    PlaceRemove("alder-board"),
    Say("notices", "member", "deny", ["thread.close"]),
    Say("welcome", "volunteer+", "allow", ["place.pin"]),
    Say("rota", "tove", "bar", ["post.write"], member=True),
    Say("river-talk", "otto", "clear", member=True),
    SetGate("rota", {"any": ["field-teams", "warden+"]}),
    SetGate("landowners", {}),
    SetLike("welcome", ["read-only"]),
    Realign("lower-gauges"),
    Assign("tove", "host", "commons", until="2027-03-01"),
    Assign("dara", "editor", "commons", only=True),
    Unassign("bram", "host"),
    MemberAdd("ulla", {"name": "Ulla Ness", "email": "ulla@wren-valley.example", "groups": "samplers"}),
    MemberStatus("lena", "active"),
    MemberStatus("tove", "retired", "dara"),
    MemberSet("tove", {"note": "Away until May", "groups": "lower-team"}),
    HandOver("olaf"),
]


@pytest.mark.parametrize("edit", EVERY_EDIT, ids=lambda edit: f"{type(edit).__name__}-{edit[0]}")
@pytest.mark.slow
def test_every_edit_does_what_its_plan_says_and_is_taken_back_byte_for_byte(brook: Place, edit: Any) -> None:
    before, first = brook.charter, brook.open()
    plan = first.plan(edit, why="a try")
    assert brook.charter == before  # a plan changes nothing
    assert not (brook.folder / "register.db").exists()
    entry = plan.apply(force=True)
    assert plan.what in entry.what
    now = brook.open()
    assert [tuple(row) for row in Community(plan.after.charter, plan.after.register).impact(now).rows()] == []
    assert_files_say_the_same(brook.folder, now)
    assert set(_told(first, now)) == set(plan.effect.rows())
    undo(now.home, why="back").apply(force=True)
    assert brook.charter == before
    assert_files_say_the_same(brook.folder, first)
    assert not first.impact(brook.open()).shifts
    lines = [line for line in plan.texts["charter.yaml"].splitlines() if line not in before.splitlines()]
    assert len(lines) <= 12  # an edit touches the lines concerned


@pytest.mark.parametrize("edit", EVERY_EDIT, ids=lambda edit: f"{type(edit).__name__}-{edit[0]}")
def test_a_name_that_is_not_there_is_said_with_the_nearest_and_nothing_else_happens(brook: Place, edit: Any) -> None:
    before, community = brook.charter, brook.open()
    free = {"title", "since", "until", "why", "kind", "written"}
    if isinstance(edit, RankAdd | PlaceAdd | MemberAdd | RankRename):
        free |= {"key", "new_key"}
    names = [name for name, value in edit._asdict().items() if isinstance(value, str) and value and name not in free]
    for name in names:
        with pytest.raises((UnknownNameError, EditError), match="zzz"):
            community.plan(edit._replace(**{name: "zzz"}))
    assert brook.charter == before


def _told(one: Community, other: Community) -> list[Any]:
    return list(one.impact(other).rows())


def test_changes_are_made_in_file_and_register_and_journalled(river: Place) -> None:
    plan = river.open().plan(Grant("host", ["kit.lend"]), Assign("tove", "host"), by="ines", why="Spring")
    entry = plan.apply()
    assert "grants: [calming, thread.close, place.pin, kit.lend]" in river.charter
    community = river.open()
    assert community.may("tove", "kit.lend")
    journal = community.home.store.entries()
    assert [each.kind for each in journal] == ["import", "change"]
    assert (journal[1].who, journal[1].why, journal[1].number) == ("ines", "Spring", entry.number)
    assert any("kit.lend" in line for line in journal[1].effect)
    undo(community.home).apply()
    assert river.charter == (DEMO / "charter.yaml").read_text("utf-8")
    assert not river.open().may("tove", "kit.lend")
    assert [each.kind for each in river.open().home.store.entries()] == ["import", "change", "undo"]


def test_every_question_gives_the_same_from_files_and_from_both_databases(river: Place) -> None:
    before = Community.open(DEMO)
    river.open().plan(MemberSet("tove", {"note": "x"})).apply()
    after = river.open()
    assert not before.impact(after)
    assert list(after.register.members) == list(before.register.members)
    assert [e[:6] for e in after.register.assignments] == [e[:6] for e in before.register.assignments]


class TestReach:
    """Rule 9: each within their own reach."""

    def test_a_refusal_says_why_and_who_could(self, brook: Place) -> None:
        plan = brook.open().plan(Assign("dara", "warden"), by="petra")
        with pytest.raises(
            RefusedError,
            match=r"Petra Lind \(Surveyor\) may not assign River warden to Dara Fenwick .* Ines Moor or Olaf Tarn may",
        ):
            plan.apply()
        assert {each.rule for each in plan.refusals} == {"6.2", "6.3", "9.7a"}

    @pytest.mark.parametrize(
        ("by", "edit", "rule"),
        [
            ("ada", RankSet("host", {"limit": "3"}), "9.3"),  # the owner's alone
            ("ada", HandOver("ada"), "9.3"),
            ("ada", RankMove("host", above="warden"), "6.3"),  # above oneself
            ("ada", Grant("steward", ["post.write"]), "6.3"),
            ("ada", Grant("warden", ["contact.export"]), "6.3"),  # one's own rank
            ("ada", Grant("host", ["contact.export"]), "9.7a"),  # what one does not hold
            ("ada", Say("notices", "steward", "deny", ["post.write"]), "9.7c"),  # names who does not stand below
            ("ada", Say("field", "warden", "allow", ["contact.export"]), "9.7e"),
            ("bram", Say("notices", "volunteer", "allow", ["post.write"]), "6.2"),
            ("bram", MemberStatus("tove", "locked"), "6.2"),
            ("ada", MemberStatus("tove", "locked"), None),
            ("olaf", MemberStatus("tove", "locked"), None),
            ("lena", Assign("tove", "host"), "6.1"),
            ("vesna", Assign("vesna", "volunteer"), None),  # an open rank is joined
            ("vesna", Assign("vesna", "host"), "6.2"),
            ("ada", MemberStatus("lena", "active"), None),
            ("ada", RankSet("host", {"open": "true"}), "9.7a"),  # behind a gate that is shut to her
            ("ada", RankSet("editor", {"open": "true"}), "6.6"),  # as if given to everybody
            ("ines", Assign("petra", "relay-bot"), "6.8"),  # kept by something outside, for the owner too
        ],
    )
    def test_each_part_of_a_change_takes_what_it_takes(
        self, brook: Place, by: str, edit: Any, rule: str | None
    ) -> None:
        found = brook.open().plan(edit, by=by).refusals
        if rule is None:
            assert found == []
        else:
            assert rule in {each.rule for each in found}, found

    def test_putting_someone_into_a_group_counts_as_giving_what_it_confers(self, brook: Place) -> None:
        found = brook.open().plan(MemberSet("tove", {"groups": "samplers"}), by="bram").refusals
        assert any("Surveyor" in each.why for each in found)

    def test_putting_oneself_into_a_group_gains_nothing_by_what_places_say_of_it(self, brook: Place) -> None:
        for who, gained in (("ada", True), ("bram", False)):
            plan = brook.open().plan(MemberSet(who, {"groups": "alder-team"}), by="ada")
            assert bool(plan.refusals) is gained, plan.refusals
        refused = brook.open().plan(MemberSet("ada", {"groups": "alder-team"}), by="ada").refusals
        assert "Ada Marsh would gain" in str(refused[0])

    def test_a_rank_that_is_made_carries_no_more_than_its_maker_holds(self, brook: Place) -> None:
        made = {
            name: brook.open().plan(RankAdd("x", {"grants": [name]}), by="ada") for name in ("kit.lend", "site.restart")
        }
        assert not made["kit.lend"].refusals
        assert "x would gain site.restart on the whole site, which Ada Marsh does not hold" in str(
            made["site.restart"].refusals
        )
        assert not brook.open().plan(RankRename("host", new_key="greeter"), by="ada").refusals


class TestSafety:
    def test_what_breaks_an_expectation_is_refused_unless_forced_with_a_reason(self, brook: Place) -> None:
        edit = Withhold("editor", ["post.publish"])
        with pytest.raises(RefusedError, match=r"editor may post\.publish in front-page"):
            brook.open().plan(edit).apply()
        with pytest.raises(RefusedError, match="needs a reason"):
            brook.open().plan(edit).apply(force=True)
        assert brook.open().plan(edit, why="The journal rests").apply(force=True).forced

    def test_a_change_that_would_leave_a_faulty_charter_is_refused(self, brook: Place) -> None:
        for edit, part in (
            (RankSet("host", {"colour": "red"}), "no field 'colour'"),
            (RankSet("host", {"limit": "many"}), "limit"),
            (PlaceAdd("notices", "board"), "already"),
            (RankAdd("host", {}), "host"),
            (RankRemove("warden"), "names River warden|asks for River warden"),
            (PlaceRemove("notices"), "expectation"),
            (Grant("host", ["kit.lent"]), "Nearest: kit.lend"),
            (PlaceMove("commons", "notices", keep=True), "into itself"),
            (MemberAdd("Ulla"), "cannot be the key"),
            (MemberSet("tove", {"email": "tove"}), "no e-mail address"),
        ):
            with pytest.raises((EditError, UnknownNameError), match=part):
                brook.open().plan(edit)
        assert brook.charter == (DEMO / "charter.yaml").read_text("utf-8")

    def test_two_plans_on_the_same_state_are_never_both_made(self, river: Place) -> None:
        river.open().plan(MemberSet("tove", {"note": "first"})).apply()
        one = river.open().plan(Grant("host", ["kit.lend"]))
        other = river.open().plan(Grant("host", ["kit.borrow"]))
        one.apply()
        with pytest.raises(ChangedMeanwhileError):
            other.apply()
        assert "kit.lend" in river.charter
        assert [each.kind for each in river.open().home.store.entries()] == ["import", "change", "change"]

    def test_a_hand_edit_is_journalled_with_its_difference_and_can_be_taken_back(self, brook: Place) -> None:
        brook.open().plan(MemberSet("tove", {"note": "x"})).apply()
        text = brook.charter.replace("title: Notices", "title: News")
        (brook.folder / "charter.yaml").write_bytes(text.encode())
        plan = brook.open().plan(Grant("host", ["kit.lend"]))
        assert list(plan.snapshot.by_hand) == ["charter.yaml"]
        plan.apply()
        entries = brook.open().home.store.entries()
        assert [each.kind for each in entries] == ["import", "change", "hand", "change"]
        assert "News" in str(entries[2].splices)
        undo(brook.open().home, entries[2].number).apply()
        assert "title: Notices" in brook.charter
        assert "kit.lend]" in brook.charter

    def test_a_hand_edit_between_plan_and_change_is_not_overwritten(self, brook: Place) -> None:
        brook.open().plan(MemberSet("tove", {"note": "x"})).apply()
        plan = brook.open().plan(Grant("host", ["kit.lend"]))
        edited = brook.charter.replace("title: Notices", "title: News")
        (brook.folder / "charter.yaml").write_bytes(edited.encode())
        with pytest.raises(ChangedMeanwhileError):
            plan.apply()
        assert brook.charter == edited

    @pytest.mark.slow
    def test_what_later_changes_depend_on_is_not_taken_back_and_it_says_what_does(self, brook: Place) -> None:
        first = brook.open().plan(RankAdd("helper", {"title": "Helper"}, above="volunteer")).apply()
        second = brook.open().plan(Assign("tove", "helper")).apply()
        with pytest.raises(EditError, match="helper"):
            undo(brook.open().home, first.number)
        third = brook.open().plan(Grant("host", ["kit.lend"])).apply()
        fourth = brook.open().plan(Grant("host", ["gauge.see"])).apply()
        with pytest.raises(
            EditError, match=rf"{fourth.number} \(grant gauge.see to Board host\) changed the same since"
        ):
            undo(brook.open().home, third.number)
        undo(brook.open().home, second.number).apply()
        undo(brook.open().home, first.number).apply()
        with pytest.raises(EditError, match="undone already"):
            undo(brook.open().home, first.number)

    def test_the_community_as_it_was_can_be_looked_at(self, brook: Place) -> None:
        start = brook.open()
        numbers = [
            brook.open().plan(edit).apply().number for edit in (Grant("host", ["kit.lend"]), Assign("tove", "host"))
        ]
        now = brook.open()
        assert not start.impact(now.as_of(1)).shifts
        assert now.as_of(numbers[0]).may("rank:host", "kit.lend")
        assert not now.as_of(numbers[0]).may("tove", "kit.lend")
        assert now.as_of(numbers[1]).may("tove", "kit.lend")

    @pytest.mark.skipif(os.geteuid() == 0, reason="root may write anywhere")
    def test_a_folder_that_cannot_be_written_is_left_as_it_is(self, brook: Place) -> None:
        brook.folder.chmod(0o500)
        with pytest.raises(OSError, match=r".+"):
            brook.open().plan(Grant("host", ["kit.lend"])).apply()
        brook.folder.chmod(0o700)

    def test_where_the_file_cannot_be_written_the_change_is_taken_back(
        self, river: Place, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        river.open().plan(MemberSet("tove", {"note": "x"})).apply()
        before = river.charter

        def full(*_: Any) -> None:
            raise OSError(28, "No space left on device")

        plan = river.open().plan(Grant("host", ["kit.lend"]), Assign("tove", "host"))
        monkeypatch.setattr("ask_above.files.writing.FileBatch.prepare", full)
        with pytest.raises(OSError, match="No space left"):
            plan.apply()
        monkeypatch.undo()
        assert river.charter == before
        community = river.open()
        assert not community.may("tove", "kit.lend")
        assert [each.kind for each in community.home.store.entries()] == ["import", "change"]
        river.open().plan(Grant("host", ["kit.lend"])).apply()

    @pytest.mark.slow
    def test_what_was_decided_and_not_written_counts_and_is_finished_by_the_next_opening(self, river: Place) -> None:
        river.open().plan(MemberSet("tove", {"note": "x"})).apply()
        before = river.charter
        river.open().plan(Grant("host", ["kit.lend"]), Assign("tove", "host")).apply()
        after = river.charter
        home = river.open().home
        with home.store.writing() as connection:  # as if the process had died between the two
            from ask_above.store.tables import folder_files

            connection.execute(folder_files.update().values(placed=False))
        (river.folder / "charter.yaml").write_bytes(before.encode())
        assert river.open().may("tove", "kit.lend")
        assert river.charter == after
        (river.folder / "charter.yaml").write_bytes(before.encode())  # now it is an edit, as the change is in place
        assert not river.open().may("tove", "kit.lend")

    def test_an_older_schema_is_brought_up_to_date_and_a_newer_one_refused(self, brook: Place) -> None:
        import sqlalchemy as sa

        from ask_above.store.database import Store, StoreError
        from ask_above.store.tables import metadata

        brook.open().plan(MemberSet("tove", {"note": "x"})).apply()
        store = brook.open().home.store
        with store.engine.connect() as connection:
            inspector = sa.inspect(connection)
            for table in metadata.sorted_tables:
                made = {column["name"]: column["nullable"] for column in inspector.get_columns(table.name)}
                assert made == {column.name: bool(column.nullable) for column in table.columns}
        with store.writing() as connection:
            connection.execute(sa.text("UPDATE alembic_version SET version_num = '9999'"))
        with pytest.raises(StoreError, match="newer version"):
            brook.open()
        with pytest.raises(StoreError, match="cannot be read"):
            Store.in_file(brook.folder / "other.db").schema()
        assert not (brook.folder / "other.db").exists()


class TestImport:
    def csv(self, brook: Place, text: str, status: str = "", *, link: bool = False) -> Any:
        from ask_above.change.importing import COLUMNS, Import
        from ask_above.files.csv_rows import read_rows

        rows = read_rows("people.csv", text.encode(), COLUMNS, ())
        return brook.open().plan(Import(rows, status, link=link))

    @pytest.mark.parametrize("seed", seeds(24))
    def test_each_row_is_somebody_as_it_says_and_nothing_else_is_touched(self, seed: int) -> None:
        assert not list(as_it_is(seed))

    @pytest.mark.parametrize(
        ("row", "wrong"),
        [
            (",,active", "this row says nothing of who it is"),
            ("Ash,,active", "Ash is likely Ash (ash-one) or Ash (ash-two)"),
        ],
    )
    def test_a_row_that_says_not_who_it_is_makes_nobody_new(self, brook: Place, row: str, wrong: str) -> None:
        brook.open().plan(*(MemberAdd(f"ash-{n}", {"name": "Ash"}) for n in ("one", "two"))).apply()
        with pytest.raises(FaultyFilesError, match=re.escape(wrong)):
            self.csv(brook, f"name,phone,status\n{row}\n", link=True)

    def test_new_and_changed_members_are_merged(self, brook: Place) -> None:
        plan = self.csv(
            brook,
            "name,email,status\n"
            "Ulla Ness,ulla@river.example,active\n"
            "Tove Eddy-Holm,tove@wren-valley.example,\n"
            "Ulla Ness,other@river.example,pending\n",
            link=True,
        )
        assert "2 new members, 1 changed" in plan.what
        plan.apply()
        members = brook.open().register.members
        assert members["ulla-ness"].status == "active"
        assert members["ulla-ness-2"].status == "pending"
        assert members["tove"].name == "Tove Eddy-Holm"
        assert members["tove"].status == "active"
        assert any(e.rank == "volunteer" for e in brook.open().register.of("ulla-ness"))  # given on joining

    def test_every_fault_is_reported_by_line_and_nothing_half_imported(self, brook: Place) -> None:
        with pytest.raises(FaultyFilesError) as caught:
            self.csv(
                brook,
                "key,email,groups,status\nulla,ulla,,active\nulla,u@x.example,ferry,active\nbo,,,\nka,tove@wren-valley.example,,active\n",
            )
        found = {(fault.line, fault.code) for fault in caught.value.faults}
        assert found == {(2, "bad-address"), (3, "twice"), (3, "unknown-group"), (4, "missing"), (5, "twice")}
        with pytest.raises(FaultyFilesError, match="fax"):
            self.csv(brook, "key,fax\nulla,1\n")
        assert "ulla" not in brook.open().register.members

    def test_a_key_a_date_and_groups_are_held_to_the_form_of_the_register(self, brook: Place) -> None:
        with pytest.raises(FaultyFilesError) as caught:
            self.csv(brook, "key,joined,status\nBad Key,2026-01-01,active\nulla,last year,active\nvisitor,,active\n")
        found = [(fault.line, fault.code) for fault in caught.value.faults]
        assert found == [(2, "bad-key"), (3, "bad-date"), (4, "bad-key")]
        self.csv(brook, "key,groups,status\nulla, samplers ; field-teams,active\n").apply()
        assert brook.open().register.members["ulla"].groups == ("samplers", "field-teams")

    @pytest.mark.slow
    def test_hundreds_at_once_are_one_change_and_are_taken_back_as_one(self, river: Place) -> None:
        from ask_above.change.importing import COLUMNS, Import
        from ask_above.files.csv_rows import read_rows

        first = river.open().register.members
        lines = [f"m{n},M {n},m{n}@river.example,active,{'samplers' if n % 2 else ''}" for n in range(700)]
        text = "\n".join(["key,name,email,status,groups", *lines])
        river.open().plan(Import(read_rows("people.csv", text.encode(), COLUMNS, ()))).apply()
        river.open().plan(*(Assign(f"m{n}", "host", "river-talk") for n in range(700))).apply()
        now = river.open()
        assert list(now.register.members)[-1] == "m699"
        assert now.register.members["m1"].groups == ("samplers",)
        assert now.may("m5", "thread.close", at="river-talk")
        assert now.home is not None
        undo(now.home).apply()
        undo(now.home).apply()
        assert list(river.open().register.members) == list(first)

    @pytest.mark.slow
    def test_export_gives_back_what_import_reads_and_nothing_that_a_spreadsheet_runs(
        self, brook: Place, tmp_path: Path
    ) -> None:
        brook.open().plan(MemberSet("tove", {"note": "=HYPERLINK(1)"})).apply()
        run = [sys.executable, "-m", "ask_above"]
        subprocess.run(
            [*run, "export", str(tmp_path / "out"), "--community", str(brook.folder)], check=True, capture_output=True
        )
        text = (tmp_path / "out" / "members.csv").read_text("utf-8")
        assert "'=HYPERLINK(1)" in text
        assert self.csv(brook, text).is_empty


def test_while_one_plans_and_makes_with_the_others_waiting_nobody_comes_between(brook: Place) -> None:
    brook.open().plan(MemberSet("tove", {"note": "first"})).apply()
    begun, noted = Event(), list[str]()

    def another() -> None:
        begun.set()
        with brook.open().home.locked():
            brook.open().plan(MemberSet("tove", {"note": "after"})).apply()
        noted.append("another")

    with brook.open().home.locked():
        thread = Thread(target=another)
        thread.start()
        begun.wait()
        planned = brook.open().plan(MemberSet("tove", {"note": "within"}))
        time.sleep(0.2)
        planned.apply()
        noted.append("within")
    thread.join()
    assert noted == ["within", "another"]
    entries = brook.open().home.store.entries()
    assert [entry.what.split()[0] for entry in entries[-2:]] == ["set", "set"]
    assert brook.open().register.members["tove"].note == "after"
