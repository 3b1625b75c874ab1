"""One truth: what is written by hand and what is done by command are the same, and nothing is ever ignored."""

from __future__ import annotations

import gc
import json
import re
import shutil
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from itertools import count
from pathlib import Path
from typing import Any

import pytest

from ask_above import Community, EditError, FaultyFilesError
from ask_above.change import (
    Assign,
    CharterSet,
    Edit,
    Grant,
    MemberAdd,
    MemberForget,
    MemberSet,
    MemberStatus,
    RankRename,
    Unassign,
    Withhold,
)
from ask_above.change.importing import COLUMNS, Import, ImportAssignments
from ask_above.errors import StoreError
from ask_above.files.csv_rows import read_rows
from ask_above.people.reading import ASSIGNMENT_COLUMNS
from ask_above.store.database import Store
from ask_above.store.tables import HEAD
from ask_above.workspace import home
from ask_above.workspace.edited import acknowledge, take_edits
from ask_above.workspace.storage import BusyError
from ask_above.workspace.undoing import undo
from commands import run
from conftest import DEMO, Place, assert_files_say_the_same
from databases import fresh_database
from small import rank, texts

_NUMBER = count()


def begun(place: Place) -> Place:
    """With its database, after a first change."""
    place.open().plan(MemberSet("tove", {"note": "first"})).apply()
    return place


def edit(file: Path, old: str, new: str) -> None:
    text = file.read_bytes().decode()
    assert old in text
    file.write_bytes(text.replace(old, new, 1).encode())


def kinds(place: Place) -> list[str]:
    return [each.kind for each in place.open().home.store.entries()]


class TestByHandAndByCommandAreTheSame:
    @pytest.mark.parametrize("when", ["before the first change", "after it"])
    def test_a_member_locked_in_the_file_is_locked(self, brook: Place, when: str) -> None:
        if when == "after it":
            begun(brook)
        line = next(row for row in (brook.folder / "members.csv").read_text().splitlines() if row.startswith("tove,"))
        edit(brook.folder / "members.csv", line, line.replace("active", "locked"))
        c = brook.open()
        assert c.member("tove").status == "locked"
        assert not c.may("tove", "post.write", at="welcome")
        assert c.notices == ()
        c.plan(MemberStatus("tove", "active")).apply()
        assert brook.open().may("tove", "post.write", at="welcome")

    def test_every_kind_of_line_counts_and_the_next_change_journals_it_first(self, brook: Place) -> None:
        begun(brook)
        with (brook.folder / "members.csv").open("a") as out:
            out.write("ulla,Ulla Ness,ulla@wren-valley.example,person,active,2026-01-01,,\n")
        with (brook.folder / "assignments.csv").open("a") as out:
            out.write("ulla,host,commons,,2030-01-01,ines,by hand\n")
        edit(brook.folder / "assignments.csv", "bram,host", "dara,host")
        c = brook.open()
        assert c.may("ulla", "thread.close", at="notices")
        assert kinds(brook) == ["import", "change"]  # a reader writes nothing
        c.plan(Grant("host", ["kit.lend"])).apply()
        assert kinds(brook) == ["import", "change", "hand", "change"]
        entry = brook.open().home.store.entries()[2]
        assert "members.csv and assignments.csv were edited by hand" in entry.what
        assert any("thread.close" in line for line in entry.effect)
        assert_files_say_the_same(brook.folder, brook.open())
        undo(brook.open().home, 3).apply()
        assert "ulla" not in brook.open().register.members

    def test_an_edit_by_hand_is_held_to_form_names_and_the_owner_with_its_line_all_or_nothing(
        self, brook: Place
    ) -> None:
        begun(brook)
        before = brook.open()
        members = (brook.folder / "members.csv").read_text().splitlines()
        at = next(n for n, line in enumerate(members, 1) if line.startswith("tove,"))
        for old, new, line, said in (
            ("tove,Tove", "tove,Tove Eddy,x,robot,active,,,\nTo ve,Tove", at, "robot"),
            (f"\n{members[at - 1]}", f"\n{members[at - 1]},,,,,", at, "cells"),
            ("\nines,", "\ninez,", None, "there is no member 'ines'"),
            (",person,active", ",person,retired", None, "owner Ines Moor is retired"),
        ):
            text = (brook.folder / "members.csv").read_text()
            (brook.folder / "members.csv").write_text(text.replace(old, new, 1))
            with pytest.raises(FaultyFilesError, match=said) as found:
                brook.open()
            assert line is None or line in {each.line for each in found.value.faults}
            (brook.folder / "members.csv").write_text(text)
        with (brook.folder / "assignments.csv").open("a") as out:
            out.write("tove,hostt,,,,,\n")
        with pytest.raises(FaultyFilesError, match="nearest:  host"):
            brook.open()
        (brook.folder / "assignments.csv").write_text(
            (brook.folder / "assignments.csv").read_text().replace("tove,hostt,,,,,\n", "")
        )
        assert not before.impact(brook.open())

    def test_it_is_never_refused_for_what_must_stay_true_which_check_tells(self, brook: Place) -> None:
        begun(brook)
        with (brook.folder / "assignments.csv").open("a") as out:
            out.write("\n".join(f"{key},steward,,,,," for key in ("dara", "bram", "tove")) + "\n")
        c = brook.open()
        assert c.may("dara", "site.restart")
        assert "over-limit" in {each.code for each in c.advice().pieces}
        c.plan(MemberSet("dara", {"note": "x"})).apply()

    def test_a_column_that_is_not_there_leaves_what_is_held(self, brook: Place) -> None:
        begun(brook)
        brook.open().plan(MemberSet("tove", {"external_id": "42", "note": "likes boats"})).apply()
        lines = [line.split(",") for line in (brook.folder / "members.csv").read_text().splitlines()]
        assert "external_id" in lines[0]
        keep = [n for n, name in enumerate(lines[0]) if name in ("key", "name", "status")]
        short = "\n".join(",".join(row[n] for n in keep) for row in lines) + "\n"
        (brook.folder / "members.csv").write_text(short.replace("Tove Eddy", "Tove Edda"))
        tove = brook.open().member("tove")
        assert (tove.name, tove.external_id, tove.note, tove.joined) == ("Tove Edda", "42", "likes boats", "2021-12-03")

    def test_the_lines_that_say_the_same_stay_as_they_were_written(self, brook: Place) -> None:
        file = brook.folder / "members.csv"
        text = file.read_text().replace("\n", "\r\n").replace("key,name", "key, name")
        file.write_bytes(b"\xef\xbb\xbf" + text.encode())
        before = file.read_bytes().splitlines(keepends=True)
        brook.open().plan(MemberSet("tove", {"name": "Tove, now"}), MemberAdd("ulla", {})).apply()
        after = file.read_bytes().splitlines(keepends=True)
        assert [line for line in before if line not in after] == [line for line in before if line.startswith(b"tove,")]
        assert len([line for line in after if line not in before]) == 2
        assert file.read_bytes().endswith(b"\r\n")


