"""A sheet that a figure is laid out on, in points, before it is put on axes.

Everything is measured before it is drawn, so that no two labels share a spot however many there are. On axes that are
smaller than the sheet, all of it shrinks together.
"""

from __future__ import annotations

import warnings
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import lru_cache
from math import isfinite, log
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from ask_above.errors import QuestionError

if TYPE_CHECKING:
    from matplotlib.axes import Axes

Point = tuple[float, float]

LIGHT: Final = {
    "ground": "#ffffff",
    "ink": "#1b2127",
    "dim": "#5a6570",
    "faint": "#dde3e8",
    "band": "#f3f5f7",
    "yes": "#0b5fa5",
    "gain": "#00704f",
    "loss": "#b23c00",
    "warn": "#855c00",
}
DARK: Final = {
    "ground": "#14191e",
    "ink": "#e9edf0",
    "dim": "#a5afb9",
    "faint": "#343d46",
    "band": "#1c2329",
    "yes": "#74b8f5",
    "gain": "#52cda6",
    "loss": "#ff966b",
    "warn": "#e2b548",
}
"""The inks of a sheet on light and on dark ground: blue, green, red-orange, ochre; all can be told apart."""

TITLE, BODY, SMALL = 14.0, 9.0, 8.0
LINE = 13.0
"""The height of a line of the body."""
MARGIN = 18.0

SHAPES: Final[dict[str, Any]] = {
    "dot": "o",
    "ring": "o",
    "plus": "P",
    "minus": ((-1, -0.32), (1, -0.32), (1, 0.32), (-1, 0.32)),
    "speck": ".",
    "slash": ((-0.62, -1), (-0.38, -1), (0.62, 1), (0.38, 1)),
    "up": "^",
    "down": "v",
    "square": "s",
    "diamond": "D",
    "open diamond": "D",
    "cross": "X",
    "open square": "s",
}
"""What can be marked: a name, and the marker of Matplotlib that draws it."""
_HOLLOW = frozenset({"ring", "open diamond", "open square"})

_SCREEN = 1.5
"""How much wider than high a figure is at its best."""
_MOST_COLUMNS = 12
_FULL_WIDTH, _FULL_HEIGHT = 1280, 800
"""The dots of a screen that a figure is to fill."""

ENDINGS: Final = ("png", "svg", "pdf")


class _Text(NamedTuple):
    x: float
    y: float
    text: str
    size: float
    ink: str
    bold: bool
    across: str
    upright: bool


class _Line(NamedTuple):
    points: tuple[Point, ...]
    ink: str
    width: float
    dashed: bool
    arrow: bool


class _Box(NamedTuple):
    x: float
    y: float
    width: float
    height: float
    fill: str
    line: str
    dashed: bool


