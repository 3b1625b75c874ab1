"""A community in memory is changed, undone and asked as one in a folder is: the two are held against each other."""

from __future__ import annotations

import shutil
import sqlite3
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path
from random import Random

import pytest

from ask_above import AskAboveError, ChangedMeanwhileError, Community, MemoryStorage, RefusedError, StoreError
from ask_above.change import Assign, CharterSet, Grant, MemberAdd, MemberForget, MemberSet, RankSet, Say, Unassign
from ask_above.show.member import everything
from ask_above.store.entries import Claims, Entry
from ask_above.workspace.auditing import states_of
from conftest import DEMO
from hand_edits import rows, says
from random_changes import several_edits
from seeds import seeds

TEXTS = {file.name: file.read_text("utf-8") for file in DEMO.iterdir() if file.suffix in (".yaml", ".csv")}


def told(entry: Entry) -> tuple[object, ...]:
    """What an entry says, less when."""
    effect, splices, changed = list(entry.effect), [tuple(s) for s in entry.splices], [tuple(r) for r in entry.rows]
    return (*entry._replace(at="", effect=(), splices=(), rows=()), effect, splices, changed)


def assert_the_same(folder: Community, memory: Community, rng: Random) -> None:
    assert [told(e) for e in folder.journal()] == [told(e) for e in memory.journal()]
    assert says(folder) == says(memory)
    assert rows(folder) == rows(memory)
    given = [sorted((a.number, a.member, a.rank) for a in c.register.assignments) for c in (folder, memory)]
    assert given[0] == given[1]
    who = rng.choice(list(folder.register.members))
    at, pair = rng.choice(list(folder.charter.places)), rng.choice(list(folder.charter.catalogue.keys))
    assert folder.may(who, pair, at=at).reason == memory.may(who, pair, at=at).reason
    kept = [everything(c, who, None, c.names.moment(), ()) for c in (folder, memory)]
    notes = [[(note["by"], note["text"]) for note in found["notes"]] for found in kept]
    assert notes[0] == notes[1]
    assert kept[0]["given"] == kept[1]["given"]


@pytest.mark.slow
@pytest.mark.parametrize("seed", seeds(4))
def test_any_changes_and_their_undoing_leave_the_same_as_in_a_folder(seed: int, tmp_path: Path) -> None:
    rng, at = Random(seed), tmp_path / "river"
    shutil.copytree(DEMO, at)
    folder, memory = Community.open(at), Community.from_texts(TEXTS)
    made = 0
    while made < 12:
        try:
            if made > 2 and rng.random() < 0.2:
                number = rng.randint(2, made)
                plans = [folder.undo(number), memory.undo(number)]
            else:
                edits = several_edits(rng, folder)
                plans = [folder.plan(*edits, why="a try"), memory.plan(*edits, why="a try")]
        except AskAboveError:
            continue
        assert plans[0].what == plans[1].what
        assert [str(r) for r in plans[0].refusals] == [str(r) for r in plans[1].refusals]
        if plans[0].is_empty or plans[0].refusals:
            continue
        for plan in plans:
            plan.apply(force=True)
        made += 1
        folder, memory = folder.again(), memory.again()
        assert_the_same(folder, memory, rng)


def test_whoever_is_forgotten_is_a_stranger_in_journal_register_and_letters() -> None:
    community = Community.from_texts(TEXTS)
    community.plan(MemberSet("tove", {"note": "Tove Eddy rows."}), by="ada").apply(
        letters=[("1-tove.eml", "Dear Tove"), ("2-dara.eml", "Dear Dara")]
    )
    community.plan(Say("rota", "tove", "deny", ["post.write"], True)).apply()
    community.plan(Say("rota", "tove", "clear", ["post.write"], True)).apply()
    assert "tove" in repr([entry.splices for entry in community.journal()])
    community.plan(MemberForget("tove")).apply()
    left = community.again()
    assert "stranger-1" in left.register.members
    assert not any(word in repr(left.journal()) for word in ("tove", "Tove", "Eddy"))
    assert not any("tove" in str(given) for given in left.register.assignments)
    assert isinstance(left.storage, MemoryStorage)
    assert left.storage.letters == {"2-dara.eml": "Dear Dara"}
    assert left.storage.told == ["They are stranger-1 from now on."]


