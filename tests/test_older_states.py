"""Folders of before go on without a step of their own: what was written, what was edited, what was not finished."""

from __future__ import annotations

import json
import shutil
import sqlite3
from pathlib import Path

import pytest

from ask_above.change import Grant, MemberSet, MemberStatus
from ask_above.store.entries import digest
from conftest import DEMO, Place, assert_files_say_the_same

FILES = ("charter.yaml", "gauges.yaml", "members.csv", "assignments.csv")


def as_before(place: Place, database: Path, held: dict[int, dict[str, bytes]], state: int) -> None:
    """Bring a folder back to how version 0004 left it: digests of all that files held, and the state in the mark."""
    connection = sqlite3.connect(database)
    connection.execute("DROP TABLE folder_files")
    connection.execute("CREATE TABLE known_files (name VARCHAR(200), digest VARCHAR(64), number INTEGER NOT NULL)")
    for number, files in held.items():
        for name, raw in files.items():
            connection.execute("DELETE FROM known_files WHERE name = ? AND digest = ?", (name, digest(raw)))
            connection.execute("INSERT INTO known_files VALUES (?, ?, ?)", (name, digest(raw), number))
    for table, column in (("members", "phone"), ("journal", "name"), ("journal", "reverts")):
        connection.execute(f"ALTER TABLE {table} DROP COLUMN {column}")
    connection.execute("DELETE FROM state WHERE name IN ('unseen', 'forgotten', 'aside')")
    connection.execute("UPDATE journal SET at = substr(at, 1, 19) || '+00:00'")
    connection.execute("UPDATE alembic_version SET version_num = '0004'")
    connection.commit()
    connection.close()
    mark = json.loads((place.folder / ".ask-above.json").read_text())
    mark = {"register": mark["register"], "id": mark["id"], "state": state}
    (place.folder / ".ask-above.json").write_text(json.dumps(mark))


def two_changes(place: Place) -> dict[int, dict[str, bytes]]:
    """Make two changes; returns what the files held after each."""
    held = {}
    for number, edit in ((2, MemberSet("tove", {"note": "first"})), (3, Grant("host", ["kit.lend"]))):
        place.open().plan(edit).apply()
        names = [name for name in FILES if (place.folder / name).exists()]
        held[number] = {name: (place.folder / name).read_bytes() for name in names}
    return held


@pytest.fixture
def river(tmp_path: Path, request: pytest.FixtureRequest) -> Place:
    shared = getattr(request, "param", "own") == "shared"
    place = Place(tmp_path / "river", f"sqlite:///{tmp_path}/shared.db" if shared else None)
    shutil.copytree(DEMO, place.folder)
    return place


def database_of(place: Place) -> Path:
    return place.folder.parent / "shared.db" if place.url else place.folder / "register.db"


@pytest.mark.parametrize("river", ["own", "shared"], indirect=True)
class TestAFolderOfVersionFour:
    def test_that_nobody_touched_goes_on(self, river: Place) -> None:
        as_before(river, database_of(river), two_changes(river), 3)
        c = river.open()
        assert not [each for each in c.notices if "put-aside" not in each]
        assert c.may("rank:host", "kit.lend")
        c.plan(MemberStatus("tove", "locked")).apply()
        assert river.open().member("tove").status == "locked"
        assert "state" not in json.loads((river.folder / ".ask-above.json").read_text())
        if not river.url:
            assert_files_say_the_same(river.folder, river.open())

    @pytest.mark.slow
    def test_what_was_edited_in_it_counts_as_it_stands(self, river: Place) -> None:
        held = two_changes(river)
        as_before(river, database_of(river), held, 3)
        (river.folder / "charter.yaml").write_bytes(held[2]["charter.yaml"].replace(b"title: Notices", b"title: News"))
        c = river.open()
        assert c.place("notices").title == "News"
        assert not c.may("rank:host", "kit.lend")
        assert any("undoes change 3" in each for each in c.notices)

    def test_what_was_not_finished_is_finished(self, river: Place) -> None:
        held = two_changes(river)
        as_before(river, database_of(river), held, 2)
        (river.folder / "charter.yaml").write_bytes(held[2]["charter.yaml"])
        assert river.open().may("rank:host", "kit.lend")
        assert (river.folder / "charter.yaml").read_bytes() == held[3]["charter.yaml"]


@pytest.mark.slow
def test_files_that_are_newer_than_the_database_say_which_two_commands_settle_it(river: Place) -> None:
    from ask_above import StoreError
    from ask_above.workspace.edited import take_edits

    held = two_changes(river)
    as_before(river, database_of(river), held, 7)  # the database was restored from a copy
    with pytest.raises(StoreError, match=r"(?s)journal --take charter.yaml.*undo --edits"):
        river.open()
    edited = held[3]["charter.yaml"].replace(b"title: Notices", b"title: News")
    (river.folder / "charter.yaml").write_bytes(edited)
    take_edits(river.open_home(), ["charter.yaml"])
    assert river.open().place("notices").title == "News"


def test_they_may_also_be_written_as_the_database_has_them(river: Place) -> None:
    held = two_changes(river)
    as_before(river, database_of(river), held, 7)
    (river.folder / "charter.yaml").write_bytes(held[3]["charter.yaml"].replace(b"title: Notices", b"title: News"))
    river.open_home().drop_edits()
    assert river.open().place("notices").title == "Notices"