class Sheet:
    """Texts, marks, lines and boxes at points from the upper left corner, downwards."""

    def __init__(self, *, dark: bool = False) -> None:
        self.inks = DARK if dark else LIGHT
        self.width = self.height = 0.0
        self._texts: list[_Text] = []
        self._lines: list[_Line] = []
        self._boxes: list[_Box] = []
        self._marks: dict[tuple[str, str, float], list[Point]] = {}

    def text(
        self,
        x: float,
        y: float,
        text: str,
        *,
        size: float = BODY,
        ink: str = "ink",
        bold: bool = False,
        across: str = "left",
        upright: bool = False,
    ) -> float:
        """Write one line with its middle at ``y`` (upright: at ``x``, ending at ``y``); return how long it is."""
        length = measure(text, size, bold=bold)
        if text:
            self._texts.append(_Text(x, y, text, size, ink, bold, across, upright))
        if upright:
            self._reach(x + size * 0.6, y)
        else:
            self._reach(x + length * {"left": 1.0, "center": 0.5, "right": 0.0}[across], y + size * 0.6)
        return length

    def mark(self, shape: str, x: float, y: float, *, ink: str = "ink", size: float = 7.0) -> None:
        """Put a mark with its middle at a point."""
        self._marks.setdefault((shape, ink, size), []).append((x, y))
        self._reach(x + size / 2, y + size / 2)

    def line(
        self,
        points: Sequence[Point],
        *,
        ink: str = "dim",
        width: float = 0.8,
        dashed: bool = False,
        arrow: bool = False,
    ) -> None:
        """Draw a line through points, with an arrow's head at its end."""
        self._lines.append(_Line(tuple(points), ink, width, dashed, arrow))
        for x, y in points:
            self._reach(x, y)

    def box(
        self, x: float, y: float, width: float, height: float, *, fill: str = "", line: str = "", dashed: bool = False
    ) -> None:
        """Draw a box from its upper left corner."""
        self._boxes.append(_Box(x, y, width, height, fill, line, dashed))
        self._reach(x + width, y + height)

    def title(self, title: str, below: str = "", *, room: float = 560.0) -> float:
        """Write the title and a line below it; return where the figure goes on."""
        y = MARGIN + TITLE * 0.6
        for line in folded(title, room, TITLE, bold=True):
            self.text(MARGIN, y, line, size=TITLE, bold=True)
            y += TITLE * 1.35
        for line in folded(below, room, BODY) if below else ():
            self.text(MARGIN, y, line, ink="dim")
            y += LINE
        return y + 6

    def legend(self, y: float, items: Iterable[tuple[str, str, str]]) -> None:
        """Write what the marks mean (shape, ink, words), side by side, folded to the width of what stands above."""
        x, room = MARGIN, max(self.width, 420.0)
        for shape, ink, words in items:
            length = measure(words, SMALL) + 14
            if x > MARGIN and x + length > room:
                x, y = MARGIN, y + LINE
            self.mark(shape, x + 4, y, ink=ink)
            self.text(x + 13, y, words, size=SMALL, ink="dim")
            x += length + 16

    def _reach(self, x: float, y: float) -> None:
        self.width, self.height = max(self.width, x), max(self.height, y)

    def ink(self, name: str) -> str:
        """Return the colour of an ink; a colour as it is."""
        return self.inks.get(name, name)

    def draw(self, axes: Axes | None = None) -> Axes:
        """Put everything on axes; without any, on those of a figure as large as it takes."""
        width, height = self.width + MARGIN, self.height + MARGIN
        axes = axes if axes is not None else _axes(width, height)
        figure = axes.figure
        extent = axes.get_window_extent()
        room = extent.width * 72 / figure.dpi, extent.height * 72 / figure.dpi
        scale = min(room[0] / width, room[1] / height)
        axes.set(xlim=(0, room[0] / scale), ylim=(room[1] / scale, 0), xticks=[], yticks=[])
        axes.set_facecolor(self.inks["ground"])
        figure.patch.set_facecolor(self.inks["ground"])
        for spine in axes.spines.values():
            spine.set_visible(False)
        self._draw_forms(axes, scale)
        for each in self._texts:
            axes.text(
                each.x,
                each.y,
                each.text,
                fontsize=each.size * scale,
                color=self.ink(each.ink),
                fontweight="bold" if each.bold else "normal",
                family=families(),
                ha="center" if each.upright else each.across,
                va="bottom" if each.upright else "center_baseline",
                rotation=90 if each.upright else 0,
                parse_math=False,
                zorder=4,
            )
        return axes

    def _draw_forms(self, axes: Axes, scale: float) -> None:
        from matplotlib.patches import FancyArrowPatch, Rectangle

        for box in self._boxes:
            style: dict[str, Any] = {
                "facecolor": self.ink(box.fill) if box.fill else "none",
                "edgecolor": self.ink(box.line) if box.line else "none",
                "linewidth": 0.9 * scale,
                "linestyle": (0, (4, 3)) if box.dashed else "solid",
            }
            axes.add_patch(Rectangle((box.x, box.y), box.width, box.height, zorder=1, **style))
        for line in self._lines:
            dashes = (0, (4, 3)) if line.dashed else "solid"
            ink, width = self.ink(line.ink), line.width * scale
            xs, ys = zip(*line.points, strict=True)
            axes.plot(xs, ys, color=ink, linewidth=width, linestyle=dashes, zorder=2, solid_capstyle="butt")
            if line.arrow:
                head = FancyArrowPatch(
                    line.points[-2], line.points[-1], arrowstyle="-|>", mutation_scale=11 * scale, color=ink, lw=0
                )
                axes.add_patch(head)
        for (shape, name, size), points in self._marks.items():
            xs, ys = zip(*points, strict=True)
            ink, hollow = self.ink(name), shape in _HOLLOW
            across = size * scale * (0.8 if shape in ("diamond", "open diamond", "speck") else 1.0)
            axes.scatter(
                xs,
                ys,
                s=across**2,
                marker=SHAPES[shape],
                facecolors="none" if hollow else ink,
                edgecolors=ink,
                linewidths=1.3 * scale if hollow else 0,
                zorder=3,
                clip_on=False,
            )


