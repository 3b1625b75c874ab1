"""Output for machines and for wikis: JSON, CSV, Markdown."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, TextIO

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
    table = [[_md(each) for each in row] for row in rows]
    heads = [_md(column) for column in columns]
    widths = [max([3, len(head), *(len(row[n]) for row in table)]) for n, head in enumerate(heads)]
    lines = (heads, ["-" * width for width in widths], *table)
    padded = ([each.ljust(width) for each, width in zip(line, widths, strict=True)] for line in lines)
    out.writelines(f"| {' | '.join(line)} |\n" for line in padded)


def _md(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "" if value is None else in_markdown(" ".join(str(value).split(" ")))


def write_table(
    out: TextIO, form: str, columns: Sequence[str], rows: Iterable[Sequence[object]], data: Any = None
) -> None:
    """Write a table as ``json``, ``csv`` or ``md``; JSON as ``data`` where that says more than the rows do."""
    if form == "json":
        plain = [dict(zip(columns, row, strict=True)) for row in rows] if data is None else data
        write_json(out, plain)
    elif form == "csv":
        write_csv(out, columns, rows)
    else:
        write_md(out, columns, rows)