@pytest.mark.parametrize("where", ["folder", "memory"])
def test_whoever_is_forgotten_is_gone_from_what_others_wrote_and_nobody_else_is(where: str, tmp_path: Path) -> None:
    shutil.copytree(DEMO, tmp_path / "river")
    community = Community.open(tmp_path / "river") if where == "folder" else Community.from_texts(TEXTS)
    community.plan(MemberAdd("zora", {"name": "Zora Pike", "note": "a friend of Dara Fenwick"})).apply()
    community.again().plan(Assign("zora", "warden"), Assign("tove", "warden")).apply(force=True)
    for writer, text in (("ada", "Ask Tove Eddy first"), ("tove", "Tove Eddy, zealous"), ("zora", "I know Tove Eddy")):
        community.again().plan(MemberSet("bram", {"note": text}), by=writer).apply(force=True)
    for rank, why in (("surveyor", "Tove Eddy asked"), ("host", "dara said so")):
        community.again().plan(Assign("bram", rank, "rota", why=why), why=why).apply(force=True)
    for n, key in enumerate(("tove", "dara", "petra"), 1):
        assert community.again().plan(MemberForget(key)).apply()
        strangers = {k for k in community.again().register.members if k.startswith("stranger-")}
        assert strangers == {f"stranger-{m + 1}" for m in range(n)}
    left = community.again()
    assert [note[1:] for note in left.storage.remembered("bram").notes] == [
        ("ada", "Ask stranger-1 first"),
        ("stranger-1", "stranger-1, zealous"),
        ("zora", "I know stranger-1"),
    ]
    assert left.member("zora").note == "a friend of stranger-2"
    assert {given.rank: given.why for given in left.register.of("bram") if given.why.startswith("stranger")} == {
        "surveyor": "stranger-1 asked",
        "host": "stranger-2 said so",
    }
    assert not [name for name in ("Eddy", "Fenwick", "dara") if name in repr((left.journal(), left.register.members))]


def test_a_note_is_kept_once_for_each_time_that_it_was_set() -> None:
    community = Community.from_texts(TEXTS)
    for fields in ({"note": "First"}, {"name": "Tove Reed"}, {"note": "Second"}, {"note": ""}):
        community.plan(MemberSet("tove", fields), by="ada").apply()
    assert [note[1:] for note in community.storage.remembered("tove").notes] == [("ada", "First"), ("ada", "Second")]


def test_what_a_directory_claims_is_changed_there_until_it_claims_nothing() -> None:
    community = Community.from_texts(TEXTS)
    community.plan(MemberSet("tove", {"external_id": "mill:1"})).apply()
    community.storage.claim(Claims("mill", ("name",), ()))
    with pytest.raises(RefusedError, match=r"The name of Tove Eddy comes from mill"):
        community.plan(MemberSet("tove", {"name": "Tove Reed"})).apply()
    community.storage.claim(Claims("mill", (), ("samplers",)))
    assert [claims.groups for claims in community.storage.claims()] == [("samplers",)]
    community.storage.claim(Claims("mill", (), ()))
    community.plan(MemberSet("tove", {"name": "Tove Reed"})).apply()


def test_a_list_of_sign_ins_beside_the_charter_counts() -> None:
    community = Community.from_texts(TEXTS)
    assert community.storage.file("signins.csv") == TEXTS["signins.csv"].encode()
    assert community.storage.file("letter.txt") is None


def test_a_plan_that_was_overtaken_changes_nothing() -> None:
    community = Community.from_texts(TEXTS)
    one, other = (community.plan(RankSet("host", {"title": title})) for title in ("One", "Other"))
    one.apply()
    with pytest.raises(ChangedMeanwhileError):
        other.apply()
    assert community.again().rank("host").title == "One"
    assert [entry.kind for entry in community.journal()] == ["import", "change"]


def test_a_member_who_may_not_is_refused_and_nothing_is_kept() -> None:
    community = Community.from_texts(TEXTS)
    with pytest.raises(RefusedError):
        community.plan(Assign("dara", "warden"), by="dara").apply()
    assert community.journal() == []


def test_states_gone_by_and_letters_are_asked_for_in_memory_too() -> None:
    community = Community.from_texts(TEXTS)
    before = community.may("rank:host", "kit.lend")
    community.plan(Grant("host", ["kit.lend"])).apply()
    community.plan(Assign("dara", "host", "river-talk")).apply(letters=[("1-dara.eml", "Dear Dara")])
    community.plan(Unassign("dara", "host", "river-talk")).apply()
    assert bool(community.as_of(1).may("rank:host", "kit.lend")) == bool(before)
    assert community.again().may("rank:host", "kit.lend")
    assert community.history("dara").events[-1].what.endswith("unassigned")
    kept = community.storage.remembered("dara")
    assert kept.letters == ["1-dara.eml"]
    assert kept.given[-1][-1] == "unassigned by change 4"
    storage = community.storage
    assert isinstance(storage, MemoryStorage)
    assert "kit.lend" in storage.files()["charter.yaml"]
    assert Community.from_texts({**TEXTS, **storage.files()}).may("rank:host", "kit.lend")


