"""The two CSV files of a small register: taken apart into rows, and written so that all that stays the same stays."""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from ask_above.charter.names import SITE
from ask_above.files.cells import guarded, unguarded
from ask_above.people.reading import ASSIGNMENT_COLUMNS, MEMBER_COLUMNS

Cells = Mapping[str, str]

_FIRST = {"members": MEMBER_COLUMNS[:8], "assignments": ASSIGNMENT_COLUMNS[:7]}
"""The columns that a file has which is written anew; others come where somebody has something in them."""

_ALL = {"members": MEMBER_COLUMNS, "assignments": ASSIGNMENT_COLUMNS}
_MEANT = {"kind": "person", "status": "active"}
_BOM = "\ufeff"


def meant(table: str, cells: Cells) -> dict[str, str]:
    """Return a row's cells as they are meant: what is left out stands there, the site has no name."""
    meaning = {column: cells.get(column, "").strip() for column in _ALL[table] if column in cells}
    if table == "members":
        meaning |= {column: meaning[column] or word for column, word in _MEANT.items() if column in meaning}
        if "groups" in meaning:
            groups = (each.strip() for each in meaning["groups"].split(";"))
            meaning["groups"] = ";".join(dict.fromkeys(group for group in groups if group))
    elif meaning.get("place") == SITE:
        meaning["place"] = ""
    return meaning


class _Record(NamedTuple):
    raw: str
    cells: dict[str, str]


def written(table: str, raw: bytes | None, rows: Iterable[Cells]) -> bytes:
    """Return a file that says what these rows say, as near to what it held as can be.

    Its columns, their order, its line breaks and every line that still says the same stay as they were; what is new
    comes last. Columns are added where somebody has something in them.
    """
    wanted = [meant(table, row) for row in rows]
    text = (raw or b"").decode("utf-8", errors="replace")
    names, records = _taken_apart(text.removeprefix(_BOM))
    if not names:
        names, text = list(_FIRST[table]), ""
    added = [c for c in _ALL[table] if c not in names and c != "id" and any(row.get(c) for row in wanted)]
    if any(row.get(c) for row in wanted for c in ("user_name", "external_id")) and "id" not in names:
        added += ["id"] if any(row.get("id") for row in wanted) else []
    ending = "\r\n" if "\r\n" in text else "\n"
    head = next(iter(io.StringIO(text.removeprefix(_BOM), newline="")), "")
    first = _line([*names, *added], ending) if added or not head.strip() else _ended(head, ending)
    names += added
    lines = [first, *_lines(table, names, records, wanted, ending)]
    return ((_BOM if text.startswith(_BOM) else "") + "".join(lines)).encode("utf-8")


def _lines(
    table: str, names: Sequence[str], records: Sequence[_Record], wanted: Sequence[Cells], ending: str
) -> Iterator[str]:
    """Yield the lines of records that stay, of members whose cells changed, and of those who are new."""

    def what(cells: Cells) -> tuple[str, ...]:
        return tuple(cells.get(name, "") for name in names)

    left = Counter(what(row) for row in wanted)
    by_key = {row["key"]: row for row in wanted} if table == "members" else {}
    for record in records:
        full = {**dict.fromkeys(names, ""), **record.cells}
        said = what(meant(table, full))
        if left[said]:
            left[said] -= 1
            yield _ended(record.raw, ending)
        elif (row := by_key.get(full.get("key", ""))) is not None and left[what(row)]:
            left[what(row)] -= 1
            yield _line(map(guarded, what(row)), ending)
    for row in wanted:
        if left[what(row)]:
            left[what(row)] -= 1
            yield _line(map(guarded, what(row)), ending)


def _taken_apart(text: str) -> tuple[list[str], list[_Record]]:
    """Return the names of the columns, and each record with its very text."""
    lines = list(io.StringIO(text, newline=""))
    reader = csv.reader(lines)
    names: list[str] = []
    records = []
    start = 0
    try:
        for cells in reader:
            raw, start = "".join(lines[start : reader.line_num]), reader.line_num
            if not any(cell.strip() for cell in cells):
                continue
            if not names:
                names = [cell.strip() for cell in cells]
            else:
                said = (unguarded(cell.strip()) for cell in cells)
                records.append(_Record(raw, dict(zip(names, said, strict=False))))
    except csv.Error:
        return [], []
    return names, records


def _line(cells: Iterable[str], ending: str) -> str:
    out = io.StringIO()
    csv.writer(out, lineterminator=ending).writerow(list(cells))
    return out.getvalue()


def _ended(raw: str, ending: str) -> str:
    return raw if raw.endswith(("\n", "\r")) else raw + ending
