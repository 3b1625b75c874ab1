"""What screens say in a few lines is all that there is to say: read back, it is what the rules say."""

from __future__ import annotations

import io
from pathlib import Path

import pytest
from soak.looked import as_it_is

from ask_above import Community
from ask_above.change import Assign, MemberAdd, MemberGroups, PlaceAdd, RankSet
from ask_above.show.plans import show_plan
from ask_above.show.screen import Screen
from commands import run
from seeds import seeds
from small import held, member, place, rank, texts


@pytest.mark.parametrize("seed", seeds(8))
def test_read_back_it_is_what_the_rules_say_read_once_more(seed: int) -> None:
    as_it_is(seed)


def said(folder: Path, files: dict[str, str], *command: str) -> str:
    for name, text in files.items():
        (folder / name).write_text(text, "utf-8")
    return run(*command, cwd=folder).stdout


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