def _axes(width: float, height: float) -> Axes:
    from matplotlib.figure import Figure

    # one that is small is given more dots, up to twice as many, so that as a picture it fills a screen
    dots = min(max(_FULL_WIDTH / (width / 72), 100), max(_FULL_HEIGHT / (height / 72), 100), 200)
    figure = Figure(figsize=(width / 72, height / 72), dpi=round(dots))
    return figure.add_axes((0.0, 0.0, 1.0, 1.0))


@lru_cache(maxsize=1)
def families() -> list[str]:
    """Return the families of fonts: the one that comes with Matplotlib, and what this machine has for other scripts."""
    from matplotlib.font_manager import fontManager

    known = {font.name for font in fontManager.ttflist}
    wanted = ("Noto Sans CJK SC", "Noto Sans CJK JP", "Noto Sans Symbols 2", "Noto Emoji", "Symbola")
    return ["DejaVu Sans", *(name for name in wanted if name in known)]


@contextmanager
def _without_complaints() -> Iterator[None]:
    """Keep Matplotlib from warning of each sign that no font has; :func:`missing_signs` tells them."""
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="Glyph .* missing")
        yield


def missing_signs(axes: Axes) -> str:
    """Return the signs that no font of this machine has, and that are drawn as empty boxes therefore."""
    from matplotlib.font_manager import FontProperties, findfont, get_font

    fonts = [get_font(findfont(FontProperties(family=[name]))) for name in families()]
    signs = {sign for text in axes.texts for sign in text.get_text() if not sign.isspace()}
    return "".join(sorted(sign for sign in signs if not any(font.get_char_index(ord(sign)) for font in fonts)))


@lru_cache(maxsize=20_000)
def measure(text: str, size: float, *, bold: bool = False) -> float:
    """Return how many points wide a line is."""
    from matplotlib.font_manager import FontProperties
    from matplotlib.textpath import text_to_path

    if not text:
        return 0.0
    font = FontProperties(family=families(), size=size, weight="bold" if bold else "normal")
    with _without_complaints():
        width, _, _ = text_to_path.get_text_width_height_descent(text, font, ismath=False)
    # hinting rounds the advance of each letter
    return float(width) * 1.03 + 1


def folded(text: str, room: float, size: float = BODY, *, bold: bool = False) -> list[str]:
    """Return a text in lines that fit into ``room``; a word that does not is broken, never cut."""
    lines: list[str] = []
    line = ""
    for word in text.split():
        longer = f"{line} {word}" if line else word
        if measure(longer, size, bold=bold) <= room:
            line = longer
            continue
        if line:
            lines.append(line)
        line = word
        while measure(line, size, bold=bold) > room and len(line) > 1:
            fits = next(n for n in range(len(line) - 1, 0, -1) if n == 1 or measure(line[:n], size, bold=bold) <= room)
            lines.append(line[:fits])
            line = line[fits:]
    return [*lines, line] if line else lines or [""]


def write(axes: Axes, file: str | Path) -> None:
    """Write the figure that axes stand in, as PNG, SVG or PDF by the file's ending.

    Raises :class:`~ask_above.errors.QuestionError` for another ending, ``OSError`` where the file cannot be written.
    """
    import io

    from matplotlib import rc_context

    from ask_above.files.writing import write_bytes

    path = Path(file)
    ending = check_ending(path)
    out, figure = io.BytesIO(), axes.get_figure(root=True)
    assert figure is not None  # noqa: S101 (axes that were drawn on stand in one)
    # the same figure gives the same bytes on any day
    stamp = {"png": {"Software": None}, "svg": {"Date": None}, "pdf": {"CreationDate": None}}[ending]
    with rc_context({"svg.hashsalt": "ask-above", "pdf.fonttype": 42}), _without_complaints():
        figure.savefig(out, format=ending, metadata=stamp, facecolor=figure.get_facecolor())
    write_bytes(path, out.getvalue())


