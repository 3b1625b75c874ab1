"""Figures: no two labels share a spot, none is cut, at any size and on any ground; and they say what is so."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.colors import to_hex
from matplotlib.figure import Figure

from ask_above import Community, QuestionError
from ask_above.ask.advice.alike import contrast
from ask_above.charter.changes import granting, withholding
from ask_above.show import figures
from ask_above.show.figures.lettering import DARK, LIGHT, folded
from ask_above.show.figures.sheet import Sheet
from commands import run
from small import community, held, member, place, rank, texts
from test_cli import demo

pytestmark = pytest.mark.slow

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.transforms import Bbox

__all__ = ["demo"]

_WORDS = ("Keeper of the", "Friend of", "Lower", "Reach", "Warden and planner for", "O", "Heron-counting")


def large(ranks: int) -> Community:
    """A community with so many ranks, long titles and short ones, places and powers to match."""
    below = [f"rank-{n}" for n in range(ranks - 2)]
    made = [
        rank(key, *(["post.publish", "member.mute", "rank.assign", "rank.manage"] if n % 5 == 0 else ["post.pin"]))
        | {
            "title": f"{_WORDS[n % 7]} {n}",
            "color": f"#{(n * 37) % 256:02x}4080",
            "open": "true" if n % 9 == 0 else "false",
        }
        | ({"builds-on": [below[n + 1]], "withhold": ["post.write"]} if n % 4 == 1 and n + 1 < len(below) else {})
        for n, key in enumerate(below)
    ]
    automatic = [rank("everyone", "place.see", held_by="members"), rank("passing", "place.see", held_by="anyone")]
    boards = [
        place(
            f"board-{n}",
            title=f"{_WORDS[n % 7]} board {n}",
            overrides={below[n % 6]: {"deny": ["place.see"]}, below[-1]: {"bar": ["post.pin"]}},
            places=[place(f"inner-{n}", title=f"A long title for an inner page {n}", gate={"any": [below[0]]})],
        )
        for n in range(ranks)
    ]
    people = [member(f"m{n}", name=f"Member {n}") for n in range(30)]
    return community(
        *made,
        *automatic,
        members=people,
        assignments=[held(f"m{n}", below[n % 6], since="2020-01-01") for n in range(29)],
        places=boards,
        rules={"seeing": "place.see", "authority": {"moderate": {"using": "member.mute"}}},
    )


def changed(c: Community) -> Any:
    compiled = c.decider.compiled
    bit = compiled.catalogue.bit["rank.assign"]
    first = next(r.key for r in compiled.ranks if compiled.carried[r.position] & bit and not r.unbounded)
    return c.impact(c.after(charter=withholding(c.charter, first, ["rank.assign", "post.publish", "post.write"])))


DRAWN: dict[str, Callable[..., Axes]] = {
    "grid": figures.grid,
    "grid at a place": lambda c, *axes, **how: figures.grid(c, *axes, at=list(c.charter.places)[1], **how),
    "powers": figures.powers,
    "ladder": figures.ladder,
    "places": figures.places,
    "cover": lambda c, *axes, **how: figures.cover(c.cover(), *axes, **how),
    "impact": lambda c, *axes, **how: figures.impact(changed(c), *axes, **how),
    "climbs": figures.climb,
    "climb": lambda c, *axes, **how: figures.climb(c, *axes, rank=list(c.charter.ranks)[4], **how),
}


@pytest.fixture(scope="module")
def sizes() -> dict[str, Community]:
    return {"8 ranks": large(8), "80 ranks": large(80), "the demo": Community.demo()}


def boxes(axes: Axes) -> list[tuple[str, Bbox]]:
    figure = axes.get_figure(root=True)
    assert figure is not None
    canvas: Any = FigureCanvasAgg(figure)
    renderer = canvas.get_renderer()
    return [(text.get_text(), text.get_window_extent(renderer)) for text in axes.texts if text.get_text()]


def overlapping(found: list[tuple[str, Bbox]]) -> Iterator[tuple[str, str]]:
    """Yield the labels that share a spot, swept from left to right."""
    ordered = sorted(found, key=lambda each: each[1].x0)
    for n, (one, first) in enumerate(ordered):
        for other, second in ordered[n + 1 :]:
            if second.x0 >= first.x1 - 1:
                break
            if min(first.y1, second.y1) - max(first.y0, second.y0) > 1.5:
                yield one, other


@pytest.mark.parametrize("what", DRAWN)
@pytest.mark.parametrize("size", ["8 ranks", "80 ranks", "the demo"])
def test_no_label_overlaps_another_nor_is_cut(sizes: dict[str, Community], size: str, what: str) -> None:
    axes = DRAWN[what](sizes[size])
    found = boxes(axes)
    assert len(found) > 3
    assert list(overlapping(found)) == []
    whole = axes.figure.bbox
    cut = [t for t, box in found if box.x0 < 0 or box.y0 < 0 or box.x1 > whole.x1 or box.y1 > whole.y1]
    assert cut == []


@pytest.mark.parametrize("what", DRAWN)
def test_on_given_axes_it_shrinks_to_fit_and_leaves_the_rest_alone(sizes: dict[str, Community], what: str) -> None:
    figure = Figure(figsize=(12.8, 8), dpi=100)
    other, mine = figure.subplots(1, 2)
    assert DRAWN[what](sizes["the demo"], mine) is mine
    assert not other.texts
    extent = mine.get_window_extent()
    for text, box in boxes(mine):
        assert extent.x0 - 1 <= box.x0, text
        assert box.x1 <= extent.x1 + 1, text
        assert extent.y0 - 1 <= box.y0, text
        assert box.y1 <= extent.y1 + 1, text


@pytest.mark.parametrize("what", DRAWN)
def test_on_dark_ground_everything_is_light(sizes: dict[str, Community], what: str) -> None:
    axes = DRAWN[what](sizes["the demo"], dark=True)
    ground = to_hex(axes.figure.get_facecolor())
    assert ground == DARK["ground"]
    inks = {to_hex(text.get_color()) for text in axes.texts} - {ground}
    assert all(contrast(ink, ground) >= 4.5 for ink in inks)


@pytest.mark.parametrize("inks", [LIGHT, DARK])
def test_inks_can_be_read_and_told_apart_without_seeing_red_or_green(inks: dict[str, str]) -> None:
    for name in ("ink", "dim", "yes", "gain", "loss", "warn"):
        assert contrast(inks[name], inks["ground"]) >= 4.5, name

    def without_red_or_green(color: str) -> tuple[float, float]:
        red, green, blue = (int(color[n : n + 2], 16) for n in (1, 3, 5))
        return (red + green) / 2, blue

    marks = sorted(without_red_or_green(inks[name]) for name in ("yes", "gain", "loss"))
    for one, other in pairwise(marks):
        assert abs(one[0] - other[0]) + abs(one[1] - other[1]) > 40


def shapes(axes: Axes) -> dict[tuple[int, bool, str], int]:
    """How many marks there are of each shape, filled or hollow, and colour."""
    found: dict[tuple[int, bool, str], int] = {}
    for each in axes.collections:
        marks: Any = each
        form = len(marks.get_paths()[0].vertices), not len(marks.get_facecolor()), to_hex(marks.get_edgecolor()[0])
        found[form] = found.get(form, 0) + len(marks.get_offsets())
    return found


def test_the_grid_tells_carried_taken_over_and_withheld_apart_by_shape() -> None:
    c = community(
        rank("top", "post.pin", builds_on=["low"], withhold=["post.write"]),
        rank("low", "post.write", "member.mute"),
        capabilities={"Posts": {key: key for key in ("post.write", "post.pin", "member.mute")}},
    )
    axes = figures.grid(c)
    counts = sorted(shapes(axes).values())
    # post.pin and two of low's; member.mute taken over; post.write withheld; post.pin that low has not
    # (and one of each in the legend)
    assert counts == [2, 2, 2, 4]
    assert len(shapes(axes)) == 4
    words = {text.get_text() for text in axes.texts}
    assert {"yes", "yes, through a rank it builds on", "withheld: it would grant it otherwise"} <= words


def test_powers_show_the_three_acts_and_one_alone() -> None:
    c = Community.demo()
    marks = sum(shapes(figures.powers(c)).values())
    pairs = {act: int(c.powers(act).to_numpy().sum()) for act in ("moderate", "assign", "manage")}
    assert marks == sum(pairs.values()) + 4
    assert sum(shapes(figures.powers(c, act="assign")).values()) == pairs["assign"] + 2


class TestEightyRanks:
    """What nobody could read at 1280 by 800 is folded, and says so."""

    @pytest.fixture
    def many(self) -> Community:
        ranks = [rank("top", unbounded="true"), rank("head", "rank.assign", "member.mute")]
        ranks += [rank(f"r{n}", "post.write") for n in range(78)]
        rules = {"authority": {"moderate": {"using": ["member.mute"]}, "assign": {"using": "rank.assign"}}}
        return community(*ranks, rules=rules)

    def words(self, axes: Any) -> list[str]:
        return [" ".join(text.get_text().split()) for text in axes.texts]

    def test_who_acts_on_nobody_is_left_out_and_those_alike_stand_together(self, many: Community) -> None:
        words = self.words(figures.powers(many))
        assert "Rows act on columns. Ranks without power over others are left out." in words
        joined = " ".join(words)
        assert "R0 to R77" in joined
        assert "(78)" in joined

    def test_the_ladder_stands_in_columns_with_every_rank_in_it(self, many: Community) -> None:
        axes = figures.ladder(many)
        assert {f"R{n}" for n in range(78)} <= set(self.words(axes))
        figure = axes.get_figure(root=True)
        assert figure is not None
        width, height = figure.get_size_inches() * 72
        assert height < 800
        assert width < 1280

    def test_the_grid_says_how_much_of_each_heading(self, many: Community) -> None:
        words = self.words(figures.grid(many))
        assert {"Posts", "People", "all of what stands under it", "some of what stands under it"} <= set(words)
        assert "post.write" not in words

    def test_ranks_that_can_reach_nothing_stand_in_one_line(self, many: Community) -> None:
        words = self.words(figures.climb(many))
        assert any(text.startswith("Nothing more: ") and "R0" in text for text in words)


def test_high_risk_has_the_most_alarming_ink() -> None:
    c = Community.demo()
    changed = c.after(charter=granting(c.charter, "volunteer", ["member.lock"]))
    for axes in (figures.impact(c.impact(changed)), figures.climb(c), figures.grid(c)):
        faces: list[Any] = [each.get_facecolor() for each in axes.collections]
        assert any(to_hex(face[0]) == LIGHT["loss"] for face in faces if len(face))
    # how many it concerns stands there in words
    words = [text.get_text() for text in figures.impact(c.impact(changed)).texts]
    assert any(re.fullmatch(r"\d+ members", word) for word in words)


def test_what_lies_behind_a_gate_above_says_so() -> None:
    c = community(
        rank("top"), places=[place("hall", "section", gate={"any": ["top"]}, places=[place("desk")]), place("yard")]
    )
    axes = figures.places(c)
    assert "behind the gate of a place above" in [text.get_text() for text in axes.texts]


def test_the_ladder_says_how_many_hold_each_and_cover_who_is_alone() -> None:
    words = [text.get_text() for text in figures.ladder(Community.demo()).texts]
    assert words[words.index("River warden") + 1] == "2"
    assert "2 of at most 2" in words
    for without, number in ((["ines"], "1"), (["ines", "olaf"], "0")):
        left = figures.cover(Community.demo().cover(["post.publish"], without=without))
        assert number in [text.get_text() for text in left.texts if text.get_fontweight() == "bold"]


def test_a_rank_that_can_become_unbounded_has_that_said_in_place_of_numbers() -> None:
    c = community(
        rank("top", unbounded="true", open="true"),
        rank("low", "post.write"),
        members=[member("una")],
        assignments=[held("una", "low")],
    )
    axes = figures.climb(c)
    assert "everything, through an unbounded rank" in [text.get_text() for text in axes.texts]
    assert list(overlapping(boxes(axes))) == []
    titles = [figures.climb(c, rank="low", at="desk"), figures.climb(c, at="desk")]
    assert [axes.texts[n].get_text() for n, axes in enumerate(titles)] == [
        "Climb from Low in The Desk",
        "small: capabilities in The Desk",
    ]


def test_of_very_many_places_those_are_drawn_where_most_is_missing() -> None:
    boards = [place(f"board-{n}", "stage" if n % 20 == 7 else "board") for n in range(300)]
    c = community(
        rank("host", "voice.speak"),
        rank("everybody", "post.write", held_by="members"),
        members=[member("una"), member("bo")],
        assignments=[held("una", "host")],
        places=boards,
    )
    words = [text.get_text() for text in figures.cover(c.cover(["post.write", "voice.speak"])).texts]
    assert words[1] == "small: of 301 places the 15 where most duties have one member or none"
    assert [text for text in words if text.startswith("board-")] == [f"board-{n}" for n in range(7, 300, 20)]


def test_places_show_drift_and_how_many_entries_there_are() -> None:
    c = community(
        rank("top"),
        rank("low", "post.write"),
        places=[
            place(
                "hall",
                "section",
                overrides={"low": {"deny": ["post.write"]}},
                places=[place("desk", overrides={"low": {"allow": ["post.write"]}, "top": {"allow": ["post.write"]}})],
            )
        ],
    )
    words = [text.get_text() for text in figures.places(c).texts]
    assert "contradicts the place above" in words
    assert words[words.index("desk") + 2] == "2"
    assert "bars" not in words


def test_text_with_signs_of_mathematics_or_of_other_scripts_is_drawn_as_it_stands(tmp_path: Path) -> None:
    c = community(rank("top", "post.write") | {"title": "$x^2$ & 50 % <b> ❀ Größe"}, rank("low"))
    axes = figures.grid(c)
    assert "$x^2$ & 50 % <b> ❀ Größe" in " ".join(text.get_text() for text in axes.texts)
    for ending in ("png", "svg", "pdf"):
        figures.write(axes, tmp_path / f"grid.{ending}")


def test_signs_that_no_font_has_are_named_once_and_nothing_else_is_said(tmp_path: Path) -> None:
    files = texts(rank("top", "post.write") | {"title": "Warden \ue0f7\ue0f8"}, rank("low"))
    (tmp_path / "charter.yaml").write_text(files["charter.yaml"], "utf-8")
    done = run("powers", "--figure", "powers.png", cwd=tmp_path)
    assert done.returncode == 0
    assert done.stderr == ""
    assert done.stdout.splitlines()[1] == "No font of this machine has \ue0f7 \ue0f8; boxes stand for them."


def test_a_word_that_is_too_long_is_broken_and_nothing_of_it_lost() -> None:
    lines = folded("W" * 90 + " and more", 100)
    assert len(lines) > 3
    assert "".join(lines).replace(" ", "") == "W" * 90 + "andmore"


def test_an_empty_sheet_can_be_drawn() -> None:
    assert Sheet().draw().texts is not None


@pytest.mark.parametrize(
    ("command", "start"),
    [
        (("grid", "--at", "notices"), b"\x89PNG"),
        (("powers", "moderate", "--at", "river-talk"), b"%PDF"),
        (("ladder",), b"<?xml"),
        (("place", "list", "field"), b"\x89PNG"),
        (("cover", "post.publish", "--at", "review"), b"\x89PNG"),
        (("impact", "."), b"<?xml"),
        (("climb", "host", "--with-accomplice"), b"%PDF"),
        (("climb", "--at", "commons"), b"\x89PNG"),
    ],
)
def test_commands_draw_into_a_file_by_its_ending(demo: Path, command: tuple[str, ...], start: bytes) -> None:
    ending = {b"\x89PNG": "png", b"%PDF": "pdf", b"<?xml": "svg"}[start]
    done = run(*command, "--figure", f"out.{ending}", "--dark", cwd=demo)
    assert done.returncode == 0, done.stderr
    assert done.stdout == f"Wrote out.{ending}.\n"
    assert done.stderr == ""
    assert (demo / f"out.{ending}").read_bytes().startswith(start)


def test_a_small_figure_fills_a_screen_and_a_large_one_keeps_its_size(sizes: dict[str, Community]) -> None:
    for what in ("powers", "ladder", "places", "climb"):
        bbox = DRAWN[what](sizes["the demo"]).figure.bbox
        assert bbox.width <= 1290, what
        assert bbox.height <= 810, what
        assert bbox.width > 1100 or bbox.height > 780, what
    assert figures.powers(sizes["80 ranks"]).figure.dpi == 100


def test_the_same_figure_gives_the_same_bytes(tmp_path: Path) -> None:
    for ending in ("png", "svg", "pdf"):
        for name in ("one", "two"):
            figures.write(figures.powers(Community.demo()), tmp_path / f"{name}.{ending}")
        assert (tmp_path / f"one.{ending}").read_bytes() == (tmp_path / f"two.{ending}").read_bytes()


def test_another_ending_is_refused_and_so_is_dark_alone(demo: Path) -> None:
    done = run("grid", "--figure", "grid.bmp", cwd=demo)
    assert done.returncode == 2
    assert "'grid.bmp' ends in none of .png, .svg and .pdf." in done.stderr
    assert not (demo / "grid.bmp").exists()
    assert "leave out --format or --figure" in run("grid", "--figure", "grid.png", "--format", "csv", cwd=demo).stderr
    assert "--dark is for a figure" in run("grid", "--dark", cwd=demo).stderr
    with pytest.raises(QuestionError):
        figures.write(figures.ladder(Community.demo()), "ladder.gif")


def test_the_tree_of_places_on_the_screen(demo: Path) -> None:
    done = run("place", "list", cwd=demo)
    rows = [line.split() for line in done.stdout.splitlines()]
    assert ["Notices", "notices", "board", "+4", "−2", "read-only"] in rows
    assert ["Alder", "Mouth", "alder-mouth", "branch", "+", "✗", "*"] in rows
    assert re.search(r"# has a gate", done.stdout)
    table = run("place", "list", "alder-mouth", "--format", "csv", cwd=demo).stdout.splitlines()
    assert table[1] == "alder-mouth,Alder Mouth,branch,site,1,0,1,1,false,0,"
    assert len(table) == 6
