"""What screens say in a few lines is all that there is to say: read back, it is what the rules say."""

from __future__ import annotations

import io
import json
import re
import shutil
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from random import Random

import pytest
from soak import described, looked

from ask_above import Community, UnknownNameError
from ask_above.change import (
    Assign,
    Edit,
    EditError,
    HandOver,
    MemberAdd,
    MemberForget,
    MemberGroups,
    MemberSet,
    PlaceAdd,
    RankSet,
)
from ask_above.show.plans import show_plan
from ask_above.show.screen import Screen
from commands import run
from conftest import DEMO
from seeds import seeds
from small import held, member, place, rank, texts


@pytest.mark.parametrize("as_it_is", [looked.as_it_is, described.as_it_is], ids=["looked", "described"])
@pytest.mark.parametrize("seed", seeds(8))
def test_read_back_it_is_what_the_rules_say_read_once_more(seed: int, as_it_is: Callable[[int], object]) -> None:
    as_it_is(seed)


def said(folder: Path, files: dict[str, str], *command: str) -> str:
    for name, text in files.items():
        (folder / name).write_text(text, "utf-8")
    return run(*command, cwd=folder, COLUMNS="300").stdout


SEEN = rank("crew", "post.write", "post.pin", "member.mute", held_by="members")


def test_a_tour_says_what_is_possible_above_and_not_here_whatever_else_the_place_allows(tmp_path: Path) -> None:
    # without the place's own words nothing would be possible there, so it takes nothing; above it is possible
    desk = place("desk", overrides={"crew": {"allow": ["place.see"], "deny": ["member.mute"]}})
    shown = said(tmp_path, texts(SEEN, places=[desk], rules={"seeing": "place.see"}), "tour", "rank:crew")
    assert "▸ desk: + see a place − keep someone from writing" in " ".join(shown.split())


def test_a_place_is_told_by_the_whole_site_in_the_words_in_which_that_stands_there(tmp_path: Path) -> None:
    desk = place("desk", overrides={"crew": {"allow": ["place.see"]}})
    files = texts(SEEN, places=[place("shut", places=[desk])], rules={"seeing": "place.see"}, title="Small")
    shown = said(tmp_path, files, "tour", "rank:crew")
    assert "▸ desk: as Whole site, + see a place" in shown


def test_what_another_assignment_goes_on_with_neither_ends_nor_starts_soon(tmp_path: Path) -> None:
    given = [
        held("ann", "crew", until="2097-05-31"),
        held("ann", "crew", since="2097-06-01", until="2097-06-20"),
        held("bo", "crew", until="2097-06-10"),
        held("bo", "crew"),
        held("cy", "crew", "hall", since="2097-06-01"),
    ]
    people = [member("ann"), member("bo"), member("cy")]
    files = texts(rank("crew", "post.write"), members=people, assignments=given)
    shown = said(tmp_path, files, "roster", "--soon", "60", "--when", "2097-05-20")
    lines = [line.split("  ") for line in shown.splitlines()[3:]]
    assert [[cell.strip() for cell in line if cell] for line in lines] == [
        ["1 Jun 2097", "starts", "Cy", "Crew", "The Hall"],
        ["20 Jun 2097", "ends", "Ann", "Crew", "the whole site"],
    ]


def test_a_history_tells_the_groups_of_the_beginning_and_each_that_changes() -> None:
    groups = [{"key": "g", "title": "Upper team"}, {"key": "h"}]
    people = [member("ann", groups="g")]
    c = Community.from_texts(texts(rank("crew"), members=people, assignments=[held("ann", "crew")], groups=groups))
    for edit in (MemberGroups("ann", ["h"]), MemberGroups("ann", take=["g"]), MemberAdd("bo", {"groups": "g;h"})):
        c.plan(edit).apply()
        c = c.again()
    assert [event.what for event in c.history("ann").events] == [
        "as the files had it: active, in the group Upper team",
        "as the files had it: Crew on the whole site",
        "put into the group h",
        "taken out of the group Upper team",
    ]
    assert {"put into the group Upper team", "put into the group h"} < {e.what for e in c.history("bo").events}


def test_beside_each_other_what_differs_above_and_here_no_more_is_said(tmp_path: Path) -> None:
    one = place("desk", overrides={"low": {"allow": ["member.mute"]}})
    none = place("yard", overrides={"top": {"deny": ["member.mute"]}})
    files = texts(rank("top", "member.mute"), rank("low"), places=[one, none, place("hall")])
    shown = said(tmp_path, files, "tour", "rank:top", "--beside", "rank:low")
    assert [line.split() for line in shown.splitlines()[3:]] == [
        *(["▸", "Whole", "site"], ["keep", "someone", "from", "writing", "✓", "·"]),
        *(["▸", "desk"], ["keep", "someone", "from", "writing", "✓", "✓"]),
        *(["▸", "yard"], ["keep", "someone", "from", "writing", "·", "·"]),
        ["No", "further", "difference:", "hall"],
    ]


