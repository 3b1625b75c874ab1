"""The command line as people and scripts use it."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from ask_above import Community
from ask_above.cli.main import COMMANDS
from commands import PLAIN, as_process, run
from conftest import DEMO, Place


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("demo") / "wren-valley"
    done = run("demo", str(folder))
    assert done.returncode == 0, done.stderr
    return folder


def test_the_demo_is_written_and_its_three_mistakes_are_found_and_explained(tmp_path: Path) -> None:
    done = run("demo", "river", cwd=tmp_path)
    assert done.returncode == 0
    assert {path.name for path in (tmp_path / "river").iterdir()} == {
        "charter.yaml", "gauges.yaml", "members.csv", "assignments.csv", "signins.csv", "actions.csv.gz",
    }  # fmt: skip
    for part in (
        "3 of 18 expectations are not met",
        "Otto Kessler (Founding friend) does not stand below Bram Ashby (Board host)",
        "The place Lower gauges denies reading.post to Volunteer (charter.yaml line 218)",
        "Member withholds photo.upload",
        "Next steps",
    ):
        assert part in " ".join(done.stdout.split())
    charter = tmp_path / "river" / "charter.yaml"
    charter.write_text(charter.read_text("utf-8").replace("title: Notices", "title: News"), "utf-8")
    again = run("demo", "river", cwd=tmp_path)
    assert "nothing was written" in again.stdout
    assert "title: News" in charter.read_text("utf-8")
    (tmp_path / "river" / "members.csv").unlink()
    refused = run("demo", "river", cwd=tmp_path)
    assert refused.returncode == 2
    assert "holds charter.yaml, gauges.yaml, assignments.csv, signins.csv, actions.csv.gz already" in refused.stderr


@pytest.mark.parametrize(
    ("question", "status"),
    [
        ("dara post.write --at river-talk", 0),
        ("dara post.write --at notices", 1),
        ("petra post.edit --at field-talk --author petra", 0),
        ("petra post.edit --at field-talk --author tomas", 1),
        ("arne post.publish --at review --when 2027-01-31T23:59", 0),
        ("arne post.publish --at review --when 2027-02-01", 1),
        ("bram moderate dara --at river-talk --using member.mute", 1),
        ("ada assign surveyor --to dara", 0),
        ("ada unassign volunteer --of dara", 0),
        ("rank:warden manage host", 0),
        ("rank:warden call steward", 0),
        ("visitor place.see --at field", 1),
    ],
)
def test_may_answers_by_its_exit_status_and_says_why(demo: Path, question: str, status: int) -> None:
    done = run("may", *question.split(), cwd=demo)
    assert done.returncode == status, done.stdout + done.stderr
    assert done.stdout.startswith("No: " if status else "Yes: ")
    assert "Because: " in done.stdout
    data = json.loads(run("may", *question.split(), "--format", "json", cwd=demo).stdout)
    assert data["allowed"] is (status == 0)
    assert data["reason"]
    assert all(re.fullmatch(r"\d\.\d+[a-d]?", step["rule"]) for step in data["steps"])
    rows = list(csv.DictReader(io.StringIO(run("may", *question.split(), "--format", "csv", cwd=demo).stdout)))
    assert rows[0]["allowed"] == str(status == 0).lower()


@pytest.mark.parametrize(
    ("args", "part"),
    [
        ("may petre post.write", "There is no member, rank, place or group 'petre'. Nearest: petra"),
        ("may petra post.wirte", "Nearest: post.write"),
        ("may petra post.write --at notises", "There is no place 'notises'. Nearest: notices"),
        ("may petra moderate", "needs whom or which rank"),
        ("may petra unassign volunteer", "unassign volunteer of MEMBER"),
        ("may petra post.write --to dara", "--to goes with assign alone"),
        ("may petra post.write dara", "'post.write' is no act"),
        ("may petra post.write --when tomorow", "Cannot read 'tomorow' as a date"),
        ("may bram moderate dara --using post.write", "none of the capabilities that moderating takes"),
        ("may notices post.write", "'notices' is a place"),
        ("powers rename", "'rename' is not one of"),
        ("chek", "There is no command 'chek'. Nearest: check"),
        ("ladder --figure nowhere/a.png", "/nowhere: No such file or directory"),
        ("check --community nowhere", "There is no charter.yaml in 'nowhere'"),
    ],
)
def test_wrong_use_gets_a_message_and_exit_status_2(demo: Path, args: str, part: str) -> None:
    done = run(*args.split(), cwd=demo)
    assert done.returncode == 2
    assert part in done.stderr
    assert "Traceback" not in done.stderr + done.stdout


@pytest.mark.parametrize("says", ["", "capabilities: {}\nranks: []\nplaces: []\n", "ranks: [{key: r}]\n"])
def test_a_community_that_says_next_to_nothing_is_answered_as_any_other(tmp_path: Path, says: str) -> None:
    (tmp_path / "charter.yaml").write_text(f'charter: "1"\nkey: small\n{says}', "utf-8")
    (tmp_path / "members.csv").write_text("key\nm\n", "utf-8")
    commands = "check --advice|ladder|grid|powers|cover|roster|climb --figure a.png|tour m|tour visitor|describe site"
    for args in f"{commands}|report a.html|journal|rank move r --top --plan|member forget m --plan".split("|"):
        assert "itself (" not in run(*args.split(), cwd=tmp_path).stderr, args


def test_the_community_comes_from_the_option_the_environment_or_the_folder(demo: Path, tmp_path: Path) -> None:
    assert run("ladder", cwd=demo).returncode == 0
    assert run("ladder", "--community", str(demo), cwd=tmp_path).returncode == 0
    assert run("ladder", "--community", str(demo / "charter.yaml"), cwd=tmp_path).returncode == 0
    assert run("ladder", cwd=tmp_path, ASK_ABOVE_COMMUNITY=str(demo)).returncode == 0
    missing = run("ladder", cwd=tmp_path)
    assert missing.returncode == 2
    assert "ask-above demo DIR" in missing.stderr


def test_check_reports_every_fault_and_unmet_expectation_for_people_and_machines(demo: Path, tmp_path: Path) -> None:
    done = run("check", cwd=demo)
    assert done.returncode == 1
    assert "12 ranks, 41 capabilities, 20 places, 60 members" in done.stdout
    data = json.loads(run("check", "--format", "json", cwd=demo).stdout)
    assert data["well_formed"] is True
    assert [each["line"] for each in data["unmet"]] == [260, 261, 262]
    assert not data["unmet"][0]["answers"][0]["allowed"]
    broken = tmp_path / "charter.yaml"
    broken.write_text((demo / "charter.yaml").read_text("utf-8").replace("kind: board", "kid: board", 2), "utf-8")
    done = run("check", cwd=tmp_path)
    assert done.returncode == 2
    assert "A place has no field 'kid'." in done.stdout
    assert "There is no file 'gauges.yaml' beside charter.yaml." in done.stdout
    faults = json.loads(run("check", "--format", "json", cwd=tmp_path).stdout)["faults"]
    assert {fault["code"] for fault in faults} >= {"unknown-key", "missing", "missing-add-on"}
    assert "Traceback" not in run("grid", cwd=tmp_path).stderr


@pytest.mark.parametrize("content", [b"\x89PNG\r\n\x1a\n", b"x" * 200_000, b"hello\n", b""])
def test_a_file_that_is_no_list_is_refused_wherever_one_is_given(brook: Place, content: bytes) -> None:
    (brook.folder / "a.csv").write_bytes(content)
    for args in ("grid --take a.csv", "new b --grid a.csv", "import a.csv", "assign host --list a.csv", "audit a.csv"):
        done = run(*args.split(), cwd=brook.folder)
        assert (done.returncode, "itself (" in done.stderr) == (2, False), args


@pytest.mark.parametrize("content", [None, b"", b"add-on: [", b"\xe9"])
def test_what_an_unread_add_on_would_have_brought_is_not_missed_as_well(brook: Place, content: bytes | None) -> None:
    file = brook.folder / "gauges.yaml"
    file.unlink() if content is None else file.write_bytes(content)
    (fault,) = json.loads(run("check", "--format", "json", cwd=brook.folder).stdout)["faults"]
    assert "gauges.yaml" in fault["file"] + fault["message"]


def test_the_grid_fits_wide_and_narrow_screens_and_cuts_nothing(demo: Path) -> None:
    for width, expected in (("160", "Founding"), ("100", "7 Founding friend"), ("60", "Passer-by")):
        lines = run("grid", cwd=demo, COLUMNS=width).stdout.splitlines()
        assert max(map(len, lines)) <= int(width)
        text = "\n".join(lines)
        assert expected in text
        assert text.count("reading.correct.all") == text.count("Field work")
        assert "…" not in text
    notices = run("grid", "--at", "notices", cwd=demo).stdout
    assert "through an automatic rank" in notices
    assert "does not apply in a place of this kind" in notices


def test_the_tables_say_the_same_to_machines(demo: Path) -> None:
    rows = list(csv.DictReader(io.StringIO(run("grid", "--at", "notices", "--format", "csv", cwd=demo).stdout)))
    write = next(row for row in rows if row["capability"] == "post.write")
    assert (write["warden"], write["member"]) == ("true", "false")
    ladder = json.loads(run("ladder", "--format", "json", cwd=demo).stdout)
    assert [each["rank"] for each in ladder][:2] == ["steward", "warden"]
    assert ladder[0]["holders"] == ["ines", "olaf"]
    people = json.loads(run("who", "place.see", "--at", "landowners", "--format", "json", cwd=demo).stdout)
    assert "petra" in [each["member"] for each in people]
    assert "bram" not in [each["member"] for each in people]
    powers = json.loads(run("powers", "assign", "--format", "json", cwd=demo).stdout)
    bot = next(each for each in powers if (each["actor"], each["target"]) == ("warden", "relay-bot"))
    assert not bot["allowed"]
    assert len(bot["reasons"]) == 2


def test_a_right_can_be_followed_home_and_to_all_places(demo: Path) -> None:
    said = json.loads(
        run("who", "photo.upload", "--at", "photo-wall", "--through", "--format", "json", cwd=demo).stdout
    )
    through = {each["member"]: each["through"] for each in said}
    assert through["dara"] == "The rank Volunteer grants photo.upload (charter.yaml line 148)"
    assert through["ines"] == "Ines Moor is the owner and may do everything"
    assert "Journal editor" not in through["kofi"]  # an editor in the journal alone
    seen = json.loads(run("who", "place.see", "--at", "rota", "--through", "--format", "json", cwd=demo).stdout)
    assert next(each for each in seen if each["member"] == "rosa")["through"].startswith("The place Field work allows")
    places = json.loads(run("where", "petra", "reading.certify", "--format", "json", cwd=demo).stdout)
    assert [each["place"] for each in places] == ["upper-gauges", "lower-gauges"]
    nowhere = run("where", "visitor", "post.write", cwd=demo)
    assert nowhere.returncode == 1
    assert "visitor may use post.write in none of 20 places" in nowhere.stdout
    assert "Notices" in run("where", "visitor", "place.see", cwd=demo).stdout
    inside = run("who", "place.see", "--at", "landowners", "--through", cwd=demo, COLUMNS="260").stdout
    assert "The gate of Landowner contacts admits Petra Lind through Upper reach team" in inside
    assert "admits Ada Marsh through River warden or above" in inside


def test_powers_gives_the_reasons_and_a_line_for_each_rank(demo: Path) -> None:
    done = run("powers", "--at", "river-talk", cwd=demo, COLUMNS="160")
    assert re.search(r"Power over ranks, River talk\n +Steward +River warden +Board host\n", done.stdout)
    assert re.search(r"9 Volunteer +MAG +MAG +M\n", done.stdout)
    assert "M moderate   A assign   G manage" in done.stdout
    one = run("powers", "moderate", "--at", "river-talk", cwd=demo).stdout
    assert "b not below" in one
    assert re.search(r"6 Relay bot +● +l +b\n", one)
    assert "Journal editor  " not in one.splitlines()[1]
    assert re.search(r"Reach lead +bc +bc", run("powers", "moderate", "--full", cwd=demo, COLUMNS="160").stdout) is None
    assert "c lacks the capability" in run("powers", "moderate", "--full", cwd=demo).stdout


def test_output_is_plain_in_a_pipe(demo: Path) -> None:
    for args in (("check",), ("grid",), ("ladder",), ("powers",), ("may", "dara", "post.write"), ("who", "place.see")):
        assert "\x1b" not in run(*args, cwd=demo).stdout


@pytest.mark.slow
def test_output_is_coloured_on_a_terminal_unless_asked_not_to_be(demo: Path) -> None:
    pty = pytest.importorskip("pty")

    def on_a_terminal(**env: str) -> str:
        reader, writer = pty.openpty()
        command = [sys.executable, "-m", "ask_above", "may", "dara", "post.write", "--at", "notices"]
        with subprocess.Popen(command, stdout=writer, cwd=demo, env=PLAIN | {"TERM": "xterm"} | env) as process:
            os.close(writer)
            seen = b""
            while True:
                try:
                    piece = os.read(reader, 4096)
                except OSError:
                    break
                if not piece:
                    break
                seen += piece
            process.wait()
        os.close(reader)
        return seen.decode()

    assert "\x1b[38;5;160mNo: Dara Fenwick" in on_a_terminal()
    assert "\x1b" not in on_a_terminal(NO_COLOR="1")


def test_help_fits_one_screen_and_every_command_shows_an_example() -> None:
    whole = run("--help").stdout
    assert len(whole.splitlines()) <= 40
    for command in COMMANDS:
        said = run(command, "--help")
        assert said.returncode == 0
        assert f"ask-above {command}" in said.stdout.split("Example")[1]


def test_every_command_shows_all_with_full_and_takes_in_for_at() -> None:
    """What is written in a call that stays fixed, such as ``member add KEY --rank RANK --in PLACE``, can be typed."""
    groups = {"rank", "place", "group", "member", "charter", "token"}
    texts = {command: run(command, "--help").stdout for command in COMMANDS}
    for group in groups & texts.keys():
        _, _, listed = texts.pop(group).partition("Commands:\n")
        below = re.findall(r"^  ([a-z-]+)  ", listed, re.MULTILINE)
        texts |= {f"{group} {word}": run(group, word, "--help").stdout for word in below}
    assert len(texts) > 60
    for command, text in texts.items():
        assert "  --full " in text, command
        assert ("--at PLACE" in text) == ("--in, --at PLACE" in text), command
        assert "--in," in text or command not in ("member add", "member invite", "member vouch", "import", "who", "may")


def test_names_are_completed_in_the_shell(demo: Path) -> None:
    env = {"_ASK_ABOVE_COMPLETE": "bash_complete", "COMP_WORDS": "ask-above may dara post.e", "COMP_CWORD": "3"}
    code = "import sys; sys.argv[0] = 'ask-above'; from ask_above.cli.main import run; run()"
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=False, cwd=demo, env=PLAIN | env
    )
    assert "post.edit.own" in done.stdout


@pytest.mark.slow
def test_as_a_process_of_its_own_it_says_the_same(demo: Path) -> None:
    for args in (
        ("may", "dara", "reading.post", "--at", "lower-gauges"),
        ("check",),
        ("ladder", "--format", "json"),
        ("may", "nobodyy", "post.write"),
        ("no-such-command",),
        ("--help",),
    ):
        one, other = as_process(*args, cwd=demo), run(*args, cwd=demo)
        assert one.returncode == other.returncode
        assert one.stdout.replace("python -m ask_above", "ask-above") == other.stdout
        assert one.stderr.replace("python -m ask_above", "ask-above") == other.stderr


def _of_many(folder: Path) -> list[tuple[str, ...]]:
    """Return commands whose first screen leaves something out."""
    members = [f"extra-{n}" for n in range(30)]
    with (folder / "members.csv").open("a", encoding="utf-8") as file:
        file.writelines(f"{key},Extra {key},,,active,,,\n" for key in members)
    charter = Community.open(folder).charter
    rows = [f"lena,{key},2026-05-01T12:00:00Z,commons\n" for key in charter.catalogue.keys]
    rows += [f"nobody-{n},post.write,2026-05-01T12:00:00Z,commons\n" for n in range(20)]
    (folder / "log.csv").write_text("member,action,when,place\n" + "".join(rows), "utf-8")
    shutil.copytree(folder, folder / "other")
    less = ("rank", "withhold", "member", *charter.ranks["member"].grants, "--yes", "--force", "--why", "Flood")
    assert run(*less, cwd=folder / "other").returncode == 0
    return [
        ("audit", "log.csv"),
        ("assign", "steward", *members, "--plan"),
        ("impact", "other"),
        ("fit", "post.edit.all"),
        ("may", "lena", "post.write", "--ways"),
    ]


@pytest.mark.slow
def test_what_the_first_screen_leaves_out_is_shown_in_full(tmp_path: Path) -> None:
    folder = tmp_path / "wren-valley"
    shutil.copytree(DEMO, folder)
    left_out = 0
    for command in _of_many(folder):
        short, full = (run(*command, *more, cwd=folder).stdout for more in ((), ("--full",)))
        left_out += short.count("more (--full)")
        assert "--full" not in full, command
    assert left_out > 3


@pytest.mark.parametrize("group", ["rank", "place", "group", "member", "charter", "token"])
def test_each_command_of_a_group_is_described_by_a_whole_sentence(group: str) -> None:
    _, _, listed = run(group, "--help").stdout.partition("Commands:\n")
    entries = re.split(r"\n  (?=\S)", listed.strip("\n"))
    assert len(entries) > 2
    assert all(entry.endswith(".") and "..." not in entry and "ask-above" not in entry for entry in entries), entries
