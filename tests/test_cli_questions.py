"""The administrator's questions on the command line, as a process."""

from __future__ import annotations

import csv
import io
import json
import re
import shutil
from pathlib import Path
from typing import Any

import pytest

from ask_above import Community
from ask_above.show.screen import FULL
from commands import run
from test_cli import demo

__all__ = ["demo"]


def data(*args: str, cwd: Path) -> Any:
    return json.loads(run(*args, "--format", "json", cwd=cwd).stdout)


def words(*args: str, cwd: Path) -> str:
    done = run(*args, cwd=cwd)
    assert done.stderr == ""
    return " ".join(done.stdout.split())


@pytest.mark.slow
def test_a_tour_shows_what_is_open_closed_and_changed_and_for_the_administrator_why(demo: Path) -> None:
    said = words("tour", "bram", cwd=demo)
    assert "finds it Board host since 1 Apr 2024, Volunteer since 17 Jan 2019; group Lower reach team" in said
    assert "Keeps the talk on the boards friendly" in words("tour", "rank:host", cwd=demo)
    assert "▪ Landowner contacts" in said
    assert "− write posts, start a poll ▸ Welcome desk, River talk: as Notices, + write posts, start a poll" in said
    assert "▸ Patrol rota, Field talk: as River talk" in said
    assert said.endswith("(why closed: --full)")
    full = words("tour", "bram", "--full", cwd=demo)
    assert "Why these places are closed (for administrators) Landowner contacts (closed): The gate of" in full
    assert "it requires any of Upper reach team" in full
    states = {each["place"]: each["state"] for each in data("tour", "visitor", cwd=demo)["places"]}
    assert (states["notices"], states["field"]) == ("open", "not there")


def test_two_people_walk_side_by_side(demo: Path) -> None:
    said = words("tour", "visitor", "--beside", "lena", cwd=demo)
    assert "▸ Welcome desk write posts · ✓ No further difference" in said
    assert "Field work" in said
    assert "▸ Welcome desk see and read a place ✓ ✓" not in said
    assert "see and read a place ✓ ✓" in words("tour", "visitor", "--beside", "lena", "--full", cwd=demo)
    rows = list(
        csv.DictReader(io.StringIO(run("tour", "visitor", "--beside", "lena", "--format", "csv", cwd=demo).stdout))
    )
    assert {
        "place": "welcome",
        "title": "Welcome desk",
        "capability": "post.write",
        "one": "false",
        "other": "true",
    } in rows


def test_a_rank_is_compared_with_its_original_and_two_people_at_a_place(demo: Path) -> None:
    said = words("compare", "rank:volunteer", cwd=demo)
    assert "Volunteer and Surveyor, side by side Volunteer was copied from Surveyor." in said
    assert "gauge.alarm (medium risk) by the pattern gauge.*" in said
    # what differs in the same places is one line; through what is in the full form
    said = words("compare", "ada", "bram", cwd=demo)
    assert "kit.lend, member.lock (high risk), rank.manage (high risk), job.schedule (medium risk) on the whole" in said
    assert "The rank River warden grants" not in said
    assert "The rank River warden grants member.lock" in words("compare", "ada", "bram", "--full", cwd=demo)
    rows = data("compare", "bram", "freya", "--at", "river-talk", cwd=demo)
    assert {row["capability"] for row in rows if row["who"] == "one"} == {
        "place.pin", "thread.close", "member.mute", "member.rename.all",
    }  # fmt: skip
    assert run("compare", "bram", cwd=demo).returncode == 2


def test_may_says_what_would_turn_the_answer(demo: Path) -> None:
    said = words("may", "dara", "reading.post", "--at", "lower-gauges", "--ways", cwd=demo)
    assert "1. Allow Dara Fenwick alone reading.post in Lower gauges. no other answer changes; 2 lines" in said
    assert "→ ask-above place except lower-gauges dara --allow reading.post" in said
    found = data("may", "bram", "moderate", "dara", "--at", "river-talk", "--using", "member.mute", "--ways", cwd=demo)
    assert found["allowed"] is False
    assert all(way["answers"] >= 0 for way in found["ways"])
    assert [way["command"].split()[1] for way in found["ways"]] == ["assign"] * 5


