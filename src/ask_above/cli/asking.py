"""What every question has: the community, the moment, the format, the figure; and how its answer is put out."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime
from functools import cached_property
from pathlib import Path
from typing import Any

import click

from ask_above.cli.moments import Typed
from ask_above.cli.options import (
    F,
    Option,
    OutFile,
    community_option,
    findings_format_option,
    folder,
    format_option,
    gathered,
    in_zone,
    open_here,
    when_option,
)
from ask_above.community import Community
from ask_above.show.data import Form, Table, put_out
from ask_above.show.screen import FULL, Screen, stdout


class CommandQuestion:
    """A question as it was asked: of which community, as of when, and in which form the answer is wanted.

    ``typed`` is the moment as it was typed; ``when`` is what it means in the community's time zone.
    """

    def __init__(
        self,
        community: str | None = None,
        form: str = "text",
        when: Typed = None,
        figure: Path | None = None,
        *,
        dark: bool = False,
    ) -> None:
        self.community, self.form, self.typed, self.figure, self.dark = community, form, when, figure, dark
        if form != "text":  # what programs read is the same with and without it
            FULL.set(False)
        if figure is None and dark:
            raise click.UsageError("--dark is for a figure; say --figure FILE too.")
        if figure is not None and form != "text":
            raise click.UsageError("A figure has no other format: leave out --format or --figure.")
        if figure is not None:
            from ask_above.show.figures.files import check_ending

            check_ending(figure)

    def check_whole(self, name: str) -> None:
        """Raise where what an option adds has no room in the form that is wanted: a table."""
        if self.form in (Form.CSV, Form.MD):
            raise click.UsageError(f"{name} does not fit into one table; leave --format out, or say --format json.")

    @cached_property
    def opened(self) -> Community:
        """The community, opened when it is first asked."""
        return open_here(self.community)

    @property
    def folder(self) -> Path:
        """The community's folder."""
        return folder(self.community)

    @property
    def when(self) -> date | datetime | None:
        """The moment that was typed, in the charter's time zone; ``None`` for now."""
        return in_zone(self.opened, self.typed)

    def answer(self, table: Callable[[], Table], show: Callable[[Screen], object], status: int = 0) -> int:
        """Put the answer out in the form that is wanted; returns the exit status."""
        put_out(self.form, table, show)
        return status

    def is_drawn(self, name: str, *given: Any, **words: Any) -> bool:
        """Draw the figure of that name, if one is wanted, and say so."""
        if self.figure is None:
            return False
        # Matplotlib is slow to import, and most answers are text
        from ask_above.show import figures
        from ask_above.show.figures.files import write
        from ask_above.show.figures.lettering import missing_signs

        axes = getattr(figures, name)(*given, **words, dark=self.dark)
        write(axes, self.figure)
        stdout().line(f"Wrote {self.figure}.", "yes")
        missing = missing_signs(axes)
        if missing:
            stdout().paragraph(f"No font of this machine has {' '.join(missing)}; boxes stand for them.", style="warn")
        return True


def asking(
    *, community: bool = True, when: bool = False, figure: bool = False, findings: bool = False
) -> Callable[[F], F]:
    """Add the options of a question; the command is called with ``asked``.

    ``findings``: in the forms too that the programs around a repository read.
    """
    options: dict[str, Option[Any]] = {"when": when_option} if when else {}
    options |= {"community": community_option} if community else {}
    options["form"] = findings_format_option if findings else format_option
    if figure:
        drawing = "Draw a figure instead: .png, .svg or .pdf."
        options["figure"] = click.option("--figure", type=OutFile(), metavar="FILE", help=drawing)
        options["dark"] = click.option("--dark", is_flag=True, help="Draw the figure on dark ground.")
    return gathered("asked", CommandQuestion, options)
