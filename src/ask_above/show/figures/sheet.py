"""A sheet that a figure is laid out on, in points, before it is put on axes.

Everything is measured before it is drawn, so that no two labels share a spot however many there are. On axes that are
smaller than the sheet, all of it shrinks together.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from ask_above.show.figures.lettering import BODY, DARK, LIGHT, LINE, SMALL, TITLE, families, folded, measure

if TYPE_CHECKING:
    from matplotlib.axes import Axes

Point = tuple[float, float]

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

_FULL_WIDTH, _FULL_HEIGHT = 1280, 800
"""The dots of a screen that a figure is to fill."""


class _Text(NamedTuple):
    x: float
    y: float
    text: str
    size: float
    ink: str
    bold: bool
    across: str
    upright: bool


class _Stroke(NamedTuple):
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
        self._lines: list[_Stroke] = []
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
        self._lines.append(_Stroke(tuple(points), ink, width, dashed, arrow))
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
        for text in self._texts:
            axes.text(
                text.x,
                text.y,
                text.text,
                fontsize=text.size * scale,
                color=self.ink(text.ink),
                fontweight="bold" if text.bold else "normal",
                family=families(),
                ha="center" if text.upright else text.across,
                va="bottom" if text.upright else "center_baseline",
                rotation=90 if text.upright else 0,
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