@pytest.mark.slow
def test_impact_tells_gains_of_high_risk_by_its_exit_status(demo: Path, tmp_path: Path) -> None:
    after = tmp_path / "after"
    shutil.copytree(demo, after)
    charter = after / "charter.yaml"
    text = charter.read_text("utf-8")
    assert run("impact", str(demo), str(after), cwd=tmp_path).stdout == "Nobody gains or loses anything.\n"
    charter.write_text(text.replace("grants: [place.see]\n", "grants: [place.see, contact.export]\n"), "utf-8")
    done = run("impact", str(demo), str(after), cwd=tmp_path)
    assert done.returncode == 1
    assert "and visitors gain 1 capability in 1 place + contact.export (high risk)" in " ".join(done.stdout.split())
    charter.write_text(text.replace("rota.join, poll.start", "rota.join"), "utf-8")
    done = run("impact", str(demo), "--community", str(after), cwd=tmp_path)
    assert done.returncode == 0
    assert "− poll.start" in " ".join(done.stdout.split())
    charter.write_text(text.replace("grants: [post.publish, post.edit.all", "grants: [post.edit.all"), "utf-8")
    done = run("impact", str(demo), str(after), cwd=tmp_path)
    assert done.returncode == 1
    assert "✗ editor may post.publish in front-page: not met" in done.stdout


def test_fit_names_the_rank_and_proposes_one_that_can_be_pasted(demo: Path) -> None:
    said = words("fit", "reading.post", "in", "upper-gauges,", "rota.join", "in", "rota", cwd=demo)
    assert "The best single rank: Volunteer beyond the need (weight" in said
    found = data("fit", "post.publish", "in", "front-page", "--limit", "10", cwd=demo)
    assert found["single"]["ranks"] == ["editor"]
    assert found["proposal"]["overrides"] == {"front-page": "new-rank: {allow: [post.publish]}"}
    assert run("fit", "site.restart", "in", "site", "--never", "site.restart", cwd=demo).returncode == 1
    assert "name the place after it" in run("fit", "rota.join", "in", cwd=demo).stderr


def test_cover_counts_and_says_who_is_the_only_one(demo: Path) -> None:
    said = words("cover", cwd=demo)
    assert "At least two members cover every duty" in said
    alone = words("cover", "gauge.calibrate", "--without", "olaf", cwd=demo)
    assert "Ines Moor alone may: gauge.calibrate in Upper gauges" in alone
    rows = data("cover", "member.mute", "--at", "river-talk", cwd=demo)
    assert rows == [
        {
            "place": "river-talk",
            "capability": "member.mute",
            "members": 6,
            "only": "",
            "by_rank": "owner=1;steward=1;warden=2;host=2",
        }
    ]


def test_the_roster_what_is_soon_who_waits_and_which_accounts_look_shared(demo: Path, tmp_path: Path) -> None:
    said = words("roster", cwd=demo)
    assert said.startswith("Name Key Also Steward (2) Ines Moor ≈ ines")
    assert "[Warden] Ada Marsh" in said
    soon = words("roster", "--soon", "100", "--when", "2026-11-25", cwd=demo)
    assert "31 Jan 2027 ends Arne Teal Journal editor River journal" in soon
    waiting = data("roster", "--waiting", "14", "--when", "2026-11-25", cwd=demo)
    assert [each["member"] for each in waiting] == ["lena", "joss", "emil", "wim"]
    shared = words("roster", "--sign-ins", cwd=demo)
    assert "Kofi Dace (kofi): 6 networks from 16 Nov 2026 to 21 Nov 2026" in shared
    assert "Birgit" not in shared
    assert "Birgit" in words("roster", "--sign-ins", "--networks", "3", "--days", "30", cwd=demo)
    broken = tmp_path / "wv"
    shutil.copytree(demo, broken)
    (broken / "signins.csv").write_text("member,when,address\nkofy,yesterday,10.1\n", "utf-8")
    done = run("roster", "--sign-ins", cwd=broken)
    assert done.returncode == 2
    for part in ("There is no member 'kofy'", "'yesterday' is no moment", "'10.1' is no address", "3 faults"):
        assert part in done.stderr


def test_who_may_act_on_somebody(demo: Path) -> None:
    said = words("who", "moderate", "tomas", "--at", "field", "--through", cwd=demo)
    assert "4 of 60 members may moderate Tomas Reed in Field work" in said
    assert "stands below Birgit Loach" in said
    assert run("who", "moderate", cwd=demo).returncode == 2


