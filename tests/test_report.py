"""The report: one page that holds all of it, fetches nothing, and runs nobody's text."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest

from ask_above import Community
from ask_above.show.report import report
from commands import run
from small import community, held, member, place, rank
from test_advice import CASES, Case
from test_cli import demo

__all__ = ["demo"]

VOID = {"meta", "link", "br", "input"}


class Page(HTMLParser):
    """Holds a page to well-formed nesting and gathers what there is to see in it."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.attrs: list[tuple[str, dict[str, str | None]]] = []
        self.ids: list[str] = []
        self.said: list[str] = []
        self.feed(text)
        self.close()
        assert self.open == []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.attrs.append((tag, dict(attrs)))
        self.ids += [value for key, value in attrs if key == "id" and value]
        if tag not in VOID:
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        if "script" not in self.open and "style" not in self.open:
            self.said.append(data)

    @property
    def text(self) -> str:
        return " ".join(" ".join(self.said).split())


@pytest.fixture(scope="module")
def page(demo: Path) -> Page:
    done = run("report", "site.html", cwd=demo)
    assert done.stdout.startswith("Wrote site.html")
    return Page((demo / "site.html").read_text("utf-8"))


@pytest.mark.slow
def test_the_page_holds_every_part(page: Page) -> None:
    for part in (
        "Wren Valley River Watch has 19 places",
        "12 ranks, and 54 active members; 3 are pending. The owner is Ines Moor",
        "Board host 8 of 12, 3 members",
        "edit any post",
        "Who may assign which rank",
        "Gate: requires any of Upper reach team or River warden or above",
        "Olaf Tarn olaf active Steward",
        "At least two members cover every duty",
        "Founding friend grants nothing and stands above Board host",
        "River warden 1 site.restart",
        "member.mute in river-talk Board host may not. Founding friend does not stand below Board host in River talk.",
    ):
        assert part in page.text, part
    whys = [attrs["aria-label"] for tag, attrs in page.attrs if tag == "button" and "aria-label" in attrs]
    assert "Volunteer grants reading.post (charter.yaml line 148)." in whys
    assert "Member withholds photo.upload (charter.yaml line 160)." in whys
    assert len(whys) == 41 * 12


def test_the_first_screen_says_what_needs_a_look_now_with_the_way_there(page: Page) -> None:
    text = page.text
    first = text[text.index("Summary Wren") : text.index("Ranks, highest first")]
    for part in (
        "Not met: volunteer may reading.post in lower-gauges",
        "5 members may use a high-risk capability: Ines Moor, Olaf Tarn, Sigrid Holm, Ada Marsh and Birgit Loach",
        "At least two members cover every duty",
        "River warden grants job.schedule, which leads to site.restart",
    ):
        assert part in first, part
    ways = {str(attrs["href"]) for tag, attrs in page.attrs if tag == "a"}
    assert {"#expectations", "#high-risk", "#cover", "#advice-detour"} <= ways


def test_who_hangs_alone_stands_on_the_first_screen() -> None:
    c = community(
        rank("host", "member.mute"),
        members=[member("una", name="Una Heron"), member("bo")],
        assignments=[held("una", "host")],
        capabilities={"People": {"member.mute": {"about": "Keep someone quiet", "risk": "high"}}},
    )
    said = Page(report(c, "html")).text
    assert "One member may use a high-risk capability: Una Heron" in said
    assert "Only Una Heron covers a duty in" in said


def test_all_is_met_is_said_of_those_that_are_shown_and_never_of_others() -> None:
    """A page without members leaves out what names one, and says no more of the rest than is so."""
    ranks = (rank("host", "member.mute", unbounded="true"), rank("free", unbounded="true"))
    c = community(*ranks, members=[member("bo")], expectations=["@bo may member.mute", "host may member.mute"])
    named, unnamed = (Page(report(c, "html", members=members)).text for members in (True, False))
    assert "Not met: @bo may member.mute" in named
    assert "The expectation is met" in unnamed
    assert "All 2 expectations are met" not in unnamed
    assert "are unbounded" in unnamed