class TestWhatStandsInAFileCounts:
    """Exactly as it stands: nothing is merged, and nothing comes back that somebody took out."""

    def test_a_charter_that_lost_most_of_its_ranks_counts_once_somebody_says_that_it_is_meant(
        self, tmp_path: Path
    ) -> None:
        file = tmp_path / "charter.yaml"
        file.write_text(texts(*(rank(key) for key in "abcde"))["charter.yaml"])
        assert run("rank", "rename", "a", "Alpha", "--yes", cwd=tmp_path).returncode == 0
        file.write_text(texts(rank("a"), rank("b"))["charter.yaml"])
        done = run("ladder", cwd=tmp_path)
        assert (done.returncode, "3 of 5 ranks are gone since the last change" in done.stderr) == (2, True)
        assert "If this is meant: ask-above journal --take charter.yaml" in " ".join(done.stderr.split())
        assert run("journal", "--take", "charter.yaml", cwd=tmp_path).returncode == 0
        assert list(Community.open(tmp_path).charter.ranks) == ["a", "b"]
        # what is the smaller part may have been taken out on purpose, and counts
        file.write_text(texts(rank("a"))["charter.yaml"])
        assert list(Community.open(tmp_path).charter.ranks) == ["a"]

    def test_a_spreadsheet_saved_late_counts_and_it_is_told_what_it_undoes(self, brook: Place) -> None:
        begun(brook)
        old = {name: (brook.folder / name).read_text() for name in ("members.csv", "assignments.csv")}
        brook.open().plan(MemberStatus("tove", "locked"), Unassign("bram", "host")).apply()
        for name, text in old.items():  # as a spreadsheet writes it: quoted, with other line breaks
            rows = [",".join(f'"{cell}"' for cell in line.split(",")) for line in text.splitlines()]
            (brook.folder / name).write_text("\r\n".join(rows) + "\r\n")
        c = brook.open()
        assert c.member("tove").status == "active"
        assert c.may("bram", "thread.close", at="notices")
        for name in old:
            assert any(each.startswith(f"{name} undoes change 3: lock Tove Eddy") for each in c.notices)
        c.plan(MemberSet("dara", {"note": "y"})).apply()
        assert kinds(brook)[-2:] == ["hand", "change"]
        assert any("undoes change 3" in each for each in brook.open().notices)  # until somebody says that it is known
        acknowledge(brook.open().home)
        assert brook.open().notices == ()
        assert_files_say_the_same(brook.folder, brook.open())

    @pytest.mark.slow
    def test_a_file_quoted_anew_says_the_same_and_is_no_edit(self, brook: Place) -> None:
        begun(brook)
        text = (brook.folder / "members.csv").read_text()
        rows = [",".join(f'"{cell}"' for cell in line.split(",")) for line in text.splitlines()]
        (brook.folder / "members.csv").write_text("\r\n".join(rows) + "\r\n")
        brook.open().plan(MemberSet("dara", {"note": "y"})).apply()
        assert "hand" not in kinds(brook)

    @pytest.mark.slow
    def test_a_word_taken_out_again_with_a_title_beside_it_is_gone(self, brook: Place) -> None:
        begun(brook)
        brook.open().plan(Grant("host", ["kit.lend"])).apply()
        edit(brook.folder / "charter.yaml", ", kit.lend]", "]")
        edit(brook.folder / "charter.yaml", "title: Notices", "title: News")
        c = brook.open()
        assert not c.may("bram", "kit.lend")
        assert any(each.startswith("charter.yaml undoes change 3: ") for each in c.notices)
        c.plan(MemberSet("dara", {"note": "y"})).apply()
        assert not brook.open().may("bram", "kit.lend")
        undo(brook.open().home, 4).apply()  # the edit is taken back, and no longer told
        assert brook.open().may("bram", "kit.lend")
        assert brook.open().notices == ()

    def test_of_changes_that_were_taken_back_before_only_the_latest_is_told(self, brook: Place) -> None:
        begun(brook)
        before = {
            name: (brook.folder / name).read_text() for name in ("charter.yaml", "members.csv", "assignments.csv")
        }
        for again in range(2):
            brook.open().plan(Grant("host", ["kit.lend"]), MemberStatus("tove", "locked")).apply()
            brook.open().plan(Assign("dara", "host", "rota")).apply()
            if not again:
                brook.open().plan(Withhold("host", ["kit.lend"]), MemberStatus("tove", "active")).apply()
                brook.open().plan(Unassign("dara", "host", "rota")).apply()
        for name, text in before.items():
            (brook.folder / name).write_text(text)
        told = {re.sub(r" change (\d+):.*", r" \1", each) for each in brook.open().notices}
        assert told == {"charter.yaml undoes 7", "members.csv undoes 7", "assignments.csv undoes 8"}

    @pytest.mark.slow
    def test_what_only_adds_to_a_change_undoes_nothing(self, brook: Place) -> None:
        begun(brook)
        brook.open().plan(Grant("host", ["kit.lend"]), RankRename("host", title="Keeper")).apply()
        edit(brook.folder / "charter.yaml", "title: Keeper", "title: Keeper of the boards")
        assert brook.open().rank("host").title == "Keeper of the boards"
        assert brook.open().notices == ()

    @pytest.mark.parametrize("database", ["sqlite", "postgresql"])
    @pytest.mark.slow
    def test_of_two_folders_the_newest_state_answers_and_an_older_edit_waits(
        self, tmp_path: Path, database: str, request: pytest.FixtureRequest
    ) -> None:
        if database == "sqlite":
            url = f"sqlite:///{tmp_path}/shared.db"
        else:
            url = fresh_database(request.getfixturevalue("postgresql"), f"shared{next(_NUMBER)}")
        one, other = (Place(tmp_path / name, url) for name in ("one", "other"))
        for place in (one, other):
            shutil.copytree(DEMO, place.folder)
        begun(one)
        assert other.open().member("tove").note == "first"
        named = json.loads((one.folder / ".ask-above.json").read_text())
        assert named["register"] == (
            "shared.db" if database == "sqlite" else url.replace("postgresql:", "postgresql+psycopg:")
        )
        assert "state" not in named
        one.open().plan(RankRename("host", title="Keeper")).apply()
        assert other.open().rank("host").title == "Keeper"
        other.open().plan(MemberSet("dara", {"note": "other"})).apply()
        assert one.open().rank("host").title == "Keeper"
        assert one.charter == other.charter
        # an edit on the newest state is recorded by the first who opens it, and so counts in both
        edit(one.folder / "charter.yaml", "title: Notices", "title: News")
        assert one.open().place("notices").title == "News"
        assert other.open().place("notices").title == "News"
        # on an older state nothing of it counts, and nothing of it is lost
        behind = other.charter
        one.open().plan(Grant("host", ["kit.lend"])).apply()
        edited = behind.replace("title: News", "title: Board of news")
        (other.folder / "charter.yaml").write_text(edited)
        for n in range(2):
            c = other.open()
            assert (c.place("notices").title, bool(c.may("rank:host", "kit.lend"))) == ("News", True)
            said = " ".join(c.notices)
            assert all(word in said for word in ("journal --edits", "journal --take charter.yaml", "undo --edits"))
            c.plan(MemberSet("dara", {"note": f"more {n}"})).apply()
        assert other.charter == edited
        take_edits(other.open().home, ["charter.yaml"])  # as it stands, without what the other did since
        for place in (one, other):
            c = place.open()
            assert (c.place("notices").title, bool(c.may("rank:host", "kit.lend"))) == ("Board of news", False)
        assert any("charter.yaml undoes change" in each for each in one.open().notices)

    @pytest.mark.slow
    def test_writing_the_newest_in_its_place_keeps_what_was_edited_beside_it(self, tmp_path: Path) -> None:
        one, other = (Place(tmp_path / name, f"sqlite:///{tmp_path}/shared.db") for name in ("one", "other"))
        for place in (one, other):
            shutil.copytree(DEMO, place.folder)
            place.open().plan(MemberSet("tove", {"note": place.folder.name})).apply()
        one.open().plan(Grant("host", ["kit.lend"])).apply()
        edit(other.folder / "charter.yaml", "title: Notices", "title: News")
        assert other.open().place("notices").title == "Notices"
        put = dict(other.open().home.drop_edits())
        assert "title: News" in (other.folder / put["charter.yaml"]).read_text()
        assert other.charter == one.charter
        assert not [each for each in other.open().notices if "charter.yaml" in each]

    @pytest.mark.parametrize("name", ["members.csv", "assignments.csv", "charter.yaml"])
    def test_a_file_that_lost_most_of_what_it_held_is_a_fault_until_that_is_confirmed(
        self, brook: Place, name: str
    ) -> None:
        begun(brook)
        edit(brook.folder / "charter.yaml", "owner: ines\n", "")
        held = (brook.folder / name).read_text()
        kept = held.splitlines(keepends=True)[:3]
        if name == "charter.yaml":
            kept = ["charter: 1\nkey: wren-valley\ncapabilities: {A: {a.b: B}}\nranks: [{key: host, grants: [a.b]}]\n"]
        for text in ["", "".join(kept)]:
            (brook.folder / name).write_text(text)
            with pytest.raises(FaultyFilesError):
                brook.open()
        if name != "charter.yaml":
            with pytest.raises(FaultyFilesError, match=f"journal --take {name}"):
                brook.open()
        if name == "assignments.csv":
            take_edits(brook.open_home(), [name])
            assert len(brook.open().register.assignments) == len(kept) - 1
        else:
            (brook.folder / name).write_text(held)
            brook.open()

    def test_a_file_that_is_missing_is_written_anew(self, brook: Place) -> None:
        begun(brook)
        brook.open().plan(MemberStatus("tove", "locked")).apply()
        charter = brook.charter
        for name in ("charter.yaml", "members.csv"):
            (brook.folder / name).unlink()
        c = brook.open()
        assert c.member("tove").status == "locked"
        assert brook.charter == charter
        assert_files_say_the_same(brook.folder, c)

    def test_a_row_of_somebody_forgotten_is_an_error(self, brook: Place) -> None:
        begun(brook)
        row = next(line for line in (brook.folder / "members.csv").read_text().splitlines() if line.startswith("tove,"))
        brook.open().plan(MemberForget("tove")).apply()
        with (brook.folder / "members.csv").open("a") as out:
            out.write(f"{row}\n")
        with pytest.raises(FaultyFilesError, match="forgotten"):
            brook.open()

    def test_who_is_made_active_by_hand_gets_no_rank_of_joining(self, brook: Place) -> None:
        begun(brook)
        with (brook.folder / "members.csv").open("a") as out:
            out.write("ulla,Ulla Ness,,person,active,,,\n")
        assert not brook.open().register.of("ulla")


