"""The screen that people look at: its width, its colours, lines and tables on it."""

from __future__ import annotations

import os
import re
import sys
import textwrap
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from typing import TYPE_CHECKING, TextIO, TypeAlias, TypeVar

from ask_above.visible import visible

if TYPE_CHECKING:
    from rich.style import Style
    from rich.text import Text

# of the 256 colours of a terminal: a contrast of 4 or more on white and on black
_STYLES = {
    "head": "bold",
    "dim": "dim",
    "yes": "color(28)",
    "no": "color(160)",
    "place": "color(31)",
    "warn": "color(130)",
}
_WIDTH_IN_A_PIPE = 100
_KEPT = "\xa0"
_COLOR = re.compile(r"#[0-9a-fA-F]{6}")

_SIGN = chr(0x10_0000 + int.from_bytes(os.urandom(2), "big") % 0xFFFE)
"""Stands around the name of a style until a line is written: a sign that nobody can know beforehand."""
_STYLED = re.compile(f"{_SIGN}([^{_SIGN}]*){_SIGN}")


FULL: ContextVar[bool] = ContextVar("FULL", default=False)
"""Whether what the first screen leaves out is shown too, as ``--full`` says."""

_LONG, _MOST_ROWS = 500, 50
"""A table of more rows is written as it comes; of a longer list a terminal gets the first so many."""


ItemT = TypeVar("ItemT")
Mark: TypeAlias = tuple[str, str]
"""A text and the style it is in."""


@contextmanager
def in_full(full: bool = True) -> Iterator[None]:
    """Show the full form of whatever is shown meanwhile, or the short one."""
    before = FULL.set(full)
    try:
        yield
    finally:
        FULL.reset(before)


def at_most(number: int) -> int:
    """Return how many of something a screen names: so many, and all there are in the full form."""
    return sys.maxsize if FULL.get() else number