def as_svg(axes: Axes, name: str) -> str:
    """Return a figure as an SVG element for a page: its inks follow the page's ground, its ids begin with ``name``."""
    import io
    import re

    from matplotlib import rc_context

    out, figure = io.StringIO(), axes.get_figure(root=True)
    assert figure is not None  # noqa: S101 (axes that were drawn on stand in one)
    axes.texts[0].remove()  # the page says it
    look: dict[str, Any] = {"metadata": {"Date": None}, "bbox_inches": _drawn(axes)}
    with rc_context({"svg.hashsalt": "ask-above"}), _without_complaints():
        figure.savefig(out, format="svg", facecolor=figure.get_facecolor(), **look)
    svg = out.getvalue()
    svg = re.sub(r"<metadata>.*?</metadata>", "", svg[svg.index("<svg") :], flags=re.DOTALL)
    for ink, color in LIGHT.items():
        svg = svg.replace(color, f"var(--figure-{ink})")
    svg = re.sub(r'\bid="', f'id="{name}-', svg)
    svg = re.sub(r'(href="#|url\(#)', rf"\g<1>{name}-", svg)
    return re.sub(
        r'<svg [^>]*?viewBox="([^"]*)"[^>]*>', r'<svg viewBox="\1" aria-hidden="true" focusable="false">', svg
    )


def _drawn(axes: Axes) -> Any:
    """Return the bounds of what is drawn on axes, in inches."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.transforms import Bbox

    figure = axes.get_figure(root=True)
    assert figure is not None  # noqa: S101 (axes that were drawn on stand in one)
    renderer: Any = FigureCanvasAgg(figure).get_renderer()  # type: ignore[no-untyped-call]
    artists = (*axes.texts, *axes.lines, *axes.patches, *axes.collections)
    with _without_complaints():
        boxes = [each.get_tightbbox(renderer) for each in artists]
    bounds = Bbox.union([box for box in boxes if box is not None and all(map(isfinite, box.extents))])
    return bounds.padded(figure.dpi * 0.03).transformed(figure.dpi_scale_trans.inverted())


def check_ending(path: Path) -> str:
    """Return which of the three kinds of file a name means; raise :class:`~ask_above.errors.QuestionError` for none."""
    ending = path.suffix.lower().removeprefix(".")
    if ending not in ENDINGS:
        raise QuestionError(f"'{path.name}' ends in none of .png, .svg and .pdf.")
    return ending


def shares(heights: Sequence[float], parts: int) -> list[list[int]]:
    """Return what stands in each of so many columns, in order, so that the tallest is as low as can be."""
    low, high = max(heights, default=0.0), sum(heights)
    while high - low > 1:
        middle = (low + high) / 2
        low, high = (low, middle) if len(_filled(heights, middle)) <= parts else (middle, high)
    return _filled(heights, high)


def _filled(heights: Sequence[float], most: float) -> list[list[int]]:
    found: list[list[int]] = []
    room = 0.0
    for n, height in enumerate(heights):
        if height > room:
            found.append([])
            room = most
        found[-1].append(n)
        room -= height
    return found


def fitting(width: float, heights: Sequence[float], above: float = 0.0) -> list[list[int]]:
    """Return how to stand blocks of one width in columns so that the whole comes near to a screen's shape.

    ``above`` is what each column takes beside its blocks.
    """
    tried = [shares(heights, parts) for parts in range(1, min(len(heights), _MOST_COLUMNS) + 1)] or [[]]
    return min(tried, key=lambda columns: _off(width, heights, above, columns))


def _off(width: float, heights: Sequence[float], above: float, columns: Sequence[Sequence[int]]) -> float:
    """Return how far off a screen's shape some columns are."""
    tallest = above + max((sum(heights[n] for n in column) for column in columns), default=1.0)
    return abs(log(width * max(1, len(columns)) / tallest / _SCREEN))