def test_check_gives_advice_and_strict_makes_it_count(demo: Path, tmp_path: Path) -> None:
    mended = tmp_path / "mended"
    shutil.copytree(demo, mended)
    charter = mended / "charter.yaml"
    text = charter.read_text("utf-8")
    kept = text[: text.index("expectations:")]
    charter.write_text(kept, "utf-8")
    assert run("check", cwd=mended).returncode == 0
    assert run("check", "--strict", cwd=mended).returncode == 1
    said = words("check", "--advice", cwd=demo)
    assert "expectation" not in said
    assert "line 132 Founding friend grants nothing and stands above Board host" in said
    assert "[badge-above-power]" in said
    found = data("check", cwd=demo)
    codes = {each["code"] for each in found["advice"]}
    assert {"below-everyone", "still-carried", "detour"} <= codes
    silent = ", ".join(f"{code}: it is meant" for code in sorted(codes))
    text = kept.replace("most-high-risk: 6", f"most-high-risk: 6, silent: {{{silent}}}")
    charter.write_text(text, "utf-8")
    done = run("check", "--strict", cwd=mended)
    assert done.returncode == 0, done.stdout
    assert "No further advice" in done.stdout
    assert f"Silenced by the charter: {len(found['advice'])}" in done.stdout


@pytest.mark.parametrize(
    "args",
    [
        "grid",
        "ladder",
        "powers moderate",
        "who place.see",
        "where ines place.see",
        "tour bram",
        "compare rank:warden",
        "cover",
        "roster",
        "check",
    ],
)
def test_every_table_can_be_had_as_markdown(demo: Path, args: str) -> None:
    lines = run(*args.split(), "--format", "md", cwd=demo).stdout.splitlines()
    assert len(lines) > 2
    assert set(lines[1]) <= set("|- ")
    assert all(line.startswith("| ") and line.endswith(" |") for line in lines)
    bars = {line.replace("\\|", "").count("|") for line in lines}
    assert len(bars) == 1


DATED = [
    "check", "journal", "history bram", "member show bram --everything", "member list --columns key,joined",
    "describe bram", "tour bram", "may bram gauge.see --at upper-gauges", "roster --soon 400", "roster --sign-ins",
    "roster --waiting", "unassign surveyor bram --plan", "token list", "audit actions.csv.gz", "ladder",
]  # fmt: skip


def test_on_the_screen_dates_are_written_as_people_write_them(demo: Path, tmp_path: Path) -> None:
    river = tmp_path / "wv"
    shutil.copytree(demo, river)
    for change in (
        "assign surveyor bram --from 2097-01-01 --until 2097-06-01T18:00 --yes",
        "token add app --until 2097-01-31",
        "member invite Ulla ulla@wren-valley.example --yes",
    ):
        run(*change.split(), cwd=river)
    shown = {each: " ".join(run(*each.split(), "--full", cwd=river).stdout.split()) for each in DATED}
    assert {command for command, text in shown.items() if re.search(r"\b20\d\d-\d\d", text)} == set()
    assert "surveyor site from 1 Jan 2097 until 1 Jun 2097, 18:00" in shown["member show bram --everything"]
    assert "through 31 Jan 2097" in shown["token list"]
    # who is pending since before the first change has waited for nobody knows how long, not since then
    assert "lena pending unknown" in shown["roster --waiting"]
    assert "ulla invited 0 days" in shown["roster --waiting"]
    # and what the files had was done by nobody with that change
    first = data("history", "bram", cwd=river)[1]["what"]
    assert first == "as the files had it: Board host on the whole site from 1 Apr 2024, assigned by Ada Marsh"


LONG = [
    "check", "ladder", "who --risk high", "who post.write", "describe volunteer", "describe notices",
    "compare bram freya", "cover --enter", "cover --without ada --without ines --without olaf --without birgit",
    "climb", "climb volunteer", "fit reading.post", "rank grant host contact.export --plan",
    "rank move volunteer --top --plan", "rank withhold volunteer post.write --plan --force --why Flood",
    "member retire ada --plan",
]  # fmt: skip


def test_in_full_all_of_a_list_is_named_and_data_are_the_same(demo: Path) -> None:
    less = 0
    for command in LONG:
        short, full = (" ".join(run(*command.split(), *more, cwd=demo).stdout.split()) for more in ((), ("--full",)))
        cut = re.compile(r"\band (?:[\d,]+ (?:more|others?)|others)\b")
        less += len(cut.findall(short))
        assert not cut.search(full), command
        if "--plan" not in command:
            one, other = (
                run(*command.split(), *more, "--format", "json", cwd=demo).stdout for more in ((), ("--full",))
            )
            assert one == other
    assert less > len(LONG)
    short, full = (Community.open(demo).describe("volunteer", full=full).text for full in (False, True))
    assert "and 39 more" in short
    # a command says for itself alone what is shown
    for more in ((), ("--bogus",), ("--when", "never")):
        run("describe", "volunteer", "--full", *more, cwd=demo)
        assert not FULL.get()
    assert "and 39 more" not in full
    names = [member.name for member in Community.open(demo).register.members.values()]
    assert sum(name in full for name in names) - sum(name in short for name in names) == 39
