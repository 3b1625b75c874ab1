"""Output for machines and for wikis: JSON, CSV, Markdown."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Sequence
from enum import StrEnum
from typing import Any, NamedTuple, TextIO

from ask_above.show.screen import Screen, stdout
from ask_above.visible import escaped, in_markdown, visible


def write_json(out: TextIO, data: Any) -> None:
    """Write data as JSON, readable by people too."""
    import json

    said = json.dumps(data, indent=2, ensure_ascii=False)
    out.write(f"{escaped(said)}\n")


def write_csv(out: TextIO, columns: Sequence[str], rows: Iterable[Sequence[object]]) -> None:
    """Write rows as CSV; yes and no as ``true`` and ``false``, nothing for what is not there.

    A text that a spreadsheet would run has an apostrophe in front. On a terminal what is no plain text is written out.
    """
    import csv
    import io

    from ask_above.files.cells import guarded

    shown = io.StringIO() if out.isatty() else None
    into = out if shown is None else shown
    writer = csv.writer(into, lineterminator="\n")
    writer.writerow(columns)
    for row in rows:
        writer.writerow(
            [
                "" if value is None else str(value).lower() if isinstance(value, bool) else
                guarded(value) if isinstance(value, str) else value for value in row
            ]
        )  # fmt: skip
    if shown is not None:
        out.write(visible(shown.getvalue(), breaks=True))


def write_md(out: TextIO, columns: Sequence[str], rows: Iterable[Sequence[object]]) -> None:
    """Write rows as a Markdown table; yes and no in words. What would be read as markup stays text."""
    table = [[_md(cell) for cell in row] for row in rows]
    heads = [_md(column) for column in columns]
    widths = [max([3, len(head), *(len(row[n]) for row in table)]) for n, head in enumerate(heads)]
    lines = (heads, ["-" * width for width in widths], *table)
    padded = ([cell.ljust(width) for cell, width in zip(line, widths, strict=True)] for line in lines)
    out.writelines(f"| {' | '.join(line)} |\n" for line in padded)


def _md(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "" if value is None else in_markdown(" ".join(str(value).split(" ")))


class Form(StrEnum):
    """What an answer comes out as."""

    TEXT = "text"
    JSON = "json"
    CSV = "csv"
    MD = "md"
    SARIF = "sarif"
    JUNIT = "junit"


class Table(NamedTuple):
    """An answer for machines and wikis: its columns and rows, and ``data`` for JSON where that says more than they."""

    columns: Sequence[str]
    rows: Iterable[Sequence[object]]
    data: Any = None

    @property
    def plain(self) -> Any:
        """The answer as plain data."""
        return [dict(zip(self.columns, row, strict=True)) for row in self.rows] if self.data is None else self.data


def put_out(form: str, table: Callable[[], Table], show: Callable[[Screen], object]) -> None:
    """Show an answer on the screen, or write it as JSON, CSV or Markdown: the one place that forks on the form."""
    if form == Form.TEXT:
        show(stdout())
        return
    made = table()
    if form == Form.JSON:
        write_json(sys.stdout, made.plain)
    else:
        (write_csv if form == Form.CSV else write_md)(sys.stdout, made.columns, made.rows)
