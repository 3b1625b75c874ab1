"""Changing a community on the command line, as a process: plan, ask, refuse, make, tell, look back, take back."""

from __future__ import annotations

import csv
import json
import os
import pty
import re
import shutil
import subprocess
import sys
from email import message_from_string, policy
from pathlib import Path
from typing import Any

import pytest

from ask_above import Community
from commands import PLAIN, run
from conftest import DEMO


@pytest.fixture
def river(tmp_path: Path) -> Path:
    folder = tmp_path / "river"
    shutil.copytree(DEMO, folder)
    return folder


def said(*args: str, cwd: Path, status: int = 0) -> str:
    done = run(*args, cwd=cwd)
    assert done.returncode == status, done.stdout + done.stderr
    return " ".join((done.stdout + done.stderr).split())


def state(folder: Path) -> dict[str, bytes]:
    return {file.name: file.read_bytes() for file in folder.iterdir() if file.suffix in (".yaml", ".csv", ".db")}


def asked(answer: str, *args: str, cwd: Path) -> tuple[int, str]:
    """Run a command that finds a terminal to ask on, and answer it."""
    here, there = pty.openpty()
    with subprocess.Popen(
        [sys.executable, "-m", "ask_above", *args], stdin=there, stdout=subprocess.PIPE, cwd=cwd, env=PLAIN, text=True
    ) as process:
        os.write(here, f"{answer}\n".encode())
        out, _ = process.communicate(timeout=300)
    os.close(here)
    os.close(there)
    return process.returncode, out


@pytest.mark.slow
@pytest.mark.parametrize(("answer", "added"), [("y", False), ("n", True)])
def test_an_import_asks_whether_somebody_of_the_same_name_is_meant(river: Path, answer: str, added: bool) -> None:
    (river / "more.csv").write_text("name,email\nBram Ashby,bram@elsewhere.example\n")
    status, shown = asked(f"{answer}\ny", "import", "more.csv", "--status", "active", cwd=river)
    assert (status, "is Bram Ashby (bram@elsewhere.example) the member Bram Ashby (bram, " in shown) == (0, True), shown
    c = Community.open(river)
    assert len(c.register.members) == 60 + added
    assert (c.member("bram").email == "bram@elsewhere.example") is not added


@pytest.mark.slow
def test_a_plan_shows_and_stops_and_without_a_terminal_nothing_is_made_unasked(river: Path) -> None:
    before = state(river)
    plan = said("rank", "grant", "host", "contact.export", "--plan", cwd=river)
    assert "Board host (1 member) gains 1 capability in 1 place + contact.export (high risk) on the whole site" in plan
    assert "! Someone gains a high-risk capability. Plan only: nothing was changed." in plan
    silent = said("rank", "grant", "host", "contact.export", cwd=river, status=2)
    assert "No terminal to ask on: --yes makes the change, --plan only shows it." in silent
    assert state(river) == before


@pytest.mark.parametrize(("answer", "status"), [("n", 1), ("y", 0)])
@pytest.mark.slow
def test_on_a_terminal_it_asks_first(river: Path, answer: str, status: int) -> None:
    before = (river / "charter.yaml").read_text("utf-8")
    code, out = asked(answer, "rank", "grant", "host", "poll.start", "--community", str(river), cwd=river)
    assert (code, "Make this change?" in out) == (status, True)
    assert (river / "charter.yaml").read_text("utf-8").replace("place.pin, poll.start]", "place.pin]") == before
    assert ((river / "charter.yaml").read_text("utf-8") != before) == (answer == "y")


def test_out_of_reach_says_why_and_who_could_and_does_nothing(river: Path) -> None:
    before = state(river)
    refused = said("assign", "warden", "dara", "--at", "upper-gauges", "--as", "petra", "--yes", cwd=river, status=1)
    assert "Petra Lind may not do this" in refused
    assert "River warden does not stand below Petra Lind (Reach lead) in Upper gauges. [act, 6.3]" in refused
    assert "→ Ines Moor or Olaf Tarn may do this." in refused
    assert state(river) == before