def test_a_card_tells_what_a_rank_has_through_others_only(page: Page) -> None:
    card = page.text[page.text.index("Reach lead 4 of 12") : page.text.index("Surveyor 5 of 12")]
    own, _, rest = card.partition("And through Surveyor:")
    through, _, common = rest.partition("And as every member:")
    assert "plan patrols" in own
    assert "enter a reading" in through
    assert "write posts" in common
    assert "enter a reading" not in own


def test_closed_rooms_say_who_can_enter(page: Page) -> None:
    rooms = page.text[page.text.index("Gates Place Gate Admits") :]
    rooms = rooms[: rooms.index("Power over ranks")]
    assert "4 Ines Moor, Olaf Tarn, Sigrid Holm and Maren Byrne" in rooms


def test_the_page_can_be_found_one_s_way_in_and_fetches_nothing(page: Page) -> None:
    links = [attrs["href"] for tag, attrs in page.attrs if tag in ("a", "link")]
    places_of_it = {str(link).removeprefix("#") for link in links if str(link).startswith("#") and "=" not in str(link)}
    assert places_of_it <= set(page.ids)
    assert all(str(link).startswith(("#", "data:")) for link in links)
    # its policy refuses what is written into an element
    assert not any(name in {"src", "style"} or name.startswith("on") for _, each in page.attrs for name in each)
    assert len(page.ids) == len(set(page.ids))
    for tag, attrs in page.attrs:
        if tag == "th":
            assert attrs.get("scope") in ("col", "row", "rowgroup")
        if tag == "section":
            assert attrs["aria-labelledby"] in page.ids


def test_names_in_it_are_text_and_nothing_else() -> None:
    evil = "<script>alert(1)</script>"
    c = community(
        rank("top", "post.write") | {"title": evil, "color": "#123456"},
        rank("anybody", held_by="members"),
        members=[member("una", name=evil)],
        places=[place("hall", title=f'"{evil}')],
    )
    text = report(c, "html")
    Page(text)
    assert "<script>alert" not in text
    assert text.count("<script") == 2  # what the page knows, and what it does
    assert "&lt;script&gt;alert(1)" in text
    assert "<script" not in report(c, "md")


@pytest.mark.parametrize("form", ["html", "md"])
@pytest.mark.slow
def test_without_members_nobody_is_named(demo: Path, form: str) -> None:
    run("member", "note", "tove", "Knows the mill owner", "--yes", "--as", "ines", cwd=demo)
    assert run("report", f"bare.{form}", "--without-members", cwd=demo).returncode == 0
    text = (demo / f"bare.{form}").read_text("utf-8")
    named = [m.called for m in Community.open(demo).register.members.values() if m.called in text]
    assert named == []
    assert not re.search(r"@(otto|sigrid)", text)
    whole: Any = run("report", f"whole.{form}", cwd=demo)
    assert whole.returncode == 0
    assert "set note of Tove Eddy" in (demo / f"whole.{form}").read_text("utf-8")


@pytest.mark.parametrize("case", [each.values[1] for each in CASES], ids=[str(each.values[0]) for each in CASES])
@pytest.mark.slow
def test_no_advice_names_anybody_where_members_are_left_out(case: Case) -> None:
    c = case.faulty()
    names = {m.called for m in c.register.members.values() if len(m.called) > 1}
    said = re.sub(r"\s+", " ", report(c, "md", members=False))
    assert not [name for name in names if re.search(rf"\b{name}\b", said)]


def test_an_expectation_about_every_holder_names_nobody_either() -> None:
    c = community(
        rank("host", "post.write"),
        members=[member("una", name="Una Heron")],
        assignments=[held("una", "host")],
        expectations=["every host may rank.assign", "no host may post.write", "host may rank.assign"],
    )
    assert "Una Heron may" in report(c, "html")
    bare = report(c, "html", members=False)
    assert "Una" not in bare
    assert bare.count("not met:") == 3


def test_another_ending_is_refused(demo: Path) -> None:
    done = run("report", "site.pdf", cwd=demo)
    assert done.returncode == 2
    assert "ends neither in .html nor in .md" in done.stderr
