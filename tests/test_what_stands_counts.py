"""What stands in a file counts, exactly as it stands: the folder answers as its files, read alone."""

from __future__ import annotations

import re
import shutil
from email import message_from_bytes
from email.message import EmailMessage
from email.policy import SMTP
from pathlib import Path
from random import Random

import pytest

from ask_above import AskAboveError, Community
from ask_above.change import (
    CharterAdd,
    CharterRemove,
    Edit,
    EditError,
    HandOver,
    MemberAdd,
    MemberForget,
    MemberSet,
    Say,
)
from ask_above.workspace.home import Home
from ask_above.workspace.tokens import add_token
from conftest import DEMO
from databases import fresh_database
from hand_edits import play, play_two, rows, says
from random_changes import random_edit
from seeds import seeds


@pytest.mark.parametrize("seed", seeds(12))
def test_after_any_commands_and_any_edits_by_hand_the_folder_answers_as_its_files_alone(
    tmp_path: Path, seed: int
) -> None:
    assert "same" in play(tmp_path, seed, 10)


@pytest.mark.slow
def test_a_command_an_edit_by_hand_and_a_command_again_for_every_kind_of_edit(tmp_path: Path) -> None:
    rng, tried = Random(3), set[str]()
    for n in range(400):
        folder = tmp_path / str(n)
        c = community_in(folder) if not folder.exists() else Community.open(folder)
        edit = random_edit(rng, c)
        if type(edit).__name__ in tried:
            shutil.rmtree(folder)
            continue
        try:
            plan = c.plan(edit, why="a try")
            if plan.is_empty:
                continue
            plan.apply(force=True)
        except AskAboveError:
            continue
        tried.add(type(edit).__name__)
        charter = folder / "charter.yaml"
        charter.write_text(charter.read_text().replace("title: Notices", "title: News", 1))
        with (folder / "members.csv").open("a") as out:
            out.write("by-hand,Somebody new\n")
        says_the_same(folder)
        Community.open(folder).plan(MemberSet("dara", {"note": f"{n}"})).apply(force=True)
        says_the_same(folder)
        assert [entry.kind for entry in Community.open(folder).journal()][-2:] == ["hand", "change"]
    assert len(tried) > 18, tried


def community_in(folder: Path) -> Community:
    shutil.copytree(DEMO, folder)
    return Community.open(folder)


def says_the_same(folder: Path) -> None:
    texts = {file.name: file.read_text() for file in folder.glob("*.yaml")}
    texts |= {name: (folder / name).read_text() for name in ("members.csv", "assignments.csv")}
    alone, opened = Community.from_texts(texts), Community.open(folder)
    assert says(alone) == says(opened)
    assert rows(alone) == rows(opened)


@pytest.mark.slow
@pytest.mark.parametrize("seed", seeds(16))
def test_the_same_for_longer_sequences(tmp_path: Path, seed: int) -> None:
    assert play(tmp_path, 1_000 + seed)


@pytest.mark.parametrize("seed", seeds(2))
@pytest.mark.slow
def test_of_two_folders_on_one_database_the_newest_state_answers_in_both(
    tmp_path: Path, postgresql: str, seed: int
) -> None:
    url = f"sqlite:///{tmp_path}/shared.db" if seed % 2 else fresh_database(postgresql, f"two{seed}")
    found = play_two(tmp_path, url, seed)
    assert found["command"] + found["counts"]


@pytest.mark.parametrize("seed", seeds(8))
def test_whoever_is_forgotten_is_in_no_state_gone_by_and_each_is_read_as_it_was(tmp_path: Path, seed: int) -> None:
    play(tmp_path, 400 + seed, 12)
    c = Community.open(tmp_path)

    def make(edit: Edit) -> None:
        Community.open(tmp_path).plan(edit, why="for vivi").apply(force=True)

    make(MemberAdd("vivi", {"name": "Vivi Pole", "email": "vivi@old.example"}))
    add_token(Home(tmp_path), "robot", member="vivi")
    for folder in ("outbox", "outbox/sent"):
        (tmp_path / folder).mkdir(exist_ok=True)
        for to in ("vivi", "other"):
            letter = EmailMessage(policy=SMTP)
            letter["To"], letter["Subject"] = (
                f"<{to}@old.example>" if to == "vivi" else "<o@b.example>",
                "From Vivi Pole",
            )
            letter.set_content("Vivi Pole, née Żółć, asked.\nvivi@old.example\n")
            (tmp_path / folder / f"1-{to}.eml").write_bytes(letter.as_bytes())
    place = list(c.charter.places)[-1]
    for edit in (
        Say(place, "vivi", "deny", [c.charter.catalogue.keys[0]], True),
        CharterAdd("expectations", f"@vivi may {c.charter.catalogue.keys[0]}"),
        HandOver("vivi"),
        MemberSet("vivi", {"name": "Vivi Reed", "note": "vivi@old.example no more"}),
    ):
        make(edit)
    charter = tmp_path / "charter.yaml"
    charter.write_text(f"# vivi, who was Vivi Pole\n{charter.read_text('utf-8')}", "utf-8")
    make(MemberAdd("other"))
    make(HandOver("other"))
    for refused, mend in (
        ("in the exceptions", Say(place, "vivi", "clear", [c.charter.catalogue.keys[0]], True)),
        ("in an expectation", CharterRemove("expectations", f"@vivi may {c.charter.catalogue.keys[0]}")),
        ("still names Vivi Pole on line 1", MemberSet("vivi", {"note": "waits"})),
    ):
        with pytest.raises(EditError, match=refused):
            Community.open(tmp_path).plan(MemberForget("vivi"))
        make(mend)
    charter.write_text(charter.read_text("utf-8").partition("\n")[2], "utf-8")
    before = Community.open(tmp_path)
    states = {entry.number: says(before.as_of(entry.number)) for entry in before.journal()}
    before.plan(MemberForget("vivi"), why="asked").apply(force=True)
    left = Community.open(tmp_path)
    assert before.home.told[1:] == ["The token robot, which acted as them, is taken back."]
    for folder in ("outbox", "outbox/sent"):
        [kept] = (tmp_path / folder).glob("*.eml")
        letter = message_from_bytes(kept.read_bytes(), policy=SMTP)
        assert (kept.name, letter["Subject"]) == ("1-other.eml", "From stranger-1")
        assert letter.get_content().splitlines() == ["stranger-1, née Żółć, asked.", "stranger-1"]
    words = [word.encode() for word in ("vivi", "Vivi", "Pole", "Reed", "old.example")]
    assert not [file for file in tmp_path.rglob("*") if file.is_file() and any(w in file.read_bytes() for w in words)]
    for number, state in states.items():
        assert words_in(says(left.as_of(number))) == words_in(state, vivi="stranger-1"), number
    assert {entry.number for entry in left.journal()} > states.keys()


def words_in(state: object, *, vivi: str = "vivi") -> list[str]:
    """All words of what a charter says: sets in it have no order."""
    return sorted(re.findall(r"[\w.+-]+", repr(state).replace("vivi", vivi)))