def test_the_journal_shows_which_lines_of_the_charter_a_change_replaced(river: Path) -> None:
    before = (river / "charter.yaml").read_text("utf-8").splitlines()
    said("rank", "rename", "volunteer", "--key", "helper", "--yes", cwd=river)
    said("charter", "remove", "expectations", "helper may not photo.upload in photo-wall", "--yes", cwd=river)
    now = (river / "charter.yaml").read_text("utf-8").splitlines()
    for number in ("3", "2"):
        blocks: list[tuple[int, list[str], list[str]]] = []
        for line in run("journal", number, cwd=river).stdout.splitlines():
            if head := re.fullmatch(r" {4}charter\.yaml, line (\d+):", line):
                blocks.append((int(head[1]) - 1, [], []))
            elif blocks:
                (blocks[-1][1] if line.startswith("      - ") else blocks[-1][2]).append(line[8:])
        for first, old, new in reversed(blocks):
            assert now[first : first + len(new)] == new
            now[first : first + len(new)] = old
    assert now == before


@pytest.mark.slow
def test_what_breaks_an_expectation_takes_force_and_a_reason(river: Path) -> None:
    edit = ("rank", "grant", "volunteer", "post.publish", "--yes")
    refused = said(*edit, cwd=river, status=1)
    assert "volunteer may not post.publish in front-page" in refused
    said(*edit, "--force", cwd=river, status=1)
    said(*edit, "--force", "--why", "For the flood week", cwd=river)
    entry = json.loads(said("journal", "2", "--format", "json", cwd=river))[0]
    assert (entry["forced"], entry["why"]) == (True, "For the flood week")


@pytest.mark.slow
def test_a_year_of_people_by_command(river: Path) -> None:
    said("member", "add", "vera", "--name", "Vera Pike", "--email", "vera@river.example", "--yes", cwd=river)
    vouched = said("member", "vouch", "--status", "pending", "--yes", cwd=river)
    assert "Vouch for Lena Brook; vouch for Joss Wader; vouch for Emil Lade." in vouched
    assert "Lena Brook lena status: pending → active" in vouched
    (river / "walkers.csv").write_text("name,member\nTove,tove\nMilo,milo\n", "utf-8")
    walkers = said("assign", "host", "--list", "walkers.csv", "--at", "river-talk", "--plan", cwd=river)
    assert "Tove Eddy tove assigned Board host in River talk" in walkers
    (river / "walkers.csv").write_text("tove\nnobody-here\n", "utf-8")
    said("assign", "host", "--list", "walkers.csv", "--yes", cwd=river, status=2)
    said("assign", "surveyor", "vera", "tove", "--at", "upper-gauges", "--until", "2097-03-31", "--yes", cwd=river)
    assert said("may", "vera", "gauge.alarm", "--at", "upper-gauges", cwd=river).startswith("Yes")
    said("member", "retire", "dara", "--written", "tove", "--why", "Moved away", "--yes", cwd=river)
    assert "what they wrote goes to Tove" in said("journal", "--about", "dara", cwd=river)
    assert said("may", "dara", "post.write", "--at", "river-talk", cwd=river, status=1).startswith("No: Dara")
    said("member", "restore", "dara", "--yes", cwd=river)
    locked = said("member", "lock", "dara", "bram", "--plan", cwd=river)
    assert "Bram Ashby bram status: active → locked" in locked
    assert "was:" not in locked
    said("member", "note", "vera", "Has a boat", "--as", "ines", "--yes", cwd=river)
    locked = said("member", "lock", "ines", "--yes", cwd=river, status=2)
    assert "is the owner, who cannot be locked or retired. Hand over first" in locked
    said("member", "hand-over", "olaf", "--as", "ines", "--yes", cwd=river)
    assert "owner: olaf" in (river / "charter.yaml").read_text("utf-8")
    assert run("journal", "--by", "ines moor", cwd=river).stdout == run("journal", "--by", "ines", cwd=river).stdout
    assert "no member 'nobody-here'" in run("journal", "--by", "nobody-here", cwd=river).stderr
    assert "no change 99 in the journal; the last is" in run("journal", "99", cwd=river).stderr
    by = [line for line in run("journal", "--by", "ines", cwd=river).stdout.splitlines() if "  Ines Moor" in line]
    assert len(by) == 2


