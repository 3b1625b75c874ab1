"""Letters and inks of a figure: how wide a line is and where it is folded, which signs no font has, in which ink."""

from __future__ import annotations

import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from typing import TYPE_CHECKING, Final

if TYPE_CHECKING:
    from matplotlib.axes import Axes


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


@lru_cache(maxsize=1)
def families() -> list[str]:
    """Return the families of fonts: the one that comes with Matplotlib, and what this machine has for other scripts."""
    from matplotlib.font_manager import fontManager

    known = {font.name for font in fontManager.ttflist}
    wanted = ("Noto Sans CJK SC", "Noto Sans CJK JP", "Noto Sans Symbols 2", "Noto Emoji", "Symbola")
    return ["DejaVu Sans", *(name for name in wanted if name in known)]


@contextmanager
def without_complaints() -> Iterator[None]:
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
    with without_complaints():
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
