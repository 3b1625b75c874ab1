"""Registers and names that were made of one another by changes: they share what is the same, and nothing tells it."""

from __future__ import annotations

import gc
import io
import shutil
from collections import Counter
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from random import Random
from typing import Any
from unittest import mock

import pytest

from ask_above import AskAboveError, Community
from ask_above.change import (
    Assign,
    CharterSet,
    Grant,
    MemberAdd,
    MemberSet,
    PlaceRemove,
    RankRemove,
    RankRename,
    RankSet,
)
from ask_above.charter.where import NOWHERE
from ask_above.files.writing import FileBatch
from ask_above.people.directory import Directory, NameKind
from ask_above.people.register import Assignment, Member, Register
from ask_above.serve.source import Folder
from ask_above.show.plans import show_plan
from ask_above.show.screen import Screen
from ask_above.store.rows import read_members
from ask_above.workspace import lasting
from ask_above.workspace.lasting import LastingHome
from ask_above.workspace.plans import plan
from ask_above.workspace.undoing import undo
from conftest import DEMO
from generated import generate
from random_changes import random_edit
from seeds import seeds


def changed_at_random(register: Register, rng: Random, n: int) -> Register:
    key = f"m{rng.randrange(12)}"
    known = register.members.get(key)
    match rng.randrange(6):
        case 5:  # several at once, who may exchange their names
            several = rng.sample([*register.members], min(3, len(register.members)))
            called = rng.sample([register.members[key].name for key in several], len(several))
            return register.changed({key: Member(key, name) for key, name in zip(several, called, strict=True)})
        case 0:
            return register.with_member(Member(key, f"Name {rng.randrange(9)}"))
        case 1 if known:
            return register.assigned(Assignment(key, f"rank-{n}"))
        case 2 if register.of(key):
            return register.unassigned(register.of(key)[0])
        case 3 if known:
            return register.changed({key: None})
        case _:
            return register.changed({key: Member(key, f"Name {n}")}, {key: [Assignment(key, f"r{n}")]})