def test_the_list_of_members_shows_each_only_what_they_may_see(river: Path) -> None:
    said("member", "note", "tove", "Knows the mill owner", "--yes", cwd=river)
    columns = ("member", "list", "--columns", "key,email,note", "--format", "csv")
    all_of_them = {row["key"]: row for row in csv.DictReader(run(*columns, cwd=river).stdout.splitlines())}
    assert all_of_them["tove"]["note"] == "Knows the mill owner"
    for viewer, sees in (("bram", {"bram"}), ("ada", set(all_of_them))):
        rows = list(csv.DictReader(run(*columns, "--as", viewer, cwd=river).stdout.splitlines()))
        assert {row["key"] for row in rows if row["email"]} == {k for k in sees if all_of_them[k]["email"]}
    waiting = said("member", "list", "--status", "pending", "--sort", "name", "--columns", "key", cwd=river)
    assert waiting.startswith("3 of 60 members")
    assert waiting.endswith("emil joss lena")


def test_whoever_may_not_see_how_others_are_reached_is_shown_it_nowhere(river: Path) -> None:
    """By nothing that they are known by outside, in no form."""
    kept = {"name": "Tove Outside", "email": "outside@river.example", "phone": "0199 77", "note": "Outside of it"}
    kept |= {"user_name": "tove.outside", "external_id": "hr:outside"}
    said("member", "set", "tove", *(f"{field}={value}" for field, value in kept.items()), "--yes", cwd=river)
    asked = ["member show tove", "member list --columns key,name,email,note", "history tove", "export as-csv"]
    asked += ["export as-ldif --ldif", "export as-scim --scim"]
    shown = {"dara": "", "ada": ""}
    for viewer in shown:
        done = [run(*each.split(), "--as", viewer, cwd=river) for each in asked]
        done.append(run("report", "page.html", "--for", viewer, cwd=river))
        assert [each.returncode for each in done] == [0] * 7
        shown[viewer] = "".join(each.stdout + each.stderr for each in done)
        for file in [*river.glob("as-*/*"), river / "page.html"]:
            shown[viewer] += file.read_text("utf-8")
    assert [value for value in kept.values() if value in shown["dara"]] == []
    assert [value for value in kept.values() if value not in shown["ada"]] == []


def test_those_concerned_are_told_in_a_standard_mail(river: Path) -> None:
    (river / "letter.txt").write_text("Dear $name,\n\n$news\n-- the river\n", "utf-8")
    told = said("assign", "host", "tove", "--at", "river-talk", "--why", "Spring", "--tell", "--yes", cwd=river)
    assert "Wrote one message to the outbox." in told
    (letter,) = (river / "outbox").glob("*.eml")
    mail = message_from_string(letter.read_text("utf-8"), policy=policy.default)
    assert mail["To"] == "Tove Eddy <tove@wren-valley.example>"
    text = mail.get_content()
    assert text.startswith("Dear Tove Eddy,")
    assert text.rstrip().endswith("-- the river")
    assert "You may now, in River talk: moderate Board host, Volunteer, Newcomer, Member and Passer-by." in text
    said("assign", "host", "maren", "--until", "2097-06-30", "--tell", "--yes", cwd=river)
    known = list((river / "outbox").glob("*-maren.eml"))
    text = message_from_string(known[0].read_text("utf-8"), policy=policy.default).get_content()
    assert "You have the rank Board host on the whole site through 30 Jun 2097." in text
    assert "You may now, on the whole site: moderate Board host, Volunteer, Newcomer, Member and Passer-by." in text
    said("unassign", "volunteer", "maren", "--yes", cwd=river)
    said("assign", "volunteer", "maren", "--tell", "--yes", cwd=river)
    (letter,) = set((river / "outbox").glob("*-maren.eml")) - set(known)
    text = letter.read_text("utf-8")
    assert "You may now" in text
    assert "moderate" not in text  # that is as it was before
    invited = said(
        "member", "invite", "vera", "--email", "vera@river.example", "--message", "Come and see.", "--yes", cwd=river
    )
    assert "Wrote one message" in invited
    assert any("Come and see." in file.read_text("utf-8") for file in (river / "outbox").glob("*.eml"))