def test_a_new_place_is_as_the_one_above_where_nothing_else_is_in_the_change() -> None:
    c = Community.from_texts(texts(rank("top", "member.mute"), rank("low"), members=[member("ann")], places=[]))
    add = PlaceAdd("desk", "board")

    def shown(*edits: object) -> str:
        out = io.StringIO()
        show_plan(Screen.plain(out), c.plan(add, *edits))  # type: ignore[arg-type]
        return out.getvalue()

    assert "desk: as the place above for everyone; nothing else changes." in shown()
    assert "gains 1 capability in 1 place\n  + member.mute in desk" in shown(Assign("ann", "top", "desk"))
    assert "nothing else changes" not in shown(RankSet("low", {"title": "Lowest"}))


def test_whom_everyone_may_call_is_said_where_no_rank_may_call_another(tmp_path: Path) -> None:
    ranks = [rank("crew", "post.write", call="closed"), rank("desk"), rank("guest", held_by="visitors")]
    shown = said(tmp_path, texts(*ranks), "powers", "call")
    assert "Every active member may call Desk." in shown
    assert "No rank may call any other (the reasons: --full)." in shown
    closed = [each | {"call": "closed"} for each in ranks]
    assert "may call" not in said(tmp_path, texts(*closed), "powers", "call").replace("No rank may call (", "")


def test_a_paused_rank_grants_on_the_grid_and_nobody_has_it_is_said_below(tmp_path: Path) -> None:
    files = texts(rank("crew", "post.write", paused=True), rank("desk", "post.write"))
    for where in ((), ("in", "site")):
        assert "Crew is paused; nobody has it now." in said(tmp_path, files, "grid", *where)


@pytest.mark.parametrize("blank", ["", "  "])
def test_what_has_a_blank_title_is_called_by_its_key(tmp_path: Path, blank: str) -> None:
    groups = [{"key": "team", "title": blank}]
    people = [member("ann", groups="team")]
    hall = place("nook", title=blank, gate={"any": ["team"]})
    ranks = [rank("crew", "post.write", title=blank)]
    files = texts(*ranks, places=[hall], groups=groups, members=people, assignments=[held("ann", "crew")], title=blank)
    for words in ("ladder", "tour ann", "check"):
        assert "small" in said(tmp_path, files, *words.split()).splitlines()[0]
    assert "crew" in said(tmp_path, files, "describe", "ann")
    assert "team" in said(tmp_path, files, "describe", "nook")
    assert "nook" in said(tmp_path, files, "tour", "ann")


TWINS = texts(
    rank("top", "*", title="Boss", unbounded=True),
    rank("crew-a", "post.write", "rank.assign", "rank.manage", title="Crew", assigns={"only": ["crew-b"]}),
    rank("crew-b", "post.edit.all", title="Crew", builds_on=["crew-a"], after=["crew-a"]),
    rank("crew-c", title="Crew", open=True, apart_from=["crew-b"]),
    rank("all", "place.see", title="All", held_by="anyone"),
    groups=[
        {"key": "team-a", "title": "Team", "confers": [{"rank": "crew-c", "place": "chat-c"}]},
        {"key": "team-b", "title": "Team", "includes": ["team-a"]},
    ],
    places=[
        place(
            "north",
            "section",
            title="Wing",
            places=[
                place("chat-a", title="Chat", overrides={"crew-c": {"allow": ["post.pin"]}, "team-a": {"deny": ["*"]}}),
                place("chat-b", title="Chat", gate={"any": ["team-a", "crew-b+"], "none": ["team-b"]}),
            ],
        ),
        place("south", "section", title="Wing", places=[place("chat-c", title="Chat")]),
    ],
    members=[
        member("ann-a", name="Ann Reed", groups="team-a"),
        member("ann-b", name="Ann Reed", groups="team-b"),
        member("ann-c", name="Ann Reed", status="pending"),
        member("bo"),
    ],
    assignments=[
        held("ann-a", "crew-a"),
        held("ann-b", "crew-b", "chat-a"),
        held("bo", "crew-c", "north", until="2097-01-01"),
        held("bo", "top"),
    ],
    rules={"seeing": "place.see"},
    title="Small",
)
ASKED_OF_TWINS = """ladder / grid in chat-a / may ann-a post.write in chat-b / may ann-b post.write in chat-b --ways /
may ann-b assign crew-b to ann-c / powers assign --full / who post.write / describe crew-b /
describe ann-a / describe chat-b / tour ann-b --full / tour ann-a --beside ann-b /
compare ann-a ann-b / compare crew-a crew-b / climb crew-a / cover --enter / place list / group list /
roster / fit post.pin in chat-a / assign crew-b ann-c in chat-b --plan /
rank withhold crew-a post.write --plan --full / group set team-b includes= --plan /
member hand-over ann-a --plan"""


