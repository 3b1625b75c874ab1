"""Output for machines: JSON and CSV."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, TextIO


def write_json(out: TextIO, data: Any) -> None:
    """Write data as JSON, readable by people too."""
    import json

    json.dump(data, out, indent=2, ensure_ascii=False)
    out.write("\n")


def write_csv(out: TextIO, columns: Sequence[str], rows: Iterable[Sequence[object]]) -> None:
    """Write rows as CSV; yes and no as ``true`` and ``false``, nothing for what is not there."""
    import csv

    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(columns)
    for row in rows:
        writer.writerow(
            ["" if value is None else str(value).lower() if isinstance(value, bool) else value for value in row]
        )