class Screen:
    """Where output goes. Coloured on a terminal unless ``NO_COLOR`` is set; plain in a pipe.

    Whatever is written is text: control characters and line breaks in it are written out, so that no title moves the
    cursor or forges a line.
    """

    def __init__(self, out: TextIO, width: int, *, colour: bool) -> None:
        self.out, self.width, self.colour, self.full = out, width, colour, FULL.get()

    @classmethod
    def of(cls, out: TextIO) -> Screen:
        """Return the screen that ``out`` is."""
        terminal = out.isatty()
        colour = terminal and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
        return cls(out, max(40, _width(out)), colour=bool(colour))

    @classmethod
    def plain(cls, out: TextIO) -> Screen:
        """Return a screen without colours, as wide as standard output."""
        return cls(out, max(40, _width(sys.stdout)), colour=False)

    def styled(self, text: str, style: str = "") -> str:
        """Return text to be written in a style, where there are colours."""
        return self._marked(text, _STYLES[style]) if style else text

    def _marked(self, text: str, style: str) -> str:
        return f"{_SIGN}{style}{_SIGN}{text}{_SIGN}{_SIGN}" if self.colour and text else text

    def line(self, text: str = "", style: str = "") -> None:
        """Write one line; a heading is folded to the width."""
        if style == "head" and len(text) > self.width and " " in text.strip():
            self.paragraph(text, style=style)
            return
        self.out.write(f"{self._rendered(visible(self.styled(text, style)))}\n")

    def head(self, text: str) -> None:
        """Write a line that stands over others, with an empty one before it."""
        self.line()
        self.line(text, "head")

    def some(self, items: Sequence[ItemT], most: int, indent: str = "", hint: str = " (--full)") -> Iterator[ItemT]:
        """Yield the first of some items, so many at the most, then write how many more there are and how to see them.

        All of them where everything is shown.
        """
        yield from items[: at_most(most)]
        self.more(len(items) - at_most(most), indent, hint)

    def more(self, left: int, indent: str = "", hint: str = " (--full)") -> None:
        """Write how many more there are than are shown, where there are any, and how to see them."""
        if left > 0:
            self.line(f"{indent}and {left:,} more{hint}", "dim")

    def _rendered(self, text: str) -> str:
        """Return text with its styles as a terminal takes them."""
        if _SIGN not in text:
            return text
        from rich.color import ColorSystem

        return "".join(style.render(said, color_system=ColorSystem.TRUECOLOR) for said, style in style_runs(text))

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
        """Write a table; cells too wide for the screen are folded, never cut. Long ones are written as they come.

        Of a table without rows nothing is written.
        """
        from rich.table import Table

        shown = self.first(rows)
        if not shown:
            return
        if len(shown) > _LONG:
            self._lines(heads, shown)
            return
        if not self.colour and self._plain(heads, shown, right):
            return
        rows = shown
        table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
        for n, head in enumerate(heads):
            table.add_column(cell(head), justify="right" if n in right else "left", overflow="fold")
        for row in rows:
            table.add_row(*(cell(each) if isinstance(each, str) else each for each in row))
        self.draw(table)

    def _plain(self, heads: Sequence[str], rows: Sequence[Sequence[str | Text]], right: Sequence[int]) -> bool:
        """Write a table in which nothing needs to be folded as it stands; tell whether it is such a one."""
        from rich.cells import cell_len

        lines = [[visible(str(each)) for each in row] for row in (heads, *rows)]
        widths = [max(map(cell_len, column)) for column in zip(*lines, strict=True)]
        if sum(widths) + 2 * (len(widths) - 1) > self.width:
            return False
        for line in lines:
            padded = [
                " " * (width - cell_len(each)) + each if n in right else each + " " * (width - cell_len(each))
                for n, (each, width) in enumerate(zip(line, widths, strict=True))
            ]
            self.line("  ".join(padded).rstrip())
        return True

    def first(self, rows: Iterable[Sequence[str | Text]]) -> Sequence[Sequence[str | Text]]:
        """Return the rows to be shown: on a terminal the first of a long list, and how many more there are is said."""
        shown, left = self.cut(list(rows))
        return [*shown, [f"and {left:,} more (--full)", *[""] * (len(shown[0]) - 1)]] if left else shown

    def cut(self, items: Sequence[ItemT]) -> tuple[Sequence[ItemT], int]:
        """Return what is shown of something long, on a terminal the first of it, and how many are left out."""
        if self.full or not self.out.isatty() or len(items) <= _MOST_ROWS + 1:
            return items, 0
        return items[:_MOST_ROWS], len(items) - _MOST_ROWS

    def list(self, heads: Sequence[str], rows: Iterable[Sequence[str]], drop: Sequence[str] = ()) -> None:
        """Write one line for each row: where they are too wide, columns of ``drop`` are left out, then cells are cut.

        The full form has every column, and folds what is too wide.
        """
        lines = [list(map(str, row)) for row in rows]
        if self.full or not lines:
            self.table(heads, lines)
            return
        kept, lines = list(range(len(heads))), [list(map(str, row)) for row in self.first(lines)]
        kept = [n for n in kept if any(row[n] for row in lines)] or kept
        widths = [max([len(heads[n]), *(len(row[n]) for row in lines)]) for n in range(len(heads))]
        for name in drop:
            if sum(widths[n] + 2 for n in kept) - 2 > self.width and name in heads:
                kept = [n for n in kept if heads[n] != name]
        while sum(widths[n] + 2 for n in kept) - 2 > self.width:
            most = max(kept, key=lambda n: widths[n])
            if widths[most] <= len(heads[most]):
                break
            widths[most] -= 1
        self.line("  ".join(heads[n].ljust(widths[n]) for n in kept).rstrip(), "head")
        for row in lines:
            self.line("  ".join(_cut(row[n], widths[n]).ljust(widths[n]) for n in kept).rstrip())
        left_out = [head for n, head in enumerate(heads) if n not in kept and any(row[n] for row in lines)]
        if left_out:
            self.line(f"Not shown: {', '.join(left_out)} (--full)", "dim")

    def matrix(self, heads: Sequence[str], rows: Iterable[tuple[Mark, Sequence[Mark]]], *, right: bool = False) -> None:
        """Write labels with narrow columns of marks beside them; a column's head may have several lines."""
        from rich.cells import cell_len

        shown = list(rows)
        tops = [visible(head, breaks=True).split("\n") for head in heads]
        widths = [
            max([*map(cell_len, top), *(cell_len(marks[n][0]) for _, marks in shown if marks)])
            for n, top in enumerate(tops)
        ]
        side, high = max([cell_len(visible(label)) for (label, _), _ in shown] or [0]), max(map(len, tops), default=0)
        padded = [[""] * (high - len(top)) + top for top in tops]
        head = [(("", ""), [(top[n], "head") for top in padded]) for n in range(high)]
        for (label, style), marks in (*head, *shown):
            line = self.styled(label, style) + " " * (side - cell_len(visible(label)))
            for (text, look), width in zip(marks, widths, strict=bool(marks)):
                left = width - cell_len(text)
                before = left if right else left // 2
                line += f"  {' ' * before}{self.styled(text, look)}{' ' * (left - before)}"
            self.line(line.rstrip())

    def _lines(self, heads: Sequence[str], rows: Sequence[Sequence[str | Text]]) -> None:
        """Write a long table as it comes, each row on a line, as wide as the first rows are."""
        widths = [max([len(head), *(len(str(row[n])) for row in rows[:_LONG])]) for n, head in enumerate(heads)]
        for row in (heads, *rows):
            self.line("  ".join(str(each).ljust(width) for each, width in zip(row, widths, strict=True)).rstrip())

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


def style_runs(text: str) -> list[tuple[str, Style]]:
    """Take a line apart into pieces, each with its style."""
    from rich.style import Style

    first, *rest = _STYLED.split(text)
    styles = [Style.null()]
    runs = [(first, styles[0])]
    for name, piece in zip(rest[::2], rest[1::2], strict=True):
        if name:
            styles.append(styles[-1] + Style.parse(name))
        elif len(styles) > 1:
            styles.pop()
        runs.append((piece, styles[-1]))
    return runs


def _width(out: TextIO) -> int:
    """Return the columns of a terminal, or as many as ``COLUMNS`` says."""
    said = os.environ.get("COLUMNS", "")
    if said.isdigit() and int(said):
        return int(said)
    try:
        return os.get_terminal_size(out.fileno()).columns or _WIDTH_IN_A_PIPE
    except (OSError, ValueError):
        return _WIDTH_IN_A_PIPE


def _cut(text: str, width: int) -> str:
    return text if len(text) <= width else f"{text[: width - 1]}…"


def cell(text: str, style: str = "") -> Text:
    """Return a table's cell in a style."""
    from rich.text import Text

    return Text(visible(text), style=_STYLES.get(style, ""))


def colour_cell(text: str, color: str | None) -> Text:
    """Return a table's cell in a colour written #rrggbb; else as it is."""
    from rich.text import Text

    return Text(visible(text), style=color if color and _COLOR.fullmatch(color) else "")


def stdout() -> Screen:
    """Return the screen that standard output is."""
    return Screen.of(sys.stdout)
