"""Read the two files of the register: rows of text with the place of every cell."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator

from ask_above.charter.names import how_many, nearest
from ask_above.errors import Fault
from ask_above.files.cells import any_guarded, unguarded
from ask_above.files.yaml_text import decode
from ask_above.people.reading import FileRow, FileRows


def read_rows(name: str, raw: bytes, columns: tuple[str, ...], required: tuple[str, ...]) -> FileRows:
    """Return the rows of a CSV file whose first line names its columns."""
    text, faults = decode(name, raw)
    rows = FileRows(name, faults)
    if faults:
        return rows
    if "\x00" in text:
        line = text[: text.index("\x00")].count("\n") + 1
        message = "this is no text file, as it holds a zero byte"
        rows.faults.append(Fault(name, line, 1, "", "not-text", message, "a CSV file"))
        return rows
    records = _records(rows, text)
    header = next(records, None)
    if header is None:
        expected = f"a first line that names the columns: {','.join(columns)}"
        rows.faults.append(Fault(name, 1, 1, "", "empty-file", "the file is empty", expected))
        return rows
    names = [cell.strip() for cell in header[1]]
    if _check_header(rows, names, text, columns, required):
        rows.rows = list(_rows(rows, names, records, text))
    return rows


def _records(rows: FileRows, text: str) -> Iterator[tuple[int, list[str]]]:
    """Yield each record with the line it starts on; blank lines are none."""
    reader = csv.reader(io.StringIO(text, newline=""), strict=True)
    line = 1
    try:
        for record in reader:
            # spreadsheets save rows of nothing but commas below the last one
            if record and (record[0].strip() or any(cell.strip() for cell in record)):
                yield line, record
            line = reader.line_num + 1
    except csv.Error as error:
        reason = str(error)
        message = f"this cannot be read as CSV: {reason}"
        if "end of data" in reason:
            message = "a quote is opened and never closed"
        elif "expected after" in reason:
            message = "a quote inside a quoted cell must be doubled"
        source = _lines(text)[line - 1] if line <= len(_lines(text)) else ""
        rows.faults.append(
            Fault(rows.name, line, 1, "", "not-csv", message, "cells separated by commas", source=source)
        )


def _lines(text: str) -> list[str]:
    return text.replace("\r\n", "\n").replace("\r", "\n").split("\n")


def _check_header(
    rows: FileRows, names: list[str], text: str, columns: tuple[str, ...], required: tuple[str, ...]
) -> bool:
    source = _lines(text)[0]
    before = len(rows.faults)

    def fault(column: str, code: str, message: str, near: tuple[str, ...] = ()) -> None:
        at = source.find(column) + 1 if column else 1
        expected = f"columns among {', '.join(columns)}"
        rows.faults.append(Fault(rows.name, 1, at, column, code, message, expected, f"'{column}'", near, source))

    separator = next((sign for sign in ";\t|" if len(names) == 1 and sign in names[0]), None)
    if separator:
        said = "tabs" if separator == "\t" else f"'{separator}'"
        fault("", "separator", f"the cells are separated by {said}; save the file with commas between them")
        return False
    for n, column in enumerate(names):
        if column not in columns:
            fault(column, "unknown-column", f"there is no column '{column}'", nearest(column, columns))
        elif column in names[:n]:
            fault(column, "twice", f"the column '{column}' stands twice")
    for column in required:
        if column not in names:
            fault("", "missing", f"the column '{column}' is missing from the first line")
    return len(rows.faults) == before


def _rows(rows: FileRows, names: list[str], records: Iterator[tuple[int, list[str]]], text: str) -> Iterator[FileRow]:
    # of two million cells hardly one is guarded, and looking at each takes longer than reading them
    guarded = any_guarded(text)
    finder = _Finder(text, names)
    for line, record in records:
        said = map(str.strip, record)
        row = FileRow(dict(zip(names, map(unguarded, said) if guarded else said, strict=False)), line, finder)
        if len(record) > len(names):
            message = (
                f"this row has {how_many(len(record), 'cell')}, the first line names {how_many(len(names), 'column')}"
            )
            rows.fault(row, names[-1], "too-many-cells", message, "a cell with a comma in it in quotes")
            continue
        yield row


class _Finder:
    """Finds the line and column of a cell, only when a fault asks for it."""

    def __init__(self, text: str, names: list[str]) -> None:
        self.text, self.names = text, names

    def __call__(self, line: int, column: str) -> tuple[int, int, str]:
        lines = _lines(self.text)
        wanted = self.names.index(column) if column in self.names else 0
        at, quoted, number = 0, False, 0
        while number < wanted:
            source = lines[line - 1]
            if at >= len(source):
                if not quoted or line >= len(lines):
                    break
                line, at = line + 1, 0
                continue
            if source[at] == '"':
                quoted = not quoted
            elif source[at] == "," and not quoted:
                number += 1
            at += 1
        source = lines[line - 1]
        at += len(source[at:]) - len(source[at:].lstrip()) if at < len(source) else 0
        return line, at + 1, source