@pytest.mark.slow
@pytest.mark.parametrize("command", [*map(str.strip, ASKED_OF_TWINS.split("/"))])
def test_what_several_are_called_is_told_with_what_tells_them_apart(tmp_path: Path, command: str) -> None:
    shown = " ".join(said(tmp_path, TWINS, *command.split()).split())
    assert re.search(r"(Crew|Chat|Team|Wing|Ann Reed) \(", shown), shown
    assert not re.search(r"\b(Crew|Chat|Team|Wing|Ann Reed)\b(?! \()", shown), shown


NAMES = ("Ann Reed", "Bo", "Cy", "")


@pytest.mark.parametrize("where", ["in memory", "in a folder"])
@pytest.mark.parametrize("seed", seeds(3))
def test_whose_name_others_have_is_told_with_the_key_after_any_change(tmp_path: Path, where: str, seed: int) -> None:
    rng = Random(seed)
    people = [member(f"m{n}", name=rng.choice(NAMES)) for n in range(5)]
    files = texts(rank("crew"), members=people, assignments=[])
    for name, text in files.items():
        (tmp_path / name).write_text(text, "utf-8")
    c = Community.from_texts(files) if where == "in memory" else Community.open(tmp_path)
    for n in range(8):
        known = [*c.register.members]
        edits: list[Edit] = [
            MemberAdd(f"new{n}", {"name": rng.choice(NAMES)}),
            MemberSet(rng.choice(known), {"name": rng.choice(NAMES)}),
            MemberForget(rng.choice(known)),
        ]
        # two exchange their names
        one, other = rng.sample(known, 2)
        swapped = [(one, c.register.members[other].name), (other, c.register.members[one].name)]
        swap = [MemberSet(key, {"name": name}) for key, name in swapped]
        with suppress(EditError):
            plan = c.plan(*(swap if rng.random() < 0.3 else [rng.choice(edits)]))
            plan.apply()
            sides = [plan.after.register, c.again().register]
            sides += [Community.open(tmp_path, on_demand=True).register] if where == "in a folder" else []
            for register in sides:
                names = Counter(each.name for each in register.members.values())
                for key in reversed([*register.members]):
                    name = register.members[key].name
                    told = f"{name} ({key})" if name and names[name] > 1 else name or key
                    assert register.members[key].called == told
        c = c.again()


def test_what_was_edited_by_hand_is_data_too_and_all_of_it_is_named_in_full(tmp_path: Path) -> None:
    ranks = [rank(f"r{n}", "post.write") for n in range(8)]
    said(tmp_path, texts(*ranks, members=[member("ann")]), "member", "note", "ann", "begin", "--yes")
    assert json.loads(run("journal", "--edits", "--format", "json", cwd=tmp_path).stdout) == {"files": [], "what": []}
    edited = [each | {"title": f"Number {n}"} for n, each in enumerate(ranks)]
    (tmp_path / "charter.yaml").write_text(texts(*edited)["charter.yaml"])
    short, full = (run("journal", "--edits", *more, cwd=tmp_path).stdout for more in ((), ("--full",)))
    assert "set title of Number 4\n  and 3 more (--full)\n" in short
    assert "set title of Number 7\n" in full
    assert "more" not in full
    data = json.loads(run("journal", "--edits", "--format", "json", cwd=tmp_path).stdout)
    assert data["files"] == ["charter.yaml"]
    assert data["what"] == [f"set title of Number {n}" for n in range(8)]
    refused = run("journal", "--take", "charter.yaml", "--format", "json", cwd=tmp_path)
    assert "--format does not go with --take" in refused.stderr


@pytest.mark.parametrize(
    ("command", "shown"),
    [
        ("cover", "No capability is of medium or high risk. To look at others: ask-above cover CAPABILITY..."),
        ("cover in desk", "No capability is of medium or high risk. To look at others: ask-above cover CAPABILITY..."),
        ("cover voice.speak in desk", "None of these capabilities applies here."),
        ("who --risk high", "No capability is of high risk."),
        ("roster", "Nobody is active or pending."),
        ("member list", "0 of 0 members"),
        ("group list", "There are no groups. Make one: ask-above group add KEY title=TITLE"),
        ("rank remove crew --plan", "Error: Crew is the only rank, and every community has one at least."),
    ],
)
def test_where_there_is_nothing_to_show_that_is_said(tmp_path: Path, command: str, shown: str) -> None:
    for name, text in texts(rank("crew", "post.write")).items():
        (tmp_path / name).write_text(text, "utf-8")
    done = run(*command.split(), cwd=tmp_path, COLUMNS="300")
    assert shown in (done.stdout + done.stderr).splitlines()
    assert "✓" not in done.stdout


