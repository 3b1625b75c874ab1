"""What a notebook shows of an answer: what the terminal shows, as HTML that is read without a kernel."""

from __future__ import annotations

import io
from html import escape
from typing import TYPE_CHECKING, Any, Final

from ask_above.show.ladder import show_ladder
from ask_above.show.screen import Screen, in_full, style_runs

if TYPE_CHECKING:
    from rich.style import Style

    from ask_above.ask.describe.describer import Described
    from ask_above.community import Community

_WIDTH: Final = 100
_SAID_BY: Final = {"color(28)": "yes", "color(160)": "no", "color(31)": "place", "color(130)": "warn"}
_CSS: Final = """
.ask-above { --ink: #1b2430; --paper: #fff; --quiet: #55616f; --yes: #10663a; --warn: #8a4b00; --no: #a3202a;
  --place: #0b5cad; background: var(--paper); color: var(--ink); overflow-x: auto; padding: .6rem .8rem; }
@media (prefers-color-scheme: dark) { .ask-above { --ink: #e6ebf1; --paper: #14191f; --quiet: #a9b4c0; --yes: #6fd39b;
  --warn: #f0b35e; --no: #ff8f96; --place: #7db8f5; } }
.ask-above pre { font: .86rem/1.45 ui-monospace, monospace; margin: 0; padding: 0; white-space: pre; color: inherit;
  background: none; border: 0; }
.ask-above b { font-weight: 700; } .ask-above .dim { color: var(--quiet); } .ask-above .yes { color: var(--yes); }
.ask-above .no { color: var(--no); } .ask-above .warn { color: var(--warn); } .ask-above .place { color: var(--place); }
"""


class NotebookScreen(Screen):
    """A screen whose lines are HTML: whatever is written is escaped, styles are classes of the report's colours."""

    def __init__(self, out: io.StringIO) -> None:
        super().__init__(out, _WIDTH, colour=True)

    def _rendered(self, text: str) -> str:
        return "".join(self._piece(said, style) for said, style in style_runs(text))

    def _piece(self, text: str, style: Style | None) -> str:
        markup = escape(text)
        if style is None or not text:
            return markup
        color = style.color.name if style.color else ""
        kind = "dim" if style.dim else _SAID_BY.get(color, "")
        if kind:
            markup = f'<span class="{kind}">{markup}</span>'
        elif color.startswith("#"):
            markup = f'<span style="border-bottom: 2px solid {escape(color)}">{markup}</span>'
        return f"<b>{markup}</b>" if style.bold else markup


def as_html(show: Any, answer: object) -> str:
    """Return what ``show`` writes of an answer, as HTML."""
    out = io.StringIO()
    with in_full():
        show(NotebookScreen(out), answer)
    text = out.getvalue().strip("\n")
    return f'<div class="ask-above"><style>{_CSS}</style><pre>{text}</pre></div>'


def show_community(screen: Screen, community: Community) -> None:
    """Show what a community is: how much there is of everything, and its ladder."""
    from ask_above.show.check import counted

    screen.line(counted(community.decider), "dim")
    screen.line()
    show_ladder(screen, community.decider, community.names.moment())


def show_described(screen: Screen, described: Described) -> None:
    """Show what something is, and the rest under headings: lines with a bullet, or a table."""
    screen.paragraph(described.head, rest="  ", style="head")
    for section in described.sections:
        if section.heading:
            screen.line(section.heading, "place")
        if any(len(line) > 1 for line in section.lines):
            widths = [max(len(line[n]) for line in section.lines) for n in range(len(section.lines[0]))]
            for line in section.lines:
                cells = "  ".join(each.ljust(width) for each, width in zip(line, widths, strict=True))
                screen.paragraph(cells.rstrip(), first="  ", rest="    ") if len(
                    cells
                ) > screen.width - 2 else screen.line(f"  {cells.rstrip()}")
            continue
        for (text,) in section.lines:
            screen.paragraph(text, first="  - " if section.heading else "  ", rest="    " if section.heading else "  ")