class TestWhereNoFilesAreKept:
    @pytest.mark.slow
    def test_crossing_two_thousand_members_is_told_and_what_is_put_aside_can_be_merged(self, brook: Place) -> None:
        many = "key,name,status\n" + "".join(f"m{n},Member {n},active\n" for n in range(1_995))
        rows = read_rows("many.csv", many.encode(), COLUMNS, ())
        c = brook.open()
        plan = c.plan(Import(rows))
        plan.apply()
        assert "more than 2,000 members (2,055)" in " ".join(plan.home.told)
        names = {each.name for each in brook.folder.iterdir()}
        assert {"members.put-aside.csv", "assignments.put-aside.csv"} <= names
        assert not {"members.csv", "assignments.csv"} & names
        c = brook.open()
        assert len(c.register.members) == 2_055
        assert [each for each in c.notices if "ask-above import members.put-aside.csv" in each]
        # somebody puts one there again: it is told by every opening, put aside by the next change, never ignored
        (brook.folder / "members.csv").write_text("key,name\nulla,Ulla Ness\n")
        assert any(each.startswith("members.csv does not count") for each in brook.open().notices)
        brook.open().plan(MemberSet("m1", {"note": "x"})).apply()
        aside = brook.folder / "members.put-aside-2.csv"
        rows = read_rows(
            aside.name,
            aside.read_bytes().replace(b"Ness", b"Ness,active").replace(b"name\n", b"name,status\n"),
            COLUMNS,
            (),
        )
        brook.open().plan(Import(rows)).apply()
        assert brook.open().member("ulla").name == "Ulla Ness"
        given = brook.folder / "assignments.put-aside.csv"
        given.write_text(given.read_text() + "ulla,host,commons,,,,\n")
        rows = read_rows(given.name, given.read_bytes(), ASSIGNMENT_COLUMNS, ("member", "rank"))
        plan = brook.open().plan(ImportAssignments(rows))
        assert len(plan.rows) == 1
        plan.apply()
        assert brook.open().may("ulla", "thread.close", at="notices")

    @pytest.mark.slow
    def test_a_question_about_one_member_gives_the_same_read_on_demand(self, brook: Place) -> None:
        many = "key,name,status\n" + "".join(f"m{n},Member {n},active\n" for n in range(2_100))
        brook.open().plan(Import(read_rows("many.csv", many.encode(), COLUMNS, ()))).apply()
        whole, some = brook.open(), Community.open(brook.folder, on_demand=True)
        for key in ("petra", "dara", "m7"):
            for place in ("notices", "upper-gauges", "landowners"):
                for name in ("post.write", "reading.post", "member.mute", "place.see"):
                    asked = (key, name)
                    assert str(some.may(*asked, at=place)) == str(whole.may(*asked, at=place))
        assert str(some.may_assign("ada", "host", to="m7")) == str(whole.may_assign("ada", "host", to="m7"))
        assert list(some.register.members) == list(whole.register.members)
        assert some.who("member.mute", at="notices").equals(whole.who("member.mute", at="notices"))
        plan = Community.open(brook.folder, on_demand=True).plan(Assign("m7", "host", "commons"))
        assert [*plan.effect.rows()] == [*brook.open().plan(Assign("m7", "host", "commons")).effect.rows()]
        plan.apply()
        assert brook.open().may("m7", "thread.close", at="notices")

    def test_who_is_alike_is_told_by_the_rows_of_each_database(
        self, river: Place, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        monkeypatch.setattr("ask_above.workspace.location.MOST_IN_FILES", 5)
        begun(river)
        whole, some = river.open(), Community.open(river.folder, register=river.url, on_demand=True)
        by_rows, by_members = (list(c.decider.ready.alike().values()) for c in (some, whole))
        assert by_rows == by_members
        assert len(by_rows) > 20
        for field, keys in (("rank", {"host", "volunteer"}), ("place", {"site", "commons"})):
            assert some.register.naming(field, keys) == whole.register.naming(field, keys) != []
        assert some.cover().table().equals(whole.cover().table())
        del some
        gc.collect()  # its reading ends before the server does

    @pytest.mark.slow
    def test_of_many_one_is_forgotten_whole(self, brook: Place) -> None:
        many = "key,name,status\nquell,Rosalind Quell,active\n" + "".join(f"m{n},M,active\n" for n in range(2_100))
        brook.open().plan(Import(read_rows("many.csv", many.encode(), COLUMNS, ()))).apply()
        plan = Community.open(brook.folder, on_demand=True).plan(MemberForget("quell"))
        plan.apply()
        assert "They are stranger-1 from now on." in plan.home.told
        held = b"".join(each.read_bytes() for each in brook.folder.glob("register.db*"))
        assert b"stranger-1" in held
        assert b"quell" not in held.lower()

    def test_with_a_register_in_postgresql_the_files_are_put_aside(self, tmp_path: Path, postgresql: str) -> None:
        place = Place(tmp_path / "river", fresh_database(postgresql, f"aside{next(_NUMBER)}"))
        shutil.copytree(DEMO, place.folder)
        begun(place)
        assert not (place.folder / "members.csv").exists()
        assert any("ask-above import members.put-aside.csv" in each for each in place.open().notices)

    @pytest.mark.parametrize("words", [("ladder",), ("assign", "host", "tove", "--plan"), ("member", "show", "tove")])
    def test_what_one_has_to_know_of_a_file_is_told_once_by_whatever_command(
        self, brook: Place, words: tuple[str, ...]
    ) -> None:
        begun(brook)
        (brook.folder / "members.put-aside.csv").write_text("key,name\n")
        told = run(*words, cwd=brook.folder).stderr
        assert told.count("Note: members.put-aside.csv does not count") == 1

    @pytest.mark.slow
    def test_they_stay_aside_until_they_are_written_anew_by_export(self, brook: Place) -> None:
        many = "key,name,status\n" + "".join(f"m{n},Member {n},active\n" for n in range(1_995))
        brook.open().plan(Import(read_rows("many.csv", many.encode(), COLUMNS, ()))).apply()
        gone = [MemberSet(f"m{n}", {"note": "x"}) for n in range(3)]
        brook.open().plan(*gone).apply()
        with pytest.raises(EditError, match="2,000 members"):
            brook.open().home.keep_files_again()
        for number in (3, 2):
            undo(brook.open().home, number).apply()
        assert len(brook.open().register.members) == 60
        assert not (brook.folder / "members.csv").exists()
        assert run("export", ".", cwd=brook.folder).returncode == 0
        assert_files_say_the_same(brook.folder, brook.open())
        edit(brook.folder / "members.csv", "Tove Eddy", "Tove Ebb")
        assert brook.open().member("tove").name == "Tove Ebb"


@pytest.mark.parametrize(
    "words",
    [
        ("export", "."),
        ("export", "{folder}"),
        ("grid", "--sheet", "assignments.csv"),
        ("grid", "--figure", "charter.yaml"),
        ("report", "gauges.yaml"),
        ("export-table", "members.csv"),
    ],
)
def test_no_command_writes_over_a_file_that_the_community_is_read_from(brook: Place, words: tuple[str, ...]) -> None:
    for when in ("before the first change", "after it"):
        if when == "after it":
            begun(brook)
        held = {each.name: each.read_bytes() for each in brook.folder.iterdir() if each.is_file()}
        done = run(*(word.format(folder=brook.folder) for word in words), cwd=brook.folder)
        assert (done.returncode, "A community is read from" in done.stderr or "is read from" in done.stderr) == (
            2,
            True,
        )
        assert {each.name: each.read_bytes() for each in brook.folder.iterdir() if each.is_file()} == held


def gone(folder: Path) -> None:
    (folder / "register.db").unlink()


def empty(folder: Path) -> None:
    (folder / "register.db").write_bytes(b"")


def damaged(folder: Path) -> None:
    content = (folder / "register.db").read_bytes()
    (folder / "register.db").write_bytes(content[:4096] + b"\xff" * (len(content) - 4096))


def no_database(folder: Path) -> None:
    (folder / "register.db").write_text("key,name\npetra,Petra Lind\n" * 200)


def foreign(folder: Path) -> None:
    import sqlite3

    (folder / "register.db").unlink()
    connection = sqlite3.connect(folder / "register.db")
    connection.execute("CREATE TABLE songs (title TEXT)")
    connection.commit()
    connection.close()


def of_another_community(folder: Path) -> None:
    other = folder.parent / "other"
    shutil.copytree(DEMO, other)
    Community.open(other).plan(MemberSet("tove", {"note": "other"})).apply()
    shutil.copy(other / "register.db", folder / "register.db")


def in_postgresql(folder: Path) -> None:
    mark = json.loads((folder / ".ask-above.json").read_text())
    (folder / ".ask-above.json").write_text(json.dumps(mark | {"register": "postgresql+psycopg://keeper@host/river"}))
    (folder / "register.db").unlink()


class TestADatabaseThatIsNotThereIsAnError:
    @pytest.mark.parametrize(
        ("harm", "says"),
        [
            (gone, "is gone"),
            (empty, "is empty"),
            (damaged, "is damaged"),
            (no_database, "is damaged"),
            (foreign, "something else"),
            (of_another_community, "another folder"),
            (in_postgresql, "ASK_ABOVE_REGISTER"),
        ],
    )
    def test_and_never_a_fallback_to_the_files(self, brook: Place, harm: Callable[[Path], None], says: str) -> None:
        begun(brook)
        harm(brook.folder)
        held = {each.name: each.read_bytes() for each in brook.folder.iterdir() if each.is_file()}
        for what in (brook.open, lambda: Community.open(brook.folder).plan(MemberSet("tove", {"note": "y"})).apply()):
            with pytest.raises(StoreError, match=says):
                what()
        now = {each.name: each.read_bytes() for each in brook.folder.iterdir() if each.is_file()}
        assert {name: raw for name, raw in now.items() if "-" not in name.removeprefix(".ask-above")} == {
            name: raw for name, raw in held.items() if "-" not in name.removeprefix(".ask-above")
        }

    def test_one_starts_anew_from_the_files_by_a_plain_command_and_nothing_is_overwritten(self, brook: Place) -> None:
        from ask_above.workspace.anew import start_anew

        begun(brook)
        home = brook.open().home
        damaged(brook.folder)
        held = (brook.folder / "register.db").read_bytes()
        start_anew(home)
        assert (brook.folder / "register.put-aside.db").read_bytes() == held
        assert brook.open().member("tove").note == "first"
        brook.open().plan(MemberSet("tove", {"note": "anew"})).apply()
        assert kinds(brook) == ["import", "change"]

    def test_a_folder_from_somebody_else_reaches_nothing_outside_itself(self, brook: Place, tmp_path: Path) -> None:
        import sqlalchemy as sa

        from ask_above.store.tables import intent, state

        begun(brook)
        store = brook.open().home.store
        outside = tmp_path / "outside.txt"
        for letters, files in (
            ([["../../outside.txt", "taken"]], None),
            ([[str(outside), "taken"]], None),
            ([], {"../outside.txt": "taken"}),
        ):
            with store.writing() as connection:
                connection.execute(intent.delete())
                held = connection.execute(sa.select(state.c.value).where(state.c.name == "files")).scalar()
                if letters:
                    connection.execute(intent.insert().values(journal=2, files="{}", letters=json.dumps(letters)))
                if files:
                    said = json.dumps({**json.loads(held or "{}"), **files})
                    connection.execute(state.update().where(state.c.name == "files").values(value=said))
            with pytest.raises(StoreError, match="outside its folder"):
                brook.open()
            assert not outside.exists()
            with store.writing() as connection:
                connection.execute(state.update().where(state.c.name == "files").values(value=held))

    def test_only_files_that_the_charter_names_are_read_and_copied(self, brook: Place) -> None:
        (brook.folder / "secrets.yaml").write_text("password: hush-hush\n")
        begun(brook)
        edit(brook.folder / "charter.yaml", "title: Notices", "title: News")
        brook.open().plan(MemberSet("tove", {"note": "y"})).apply()
        assert b"hush-hush" not in b"".join(each.read_bytes() for each in brook.folder.glob("register.db*"))


FIRST_VERSION = {
    "members": "key, position, name, email, kind, status, joined, note",
    "assignments": "number, member, rank, place, since, until, by, why, removed",
}


def _migrations(connection: Any) -> Any:
    from alembic.config import Config

    import ask_above

    config = Config()
    config.set_main_option("script_location", str(Path(ask_above.__file__).parent / "store" / "migrations"))
    config.attributes["connection"] = connection
    return config


@pytest.mark.slow
@pytest.mark.parametrize("database", ["sqlite", "postgresql"])
def test_a_database_of_the_first_version_is_brought_up_to_date_with_a_copy_of_before(
    brook: Place, database: str, request: pytest.FixtureRequest
) -> None:
    import sqlalchemy as sa
    from alembic import command

    place = brook
    if database == "postgresql":
        place = Place(brook.folder, fresh_database(request.getfixturevalue("postgresql"), f"old{next(_NUMBER)}"))
    store = Store(place.url) if place.url else Store.in_file(brook.folder / "register.db", make=True)
    charter = brook.charter
    with store.writing() as connection:
        command.upgrade(_migrations(connection), "0001")
        people = [
            ("ines", 1, "Ines Moor", "", "person", "active", "2020-01-01", ""),
            ("tove", 2, "Tove", "", "person", "locked", "2021-01-01", ""),
        ]
        for table, columns, rows in (
            ("members", FIRST_VERSION["members"], people),
            ("assignments", FIRST_VERSION["assignments"], [(1, "tove", "host", "commons", "", "", "ines", "", None)]),
        ):
            names = columns.split(", ")
            said = sa.table(table, *(sa.column(name) for name in names))
            connection.execute(said.insert(), [dict(zip(names, row, strict=True)) for row in rows])
        files = {"charter.yaml": charter, "gauges.yaml": (brook.folder / "gauges.yaml").read_text()}
        state = sa.table("state", sa.column("name"), sa.column("value"))
        connection.execute(
            state.insert(), [{"name": "version", "value": "1"}, {"name": "files", "value": json.dumps(files)}]
        )
        journal = sa.table(
            "journal",
            *(
                sa.column(n)
                for n in ("at", "who", "kind", "what", "why", "forced", "effect", "splices", "rows", "needs")
            ),
        )
        connection.execute(
            journal.insert().values(
                at="2026-01-01",
                who="",
                kind="import",
                what="take over",
                why="",
                forced=False,
                effect="[]",
                splices="[]",
                rows="[]",
                needs="[]",
            )
        )
    store.engine.dispose()
    for name in ("members.csv", "assignments.csv"):
        (brook.folder / name).unlink()
    c = place.open()
    assert (c.member("tove").status, c.member("tove").was) == ("locked", "")
    assert [each.rank for each in c.register.assignments] == ["host"]
    c.plan(MemberSet("tove", {"external_id": "x1"})).apply()
    assert place.open().member("tove").external_id == "x1"
    if database == "sqlite":
        copy = Store.in_file(brook.folder / f"register.before-{HEAD}.db")
        with copy.engine.connect() as connection:
            assert connection.execute(sa.text("SELECT version_num FROM alembic_version")).scalar() == "0001"
            assert connection.execute(sa.text("SELECT count(*) FROM members")).scalar() == 2
        assert (brook.folder / f"register.before-{HEAD}.db").stat().st_mode & 0o777 == 0o600
    else:
        with store.engine.connect() as connection:
            assert connection.execute(sa.text(f'SELECT count(*) FROM "before_{HEAD}_members"')).scalar() == 2  # noqa: S608


@pytest.mark.parametrize("database", ["sqlite", "postgresql"])
def test_a_new_database_is_what_all_migrations_come_to(
    tmp_path: Path, database: str, request: pytest.FixtureRequest
) -> None:
    import sqlalchemy as sa
    from alembic import command

    def shape(store: Store) -> dict[str, Any]:
        looked = sa.inspect(store.engine)
        return {
            table: (
                {c["name"]: (str(c["type"]), c["nullable"]) for c in looked.get_columns(table)},
                looked.get_pk_constraint(table)["constrained_columns"],
                sorted(str(each["column_names"]) for each in looked.get_indexes(table)),
                [each["column_names"] for each in looked.get_unique_constraints(table)],
            )
            for table in looked.get_table_names()
        }

    def empty(name: str) -> Store:
        if database == "postgresql":
            return Store(fresh_database(request.getfixturevalue("postgresql"), f"{name}{next(_NUMBER)}"))
        return Store.in_file(tmp_path / f"{name}.db", make=True)

    new, old = empty("new"), empty("old")
    with new.writing() as connection:
        new.make_on(connection)
    with old.writing() as connection:
        command.upgrade(_migrations(connection), "head")
    assert shape(new) == shape(old)
    assert "members" in shape(new)
    assert new.schema() == old.schema() == HEAD


class TestReadingNeverWaitsOrWrites:
    def test_a_folder_that_may_only_be_read_is_read(self, brook: Place, monkeypatch: pytest.MonkeyPatch) -> None:
        begun(brook)
        edit(brook.folder / "members.csv", "Tove Eddy", "Tove Ebb")
        held = {each: (each.read_bytes(), each.stat().st_mtime_ns) for each in brook.folder.iterdir()}
        monkeypatch.setattr("ask_above.store.connecting.os.access", lambda *_: False)
        assert brook.open().member("tove").name == "Tove Ebb"
        assert Community.open(brook.folder, on_demand=True).may("tove", "post.write", at="welcome")
        assert {each: (each.read_bytes(), each.stat().st_mtime_ns) for each in brook.folder.iterdir()} == held

    def test_a_reader_waits_for_no_writer(self, river: Place) -> None:
        begun(river)
        home = river.open().home
        with home.locked(), home.store.writing() as connection:
            from ask_above.store.tables import state

            connection.execute(state.update().where(state.c.name == "version").values(value="7"))
            assert river.open().member("tove").note == "first"

    def test_reading_leaves_every_file_as_it_is(self, brook: Place) -> None:
        begun(brook)
        edit(brook.folder / "charter.yaml", "title: Notices", "title: News")
        held = {each: (each.read_bytes(), each.stat().st_mtime_ns) for each in brook.folder.iterdir()}
        c = brook.open()
        assert c.place("notices").title == "News"
        assert len(c.who("post.write", at="welcome"))
        c.plan(Grant("host", ["kit.lend"]))
        assert {each: (each.read_bytes(), each.stat().st_mtime_ns) for each in brook.folder.iterdir()} == held


def test_the_first_change_is_not_made_on_files_that_changed_since_it_was_planned(river: Place) -> None:
    from ask_above import ChangedMeanwhileError

    plan = river.open().plan(Grant("host", ["kit.lend"]))
    edit(river.folder / "members.csv", "Tove Eddy", "Tove Ebb")
    with pytest.raises(ChangedMeanwhileError):
        plan.apply()
    assert not (river.folder / "register.db").exists()
    assert river.open().member("tove").name == "Tove Ebb"
    with pytest.raises(ChangedMeanwhileError):
        plan.apply()


@pytest.mark.parametrize(
    "edits",
    [
        (Assign("tove", "surveyor", until="2099-01-01"), Assign("tove", "host", only=True)),
        (Assign("tove", "surveyor"), Unassign("tove", "surveyor"), Assign("tove", "host")),
        (MemberSet("tove", {"note": "First"}), MemberSet("tove", {"name": "Tove Reed", "note": "Second"})),
        (Assign("tove", "surveyor"), Assign("tove", "surveyor", until="2099-01-01")),
        (Assign("tove", "surveyor"), Unassign("tove", "surveyor"), Assign("tove", "surveyor", until="2099-01-01")),
        (MemberAdd("ida", {"name": "Ida Reed"}), Assign("ida", "surveyor"), Unassign("ida", "surveyor")),
        (Assign("tove", "surveyor"), RankRename("surveyor", "measurer"), Unassign("tove", "measurer")),
        (Assign("tove", "surveyor"), MemberStatus("tove", "retired"), Unassign("tove", "surveyor")),
    ],
)
@pytest.mark.slow
def test_what_a_change_gives_and_takes_again_is_neither_in_the_file_nor_in_the_register(
    brook: Place, edits: tuple[Edit, ...]
) -> None:
    run("member", "note", "tove", "begin", "--yes", cwd=brook.folder)
    plan = brook.open().plan(*edits)
    after = sorted(each[:4] for each in plan.after.register.assignments)
    plan.apply(force=True)
    assert sorted(each[:4] for each in brook.open().register.assignments) == after
    assert_files_say_the_same(brook.folder, brook.open())
    before = sorted(each[:4] for each in plan.before.register.assignments)
    undo(brook.open().home, brook.open().journal()[-1].number).apply(force=True)
    assert sorted(each[:4] for each in brook.open().register.assignments) == before
    assert_files_say_the_same(brook.folder, brook.open())


def test_a_change_of_what_the_register_does_not_hold_is_refused_whole(brook: Place) -> None:
    run("member", "note", "tove", "begin", "--yes", cwd=brook.folder)
    before = (brook.folder / "assignments.csv").read_bytes()
    plan = brook.open().plan(Unassign("tove", "volunteer"))
    plan.rows = [plan.rows[0]._replace(key="9999")]
    with pytest.raises(
        StoreError, match=r"does not hold what was to be changed: volunteer of tove.*plan the change anew"
    ):
        plan.apply(force=True)
    assert (brook.folder / "assignments.csv").read_bytes() == before
    assert len(brook.open().journal()) == 2
    assert_files_say_the_same(brook.folder, brook.open())


def test_the_first_change_may_take_out_what_stands_in_the_files(river: Place) -> None:
    river.open().plan(Unassign("bram", "host")).apply()
    assert "host" not in {each.rank for each in river.open().register.of("bram")}


def test_a_charter_that_is_a_link_stays_one(brook: Place, tmp_path: Path) -> None:
    kept = tmp_path / "kept.yaml"
    (brook.folder / "charter.yaml").rename(kept)
    (brook.folder / "charter.yaml").symlink_to(kept)
    begun(brook)
    brook.open().plan(Grant("host", ["kit.lend"])).apply()
    assert (brook.folder / "charter.yaml").is_symlink()
    assert "kit.lend]" in kept.read_text()


def test_what_holds_people_is_for_its_owner_alone(brook: Place) -> None:
    for name in ("members.csv", "assignments.csv"):
        (brook.folder / name).unlink()
    edit(brook.folder / "charter.yaml", "owner: ines\n", "")
    brook.open().plan(MemberAdd("tove", {"email": "tove@river.example"})).apply()
    made = {each.name: each.stat().st_mode & 0o777 for each in brook.folder.iterdir()}
    assert made["members.csv"] == made["assignments.csv"] == made["register.db"] == 0o600


def test_what_is_kept_of_the_charter_says_the_same_and_is_never_believed(brook: Place) -> None:
    from ask_above.files.charter_json import dumped, key_of, loaded
    from ask_above.store.tables import compiled

    begun(brook)
    c = brook.open()
    again = loaded(dumped(c.charter))
    assert again is not None
    assert not c.impact(c.after(charter=again)).shifts
    for part in ("rules", "groups", "perks", "expectations", "add_ons", "owner", "title"):
        assert getattr(again, part) == getattr(c.charter, part)
    assert len(dumped(again)) == len(dumped(c.charter))
    assert [list(each) for each in (again.ranks, again.places)] == [[*c.charter.ranks], [*c.charter.places]]
    store = c.home.store
    for content in (b"", b"{", b"[]", b"null", dumped(c.charter)[:-9]):
        with store.writing() as connection:
            connection.execute(compiled.update().values(content=content))
        assert not c.impact(brook.open())
    edit(brook.folder / "charter.yaml", "title: Notices", "title: News")
    assert brook.open().place("notices").title == "News"
    assert key_of({"charter.yaml": "a"}) != key_of({"charter.yaml": "b"})


@pytest.mark.parametrize("begin", [False, True], ids=["the first change", "a later change"])
@pytest.mark.parametrize("place", ["outbox", "charter.yaml", "members.csv", "assignments.csv"])
def test_where_one_of_several_files_cannot_be_written_none_is(
    brook: Place, place: str, monkeypatch: pytest.MonkeyPatch, *, begin: bool
) -> None:
    from ask_above.show.letters import letters

    if begin:
        begun(brook)
    plan = brook.open().plan(Grant("host", ["kit.lend"]), Assign("tove", "host", "commons"))
    sent = letters(plan)
    held = {each.name: each.read_bytes() for each in brook.folder.iterdir() if "register.db" not in each.name}
    blocked = brook.folder / place
    if place == "outbox":
        blocked.write_text("no folder")
    else:
        plan.snapshot.found[place] = None  # type: ignore[index]
        blocked.unlink()
        blocked.mkdir()
        monkeypatch.setattr(plan.home, "_check_files", lambda _: None)
    with pytest.raises(OSError, match=r".+"):
        plan.apply(letters=sent)
    now = {each.name: each.read_bytes() for each in brook.folder.iterdir() if each.is_file()}
    assert {name: now[name] for name in held if name != place} == {n: raw for n, raw in held.items() if n != place}
    assert (brook.folder / "register.db").exists() is begin
    assert not list(brook.folder.glob("**/*.part"))


@pytest.mark.parametrize("name", ["charter.yaml", "members.csv", "assignments.csv"])
def test_a_file_that_is_put_in_its_place_while_the_folder_is_read_is_no_edit_by_hand(
    tmp_path: Path, name: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "river"
    shutil.copytree(DEMO, folder)
    Community.open(folder).plan(MemberSet("tove", {"note": "first"})).apply()
    before = (folder / name).read_bytes()
    edits = CharterSet("title", "River"), MemberSet("tove", {"note": "new"}), Assign("tove", "surveyor")
    Community.open(folder).plan(*edits).apply()
    reads: list[Path] = []

    def read(path: Path) -> bytes | None:
        reads.append(path)
        # the first reading looks which files there are, the second reads them all
        late = path.name == name and [each.name for each in reads].count(name) <= 2
        return before if late else (path.read_bytes() if path.exists() else None)

    monkeypatch.setattr(home, "read_bytes", read)
    snapshot = home.Home(folder, "charter.yaml").read()
    ranks = {each.rank for each in snapshot.register.of("tove")}
    assert (snapshot.charter.title, snapshot.register.members["tove"].note, "surveyor" in ranks) == (
        "River",
        "new",
        True,
    )
    assert not snapshot.is_edited


def test_an_edit_that_is_gone_before_it_is_recorded_is_not_recorded(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder, register = tmp_path / "river", f"sqlite:///{tmp_path / 'shared.db'}"
    shutil.copytree(DEMO, folder)
    Community.open(folder, register=register).plan(MemberSet("tove", {"note": "first"})).apply()
    charter = folder / "charter.yaml"
    text, read = charter.read_text(), home.Home.read
    charter.write_text(text.replace("title: Notices", "title: Notes"))

    def read_once(self: home.Home, **more: Any) -> Any:
        snapshot = read(self, **more)
        charter.write_text(text)
        return snapshot

    monkeypatch.setattr(home.Home, "read", read_once)
    assert Community.open(folder, register=register).place("notices").title == "Notices"
    assert [entry.kind for entry in Community.open(folder, register=register).journal()] == ["import", "change"]


class TestOneConnectionForAWhile:
    @staticmethod
    def _opened(store: Store) -> list[object]:
        import sqlalchemy as sa

        opened: list[object] = []
        sa.event.listen(store.engine, "connect", lambda connection, _: opened.append(connection))
        return opened

    @staticmethod
    def _noted(store: Store, value: str) -> None:
        with store.writing() as connection:
            store.set_state(connection, "aside", value)

    @staticmethod
    def _half(store: Store) -> None:
        import sqlalchemy as sa

        with store.writing() as connection:
            store.set_state(connection, "aside", "half")
            connection.execute(sa.text("SELECT 1 FROM nowhere"))

    @staticmethod
    def _note(store: Store) -> object:
        with store.reading() as connection:
            return store.state_on(connection, "aside")

    def test_all_goes_over_it_and_what_others_write_meanwhile_is_seen(self, river: Place) -> None:
        begun(river)
        store, other = river.open().home.store, river.open().home.store
        self._noted(other, "first")
        opened = self._opened(store)
        with store.kept_open(), store.kept_open():
            assert self._note(store) == "first"
            self._noted(store, "mine")
            assert self._note(store) == self._note(other) == "mine"
            self._noted(other, "theirs")
            assert self._note(store) == "theirs"
            self._noted(store, "mine again")
        assert len(opened) == 1
        assert self._note(other) == "mine again"
        assert self._note(store) == "mine again"
        assert len(opened) == 2

    def test_what_fails_on_it_leaves_it_fit_for_the_next(self, river: Place) -> None:
        begun(river)
        store = river.open().home.store
        with store.kept_open():
            with pytest.raises(StoreError, match="nowhere"):
                self._half(store)
            assert self._note(store) != "half"
            self._noted(store, "whole")
        assert self._note(store) == "whole"

    def test_a_reading_within_a_writing_sees_what_was_before_it(self, river: Place) -> None:
        begun(river)
        store = river.open().home.store
        self._noted(store, "before")
        with store.kept_open(), store.writing() as connection:
            store.set_state(connection, "aside", "after")
            assert self._note(store) == "before"

    def test_what_is_written_after_another_file_took_its_place_is_in_the_new_one(self, brook: Place) -> None:
        begun(brook)
        store, file = brook.open().home.store, brook.folder / "register.db"
        with store.kept_open():
            self._noted(store, "old")
            copy = file.with_name("copy.db")
            shutil.copyfile(file, copy)
            for part in ("-wal", "-shm"):
                file.with_name(f"{file.name}{part}").unlink(missing_ok=True)
            copy.replace(file)
            self._noted(store, "new")
        assert self._note(brook.open().home.store) == "new"

    def test_a_large_register_is_read_on_after_it(self, river: Place) -> None:
        begun(river)
        kept_aside = home.Home(river.folder, register=river.url, on_demand=True)
        with kept_aside.store.writing() as connection:
            kept_aside.store.set_state(connection, "aside", value=True)
        with kept_aside.store.kept_open():
            register = kept_aside.read().register
        assert register.members["tove"].note == "first"


def test_whoever_waits_no_longer_than_others_takes_the_same_lock(brook: Place) -> None:
    first, second = begun(brook).open().home, brook.open().home
    with first.locked(), second.locked(wait=0), first.locked(wait=1):
        with ThreadPoolExecutor(1) as beside:
            refused = beside.submit(lambda: second.locked(wait=0).__enter__()).exception()
        assert isinstance(refused, BusyError)
    with second.locked(wait=0):
        pass