@pytest.mark.slow
def test_looking_back_and_taking_back(river: Path) -> None:
    first = (river / "charter.yaml").read_bytes()
    said("rank", "grant", "host", "poll.start", "--yes", cwd=river)
    said("rank", "grant", "surveyor", "photo.remove.all", "--yes", cwd=river)
    text = (river / "charter.yaml").read_text("utf-8")
    (river / "charter.yaml").write_text(text.replace("title: Notices", "title: News"), "utf-8")
    said("place", "set", "welcome", "title=Front desk", "--yes", cwd=river)
    kinds = [each["kind"] for each in json.loads(run("journal", "--format", "json", cwd=river).stdout)]
    assert kinds == ["change", "hand", "change", "change", "import"]
    impact = run("impact", "2", "3", "--format", "csv", cwd=river)
    assert "photo.remove.all" in impact.stdout
    assert "poll.start" not in impact.stdout
    assert "There is no change 77" in said("impact", "77", cwd=river, status=2)
    said("undo", "2", "--yes", cwd=river)
    said("rank", "grant", "surveyor", "poll.start", "--yes", cwd=river)
    dependent = said("undo", "3", "--yes", cwd=river, status=2)
    assert "Change 3 cannot be undone: change 7 (" in dependent
    for number in ("7", "5", "4", "3"):
        said("undo", number, "--yes", cwd=river)
    assert (river / "charter.yaml").read_bytes() == first


def test_what_is_exported_is_what_import_reads(river: Path, tmp_path: Path) -> None:
    said("member", "add", "zed", "--name", "=cmd()", "--yes", cwd=river)
    said("export", str(tmp_path / "out"), cwd=river)
    assert "'=cmd()" in (tmp_path / "out" / "members.csv").read_text("utf-8")
    again = said("import", str(tmp_path / "out" / "members.csv"), "--yes", cwd=river)
    assert "Nothing changes: this is so already" in again
    people = tmp_path / "people.csv"
    people.write_text("key,name,email,status\nuna,Una,una@river.example,active\nBad Key,Bo,bo,pending\n", "utf-8")
    refused = said("import", str(people), "--yes", cwd=river, status=2)
    assert "people.csv, line 3, column 1" in refused
    assert "'Bad Key' cannot be the key of a member" in refused
    assert "'bo' is no e-mail address" in refused
    assert "una@river.example" not in run("member", "list", "--format", "csv", cwd=river).stdout