@pytest.mark.parametrize("seed", seeds(30))
def test_what_differs_and_who_is_called_what_is_as_if_all_were_looked_at(
    seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("ask_above.people.register._MOST_CHANGED", 6)
    rng, charter = Random(seed), Community.demo().charter
    register = Register({f"m{n}": Member(f"m{n}", f"Name {n % 4}") for n in range(8)})
    chain, names = [register], Directory(charter, register)
    for n in range(25):
        chain.append(changed_at_random(chain[-1], rng, n))
        names = names.after(charter, chain[-1])
        fresh = Directory(charter, chain[-1])
        for word in (f"name {rng.randrange(9)}", f"M{rng.randrange(12)}"):
            found = [sorted(each._by_name(NameKind.MEMBER).get(word.lower(), [])) for each in (names, fresh)]
            assert found[0] == found[1]
        times = Counter(each.name for each in chain[-1].members.values())
        for key, each in chain[-1].members.items():
            assert each.called == (f"{each.name} ({key})" if times[each.name] > 1 else each.name)
        one, other = chain[-1], rng.choice(chain)
        in_order = list(dict.fromkeys((*one.members, *other.members)))
        # what tells somebody from others of the same name is no change of theirs
        told = [{key: m._replace(distinct="") for key, m in each.members.items()} for each in (one, other)]
        plain = [key for key in in_order if told[0].get(key) != told[1].get(key) or one.of(key) != other.of(key)]
        assert set(plain) <= set(one.differing(other))
        assert {key for key in one.differing(other) if one.members.get(key) is other.members.get(key)} <= {
            key for key in in_order if one.of(key) is not other.of(key)
        }
        assert one.differing(other) == sorted(one.differing(other), key=in_order.index)


def test_a_community_read_as_it_is_asked_outlives_the_one_it_was_made_of(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("ask_above.workspace.location.MOST_IN_FILES", 5)
    shutil.copytree(DEMO, tmp_path / "river")
    Community.open(tmp_path / "river").plan(MemberAdd("ida", {"name": "Ida Reed"})).apply()
    opened = Community.open(tmp_path / "river", on_demand=True)
    after = opened.after(register=opened.register.assigned(Assignment("ida", "surveyor")))
    del opened
    gc.collect()
    assert after.member("bram").name
    assert after.may("ida", "reading.post", at="upper-gauges")


@pytest.mark.parametrize("seed", seeds(12))
def test_who_is_alike_is_told_by_rows_as_by_members_and_few_are_read(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, seed: int
) -> None:
    monkeypatch.setattr("ask_above.workspace.location.MOST_IN_FILES", 3)
    rng = Random(seed)
    for name, text in generate(rng).texts().items():
        (tmp_path / name).write_text(text, "utf-8")
    Community.open(tmp_path).plan(MemberAdd("ida", {"name": "Ida Reed"}), why="to begin with").apply(force=True)
    for _ in range(4):
        some, whole = Community.open(tmp_path, on_demand=True), Community.open(tmp_path)
        key, rank = rng.choice([*whole.register.members]), rng.choice([*whole.charter.ranks])
        given = Assignment(key, rank, rng.choice([*whole.charter.places]), number=9_999)
        for more in (False, True):
            one, other = (c.after(register=c.register.assigned(given)) if more else c for c in (some, whole))
            for field, key in (*(("rank", k) for k in one.charter.ranks), *(("place", k) for k in one.charter.places)):
                plain = sorted(str(each) for each in other.register.assignments if getattr(each, field) == key)
                assert [sorted(map(str, c.register.naming(field, {key}))) for c in (one, other)] == [plain] * 2
            by_rows, by_members = (list(c.decider.ready.alike().values()) for c in (one, other))
            assert by_rows == by_members
            assert one.cover().table().equals(other.cover().table())
        with suppress(AskAboveError):
            whole.plan(random_edit(rng, whole)).apply(force=True)


def test_members_who_are_alike_are_not_read_to_count_them(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("ask_above.workspace.location.MOST_IN_FILES", 5)
    shutil.copytree(DEMO, tmp_path / "river")
    people = [MemberAdd(f"m{n}", {"name": f"Member {n}"}) for n in range(300)]
    Community.open(tmp_path / "river").plan(*people, RankSet("volunteer", {"on-joining": False})).apply()
    Community.open(tmp_path / "river").plan(Assign("m8", "host", "commons")).apply()
    read: list[Sequence[str] | None] = []
    rows = read_members

    def counted(connection: Any, keys: Sequence[str] | None = None) -> list[tuple[str, ...]]:
        read.append(keys)
        return rows(connection, keys)

    monkeypatch.setattr("ask_above.store.rows.read_members", counted)
    opened = Community.open(tmp_path / "river", on_demand=True)
    assert opened.cover(["post.write"]).able["post.write"] > 300
    assert sum(len(keys or ()) for keys in read) < 100
    assert not opened.plan(Assign("m7", "host", "commons")).refusals
    assert not undo(opened.home).refusals
    assert sum(len(keys or ()) for keys in read) < 100
    for edit in (RankRemove("newcomer"), RankRename("host", new_key="talk-host"), PlaceRemove("alder-board")):
        show_plan(Screen.plain(io.StringIO()), opened.plan(edit))
    assert None not in read


def test_whoever_asks_for_many_one_by_one_has_everybody_read_once(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("ask_above.workspace.location.MOST_IN_FILES", 5)
    monkeypatch.setattr("ask_above.workspace.on_demand._AT_FIRST", 5)
    shutil.copytree(DEMO, tmp_path / "river")
    Community.open(tmp_path / "river").plan(MemberAdd("ida", {"name": "Ida Reed"})).apply()
    read = mock.Mock(side_effect=read_members)
    monkeypatch.setattr("ask_above.store.rows.read_members", read)
    opened, whole = Community.open(tmp_path / "river", on_demand=True), Community.open(tmp_path / "river")
    asked = [*whole.register.members]
    assert [opened.member(key) for key in asked] == [whole.member(key) for key in asked]
    assert [opened.register.of(key) for key in asked] == [whole.register.of(key) for key in asked]
    assert read.call_count <= 8


def test_each_plan_is_made_on_what_the_one_before_left(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """As a service does it, which keeps the register in memory; and a change by somebody else is seen at once."""
    monkeypatch.setattr("ask_above.workspace.location.MOST_IN_FILES", 5)
    folder = tmp_path / "river"
    shutil.copytree(DEMO, folder)
    Community.open(folder).plan(MemberAdd("ida", {"name": "Ida Reed"})).apply()
    source = Folder(folder)
    state = source.first()
    plan(source.home, [Assign("ida", "surveyor")], by="ines").apply()
    kept = source.home.read()
    assert "surveyor" in {e.rank for e in kept.register.of("ida")}
    assert kept.loaded is not None
    assert kept.loaded.people is None
    Community.open(folder).plan(MemberSet("ida", {"name": "Ida Marsh"}), by="ines").apply()
    made = plan(source.home, [MemberSet("ida", {"email": "ida@river.example"})], by="ines")
    assert made.before.register.members["ida"].name == "Ida Marsh"
    made.apply()
    again = Community.open(folder)
    assert again.member("ida")[:3] == ("ida", "Ida Marsh", "ida@river.example")
    newer = source.newer(state)
    assert newer is not None
    assert newer.community.member("ida")._replace(where=NOWHERE) == again.member("ida")._replace(where=NOWHERE)
    assert [e[:4] for e in newer.community.register.of("ida")] == [e[:4] for e in again.register.of("ida")]
    assert source.newer(newer) is None


@pytest.fixture
def kept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> tuple[Path, LastingHome]:
    monkeypatch.setattr(lasting, "_EVERY", 3600.0)  # however slow the machine, no second is over
    folder = tmp_path / "river"
    shutil.copytree(DEMO, folder)
    Community.open(folder).plan(MemberAdd("ida", {"name": "Ida Reed"})).apply()
    source = Folder(folder)
    source.first()
    return folder, source.home


def in_files(folder: Path) -> str:
    return (folder / "members.csv").read_text() + (folder / "assignments.csv").read_text()


def test_files_are_written_once_in_a_while_and_nobody_sees_that_they_are_late(kept: tuple[Path, LastingHome]) -> None:
    folder, home = kept
    for n in range(4):
        plan(home, [MemberSet("ida", {"name": f"Ida {n}"})], by="ines").apply()
    assert ("Ida 0" in in_files(folder), "Ida 3" in in_files(folder)) == (True, False)
    plan(home, [Assign("ida", "surveyor", "rota")], by="ines").apply()
    home.write_late()
    assert "Ida 3" not in in_files(folder)
    home.write_late(at_once=True)
    assert "Ida 3" in in_files(folder)
    assert "ida,surveyor,rota" in in_files(folder)
    before = home.read()
    plan(home, [MemberSet("ida", {"name": "Ida 9"})], by="ines").apply()
    opened = Community.open(folder)  # whoever opens it writes what is late
    assert (opened.member("ida").name, opened.notices, "Ida 9" in in_files(folder)) == ("Ida 9", (), True)
    assert home.read().version == before.version + 1


def test_a_file_that_the_charter_comes_to_name_or_names_no_longer_is_known(kept: tuple[Path, LastingHome]) -> None:
    folder, home = kept
    (folder / "nets.yaml").write_text("add-on: nets\ntitle: Nets\ncapabilities: {Nets: {net.lend: Lend a net}}\n")
    for names in (["gauges.yaml", "nets.yaml"], ["gauges.yaml"]):
        plan(home, [CharterSet("add-ons", names)], by="ines").apply()
        plan(home, [MemberSet("ida", {"name": f"Ida {len(names)}"})], by="ines").apply()
        assert home.read().texts.keys() == {"charter.yaml", *names}
    assert [sum(piece[0] == "nets.yaml" for piece in entry.splices) for entry in home.entries()[-4:]] == [1, 0, 1, 0]


def test_an_edit_by_hand_of_a_late_file_counts_as_it_stands(kept: tuple[Path, LastingHome]) -> None:
    folder, home = kept
    for n in range(3):
        plan(home, [MemberSet("ida", {"name": f"Ida {n}"})], by="ines").apply()
    file = folder / "members.csv"
    file.write_text(file.read_text().replace("Bram Ashby", "Bram A."))
    assert "Bram A." in file.read_text()
    home.write_late(at_once=True)
    assert "Bram A." in file.read_text()
    plan(home, [Assign("ida", "surveyor", "rota")], by="ines").apply()
    home.write_late(at_once=True)
    opened = Community.open(folder)
    # as the file stands, and it is told what that takes back
    assert (opened.member("bram").name, opened.member("ida").name) == ("Bram A.", "Ida 0")
    assert any(each.startswith("members.csv undoes change") for each in opened.notices)
    assert [e.rank for e in opened.register.of("ida") if e.place == "rota"] == ["surveyor"]
    assert "Bram A." in in_files(folder)


@pytest.mark.slow
def test_a_disk_that_fails_leaves_files_late_and_nothing_wrong(
    kept: tuple[Path, LastingHome], monkeypatch: pytest.MonkeyPatch
) -> None:
    folder, home = kept
    for n in range(3):
        plan(home, [MemberSet("ida", {"name": f"Ida {n}"})], by="ines").apply()

    def fails(*_: object) -> None:
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as full:
        full.setattr(FileBatch, "prepare", fails)
        home.write_late(at_once=True)
        with pytest.raises(OSError, match="No space left"):
            plan(home, [Assign("ida", "surveyor", "rota"), Grant("host", ["kit.lend"])], by="ines").apply()
    assert "Ida 2" not in in_files(folder)
    plan(home, [Assign("ida", "surveyor", "rota")], by="ines").apply()
    opened = Community.open(folder)
    assert (opened.notices, opened.member("ida").name) == ((), "Ida 2")
    assert "kit.lend" not in (folder / "charter.yaml").read_text().partition("key: host")[2][:400]
    home.write_late(at_once=True)
    assert "Ida 2" in in_files(folder)
    assert "ida,surveyor,rota" in in_files(folder)
    assert not home.read().rows
    assert Community.open(folder).notices == ()