def test_the_same_for_several_members_is_one_sentence_wherever_it_is() -> None:
    c = Community.demo()
    for spot, where in (("site", "on the whole site"), ("river-talk", "in River talk")):
        plan = c.plan(*(Assign(key, "host", spot) for key in ("tove", "rosa")))
        assert plan.what == f"assign Board host to Tove Eddy and Rosa Ousel {where}"


def test_since_when_and_until_when_somebody_stands_elsewhere_is_said() -> None:
    """Whoever waits stands by the ranks on record: those below may moderate them no longer, for as long as it lasts."""
    c = Community.demo()
    for since, until, span in (("", "2097-03-31", ", through 31 Mar 2097"), ("2097-01-01", "", ", from 1 Jan 2097")):
        shown = " ".join(str(c.plan(Assign("lena", "host", "river-talk", since, until))).split())
        assert f"no longer moderate Lena Brook on the whole site and in Common room and River talk{span}" in shown


def test_a_letter_greets_somebody_by_the_name_alone(tmp_path: Path) -> None:
    people = [member(key, name="Ann Reed", email=f"{key}@river.example") for key in ("ann-a", "ann-b")]
    files = texts(rank("crew", "post.write"), members=people)
    assert "Ann Reed (ann-a)" in said(tmp_path, files, "assign", "crew", "ann-a", "--yes", "--tell")
    (letter,) = (tmp_path / "outbox").glob("*.eml")
    text = letter.read_text("utf-8")
    assert "Ann Reed," in text
    assert "(ann-a)" not in text


@pytest.mark.parametrize("form", ["html", "md"])
def test_a_report_claims_no_cover_where_no_capability_is_risky(tmp_path: Path, form: str) -> None:
    said(tmp_path, texts(rank("crew", "post.write"), members=[member("ann")]), "report", f"page.{form}")
    page = (tmp_path / f"page.{form}").read_text("utf-8")
    assert "No capability is of medium or high risk." in page
    assert "cover every duty" not in page


def test_what_several_are_called_is_understood_as_it_is_told() -> None:
    c = Community.from_texts(TWINS)
    for key, member_ in c.register.members.items():
        assert c.member(member_.called).key == key
    for key, place_ in c.charter.places.items():
        assert c.place(place_.called).key == key
    for key, rank_ in c.charter.ranks.items():
        assert c.rank(rank_.called).key == key
        assert c.names.meant(rank_.called.upper().replace(rank_.key.upper(), rank_.key)).key == key
    assert c.names.group("Team (team-b)").key == "team-b"
    for name in ("Crew (crew-z)", "Ann Reed (bo)", "Ann Reed ()", "()", " (ann-a)"):
        with pytest.raises(UnknownNameError):
            c.names.meant(name)


@pytest.mark.parametrize(
    "command",
    [
        "member list --full",
        "member show bram",
        "history bram",
        "history rosa --format json",
        "export out",
        "export out --scim",
    ],
)
def test_who_may_not_see_contact_details_reads_no_name_but_their_own(tmp_path: Path, command: str) -> None:
    here = tmp_path / "river"
    shutil.copytree(DEMO, here)
    done = run("assign", "host", "rosa", "--as", "ines", "--yes", cwd=here)
    assert done.returncode == 0, done.stderr
    people = Community.open(here).register.members.values()
    others = {text for m in people if m.key != "tove" for text in (m.name, m.email, m.phone) if text}
    for viewer, hidden in (("tove", True), ("ines", False)):
        shutil.rmtree(here / "out", ignore_errors=True)
        shown = run(*command.split(), "--as", viewer, cwd=here).stdout
        shown += "".join(each.read_text("utf-8") for each in (here / "out").glob("*"))
        assert (not any(text in shown for text in others)) == hidden, shown


def test_a_history_tells_who_became_the_owner_and_who_is_it_no_longer() -> None:
    c = Community.demo()
    c.plan(HandOver("bram"), by="ines").apply()
    c = c.again()
    c.undo().apply()
    c = c.again()
    c.plan(HandOver("dara")).apply()
    events = {key: c.again().history(key).events for key in ("ines", "bram", "dara")}
    told = {key: [event.what for event in some if "owner" in event.what] for key, some in events.items()}
    assert told == {
        "ines": ["is the owner no longer", "became the owner", "is the owner no longer"],
        "bram": ["became the owner", "is the owner no longer"],
        "dara": ["became the owner"],
    }