@pytest.mark.parametrize(
    ("lines", "mapped", "status", "part"),
    [
        ("name,email,rank\nBram Ashby,,surveyor\n,otto@wren-valley.example,surveyor", "", 0, "2 new assignments"),
        ("name,email,rank\nBram Ashby,otto@wren-valley.example,surveyor", "", 2, "are not one member"),
        ("member,rank,role\nbram,surveyor,host", "", 2, "Two columns are the rank: 'rank' and 'role'"),
        ("member,rank,role\nbram,surveyor,host", "role=", 0, "1 new assignment"),
        ("wer,rank,wo\nbram,surveyor,notices", "wer=member wo=place", 0, "assigned Surveyor in Notices"),
    ],
)
def test_a_list_of_assignments_drops_no_column(river: Path, lines: str, mapped: str, status: int, part: str) -> None:
    (river / "list.csv").write_text(lines, "utf-8")
    maps = [word for each in mapped.split() for word in ("--map", each)]
    assert part in said("import", "list.csv", *maps, "--save-map", "map.txt", "--yes", cwd=river, status=status)
    assert (river / "map.txt").exists() is (status == 0)


@pytest.mark.parametrize(
    ("args", "part"),
    [
        (("rank", "remove", "host", "--plan"), "3 members have Board host: Freya Ford, Bram Ashby and Dara Fenwick."),
        (("rank", "grant", "hots", "poll.start", "--plan"), "There is no rank 'hots'. Nearest: host"),
        (("place", "move", "photo-wall", "--into", "field", "--plan"), "Say which: --keep its own overrides"),
        (
            ("assign", "tove", "nothing", "--plan"),
            "There is no rank 'tove'; that is a member, and the rank comes first",
        ),
        (("rank", "withdraw", "contact.export", "--plan"), "No rank grants contact.export."),
        (("undo",), "Nothing has been changed by command yet"),
        (("member", "lock", "--plan"), "Name a member, or say which"),
    ],
)
def test_what_cannot_be_meant_is_said_and_nothing_happens(river: Path, args: tuple[str, ...], part: str) -> None:
    before = state(river)
    assert part in said(*args, cwd=river, status=2)
    assert state(river) == before


def test_a_list_that_cannot_be_read_is_said_with_its_place(river: Path) -> None:
    (river / "people.csv").write_bytes(b"member\ntov\xe9\n")
    said_so = said("assign", "host", "--list", "people.csv", "--yes", cwd=river, status=2)
    assert "people.csv, line 2" in said_so
    assert "save the file as UTF-8" in said_so
    (river / "people.csv").write_text('member\n"tove\n', "utf-8")
    assert "people.csv cannot be read as CSV" in said(
        "assign", "host", "--list", "people.csv", "--yes", cwd=river, status=2
    )
    (river / "people.csv").write_text("name,rank\nTove,host\n", "utf-8")
    assert "no column member or key" in said("assign", "host", "--list", "people.csv", "--yes", cwd=river, status=2)


def test_a_fault_of_the_program_itself_is_a_message_and_shows_its_trace_when_asked(river: Path) -> None:
    code = "import ask_above.cli.main as m; m.main.main = lambda **k: 1 / 0; m.run()"
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=False, env=PLAIN, cwd=river
    )
    assert done.returncode == 2
    assert done.stderr.startswith("Error in Ask Above itself (ZeroDivisionError: division by zero)")
    assert "ASK_ABOVE_TRACE=1 shows where" in done.stderr
    assert "Traceback" not in done.stderr
    traced = PLAIN | {"ASK_ABOVE_TRACE": "1"}
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=False, env=traced, cwd=river
    )
    assert "Traceback" in done.stderr


@pytest.mark.slow
def test_withdrawing_a_right_shows_from_where_and_moving_a_place_keeps_or_takes(river: Path) -> None:
    withdrawn = said("rank", "withdraw", "post.remove.all", "--plan", cwd=river)
    assert "River warden grants post.remove.all, by the bundle housekeeping (charter.yaml line 96)" in withdrawn
    moved = said("place", "move", "photo-wall", "--into", "field", "--as-section", "--yes", cwd=river)
    assert "Done: change 2." in moved
    places: dict[str, Any] = json.loads(run("tour", "ines", "--format", "json", cwd=river).stdout)
    assert [each["place"] for each in places["places"]].index("photo-wall") > [
        each["place"] for each in places["places"]
    ].index("field")