def test_a_change_that_fails_on_the_way_leaves_nothing_of_itself(monkeypatch: pytest.MonkeyPatch) -> None:
    community = Community.from_texts(TEXTS)
    plan = community.plan(Assign("dara", "host"))
    with monkeypatch.context() as broken:
        broken.setattr("ask_above.workspace.memory.Loaded", None)
        with pytest.raises(TypeError):
            plan.apply()
    assert community.journal() == []
    assert community.again().charter is community.charter
    plan.apply()
    assert [entry.number for entry in community.journal()] == [1, 2]


@pytest.mark.parametrize("where", ["folder", "memory"])
def test_a_state_gone_by_has_the_files_that_its_charter_named_as_they_were(where: str, tmp_path: Path) -> None:
    nets = "add-on: nets\ntitle: Nets\ncapabilities: {Nets: {net.lend: {about: lend a net}}}\n"
    folder = tmp_path / "river"
    shutil.copytree(DEMO, folder)
    (folder / "nets.yaml").write_text(nets)
    c = Community.open(folder) if where == "folder" else Community.from_texts({**TEXTS, "nets.yaml": nets})
    c.plan(CharterSet("add-ons", ["gauges.yaml", "nets.yaml"])).apply()
    c.plan(CharterSet("add-ons", ["gauges.yaml"])).apply()
    if where == "folder":  # it is nobody's business any more what stands in it
        (folder / "nets.yaml").write_text(nets.replace("net.lend", "net.mend"))
    c.plan(MemberSet("dara", {"note": "Knows the weir"})).apply()
    c.undo(3).apply()
    named = [[key for key in c.as_of(n).charter.catalogue.keys if key.startswith("net.")] for n in range(1, 6)]
    back = "net.mend" if where == "folder" else "net.lend"
    assert named == [[], ["net.lend"], [], [], [back]]
    audited = {state.number: state.names.charter.catalogue.keys for state in states_of(c.storage).states}
    assert {number: list(keys) for number, keys in audited.items()} == {
        n: list(c.as_of(n).charter.catalogue.keys) for n in range(1, 6)
    }
    if where == "folder":
        assert Community.open(folder).charter.catalogue.keys == c.again().charter.catalogue.keys


def test_of_a_journal_that_does_not_know_what_a_file_held_the_later_states_are_read(tmp_path: Path) -> None:
    shutil.copytree(DEMO, tmp_path / "river")
    nets = tmp_path / "river" / "nets.yaml"
    nets.write_text("add-on: nets\ncapabilities: {Nets: {net.lend: Lend a net}}\n")
    for names in (["gauges.yaml", "nets.yaml"], ["gauges.yaml"]):
        Community.open(tmp_path / "river").plan(CharterSet("add-ons", names)).apply()
        nets.write_text(nets.read_text().replace("Lend a net", "Lend nets"))
    with closing(sqlite3.connect(tmp_path / "river" / "register.db")) as old, old:  # as an older journal knew it
        old.execute('UPDATE journal SET splices = \'[["nets.yaml", 9, "x", "y"]]\' WHERE number = 2')
    c = Community.open(tmp_path / "river")
    c.plan(MemberForget("dara")).apply()
    assert c.as_of(2).charter.groups
    with pytest.raises(StoreError, match=r"What nets\.yaml held earlier is not known.* Ask for a later state"):
        c.as_of(1)


def test_of_many_who_change_at_once_each_is_made_or_overtaken() -> None:
    community = Community.from_texts(TEXTS)
    made: list[int] = []

    def change(member: str) -> None:
        while True:
            try:
                made.append(community.plan(MemberSet(member, {"note": f"By {member}"})).apply().number)
            except ChangedMeanwhileError:
                continue
            return

    members = list(community.register.members)[:12]
    with ThreadPoolExecutor(6) as pool:
        list(pool.map(change, members))
    assert sorted(made) == [entry.number for entry in community.journal()][1:]
    assert {key: community.again().member(key).note for key in members} == {key: f"By {key}" for key in members}


def test_what_is_tried_on_the_demo_is_not_written_into_the_package() -> None:
    before = {file.name: file.read_bytes() for file in DEMO.iterdir()}
    c = Community.demo()
    c.plan(Assign("rosa", "host")).apply()
    assert c.again().may("rosa", "member.mute", at="river-talk")
    assert {file.name: file.read_bytes() for file in DEMO.iterdir()} == before
    assert not Community.demo().may("rosa", "member.mute", at="river-talk")
