"""The screen that people look at: its width, its colours, lines and tables on it."""

from __future__ import annotations

import os
import re
import sys
import textwrap
from collections.abc import Iterable, Sequence
from secrets import randbelow
from typing import TYPE_CHECKING, TextIO

from ask_above.visible import visible

if TYPE_CHECKING:
    from rich.style import Style
    from rich.text import Text

# of the 256 colours of a terminal: a contrast of 4 or more on white and on black
_COLORS = {"yes": 28, "no": 160, "place": 31, "warn": 130}
_CODES = {"head": "1", "dim": "2"} | {style: f"38;5;{number}" for style, number in _COLORS.items()}
_RICH = {"head": "bold", "dim": "dim"} | {style: f"color({number})" for style, number in _COLORS.items()}
_WIDTH_IN_A_PIPE = 100
_KEPT = "\xa0"
_HEX_LENGTH = 7


_SIGN = chr(0x10_0000 + randbelow(0xFFFE))
"""Stands for the start of a colour's code until a line is written: a sign that nobody can know beforehand."""
_COLOURED = re.compile(f"{_SIGN}([0-9;]*m)")


class Screen:
    """Where output goes. Coloured on a terminal unless ``NO_COLOR`` is set; plain in a pipe.

    Whatever is written is text: control characters and line breaks in it are written out, so that no title moves the
    cursor or forges a line.
    """

    def __init__(self, out: TextIO, width: int, *, colour: bool) -> None:
        self.out, self.width, self.colour = out, width, colour

    @classmethod
    def of(cls, out: TextIO) -> Screen:
        """Return the screen that ``out`` is."""
        terminal = out.isatty()
        colour = terminal and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
        return cls(out, max(40, _width(out)), colour=bool(colour))

    def styled(self, text: str, style: str = "") -> str:
        """Return text with the codes of a style, where there are colours."""
        return f"{_SIGN}{_CODES[style]}m{text}{_SIGN}0m" if self.colour and style and text else text

    def coloured(self, text: str, color: str | None) -> str:
        """Return text in a colour written #rrggbb, where there are colours; else as it is."""
        if not (self.colour and color and len(color) == _HEX_LENGTH and color.startswith("#")):
            return text
        try:
            red, green, blue = (int(color[n : n + 2], 16) for n in (1, 3, 5))
        except ValueError:
            return text
        return f"{_SIGN}38;2;{red};{green};{blue}m{text}{_SIGN}0m"

    def line(self, text: str = "", style: str = "") -> None:
        """Write one line."""
        said = _COLOURED.sub("\x1b[\\1", visible(self.styled(text, style)))
        self.out.write(f"{said}\n")

    def paragraph(self, text: str, *, first: str = "", rest: str = "", style: str = "") -> None:
        """Write text, folded to the width; ``first`` and ``rest`` stand before its lines."""
        lines = textwrap.wrap(
            visible(text),
            self.width,
            initial_indent=first,
            subsequent_indent=rest,
            break_long_words=False,
            break_on_hyphens=False,
        )
        for line in lines or [first]:
            self.line(line, style)

    def items(self, items: Iterable[str], *, style: str = "") -> None:
        """Write short items side by side, each kept on one line."""
        kept = "   ".join(item.replace(" ", _KEPT) for item in items)
        for line in textwrap.wrap(kept, self.width, break_long_words=False, break_on_hyphens=False):
            self.line(line.replace(_KEPT, " "), style)

    def table(self, heads: Sequence[str], rows: Iterable[Sequence[str | Text]], *, right: Sequence[int] = ()) -> None:
        """Write a table; cells too wide for the screen are folded, never cut."""
        from rich.table import Table

        table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
        for n, head in enumerate(heads):
            table.add_column(cell(head), justify="right" if n in right else "left", overflow="fold")
        for row in rows:
            table.add_row(*(cell(each) if isinstance(each, str) else each for each in row))
        self.draw(table)

    def draw(self, what: object) -> None:
        """Write anything that rich can draw."""
        from rich.console import Console

        console = Console(
            file=self.out,
            width=self.width,
            color_system="256" if self.colour else None,
            force_terminal=self.colour,
            highlight=False,
            markup=False,
            emoji=False,
            legacy_windows=False,
        )
        for line in console.render_lines(what, pad=False):  # type: ignore[arg-type]
            pieces = (self._piece(part.text, part.style) for part in line)
            self.out.write(f"{''.join(pieces).rstrip()}\n")

    def _piece(self, text: str, style: Style | None) -> str:
        from rich.color import ColorSystem

        shown = visible(text)
        return style.render(shown, color_system=ColorSystem.EIGHT_BIT) if style and self.colour else shown


def _width(out: TextIO) -> int:
    """Return the columns of a terminal, or as many as ``COLUMNS`` says."""
    said = os.environ.get("COLUMNS", "")
    if said.isdigit() and int(said):
        return int(said)
    try:
        return os.get_terminal_size(out.fileno()).columns or _WIDTH_IN_A_PIPE
    except (OSError, ValueError):
        return _WIDTH_IN_A_PIPE


def cell(text: str, style: str = "") -> Text:
    """Return a table's cell in a style."""
    from rich.text import Text

    return Text(visible(text), style=_RICH.get(style, ""))


def headed(text: str) -> Text:
    """Return a column's head; it is folded where it says so."""
    from rich.text import Text

    return Text(visible(text, breaks=True))


def stdout() -> Screen:
    """Return the screen that standard output is."""
    return Screen.of(sys.stdout)
