"""Logs of what was done: CSV, JSON lines and Parquet, read part by part."""

from __future__ import annotations

import csv
import gzip
import json
from collections.abc import Iterator
from itertools import islice
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any, Final, NamedTuple
from urllib.parse import unquote

from ask_above.errors import QuestionError

if TYPE_CHECKING:
    import pandas as pd

_ROWS: Final = 500_000
"""How many rows of text are in memory at a time."""
_BATCH: Final = 2_000_000
"""How many rows of Parquet are."""
_NO_WORD: Final = "__HIVE_DEFAULT_PARTITION__"
"""How the path of a partitioned data set writes that a value is missing."""
ENDINGS: Final = (".csv", ".csv.gz", ".jsonl", ".jsonl.gz", ".ndjson", ".parquet")


class LogPiece(NamedTuple):
    """A part of a log that is read in one go: a file, or some row groups of a Parquet file."""

    path: str
    groups: tuple[int, ...] = ()


def pieces(path: Path) -> list[LogPiece]:
    """Return what a log is read in: files as they are, Parquet by its row groups; a folder is a data set of Parquet.

    Raises :class:`QuestionError` for another ending and for what cannot be read.
    """
    if path.is_dir():
        files = sorted(path.rglob("*.parquet"))
        if not files:
            raise QuestionError(f"The folder '{path.name}' holds no Parquet files.")
        return [piece for file in files for piece in pieces(file)]
    name = path.name.lower()
    if not name.endswith(ENDINGS):
        raise QuestionError(f"'{path.name}' ends in none of {', '.join(ENDINGS)}.")
    if not name.endswith(".parquet"):
        return [LogPiece(str(path))]
    return _groups(path)


def _groups(path: Path) -> list[LogPiece]:
    pq, wrong = _parquet()
    try:
        meta = pq.ParquetFile(path).metadata
    except wrong as error:
        raise QuestionError(f"'{path.name}' cannot be read as Parquet: {error}") from None
    log_pieces: list[LogPiece] = []
    some: list[int] = []
    rows = 0
    for n in range(meta.num_row_groups):
        some.append(n)
        rows += meta.row_group(n).num_rows
        if rows >= _BATCH or n == meta.num_row_groups - 1:
            log_pieces.append(LogPiece(str(path), tuple(some)))
            some, rows = [], 0
    return log_pieces


def _parquet() -> tuple[Any, Any]:
    try:
        import pyarrow as pa
        import pyarrow.parquet as pq
    except ImportError:
        raise QuestionError("Parquet needs more packages: pip install 'ask-above[parquet]'") from None
    return pq, (pa.ArrowInvalid, OSError)


def read_piece(piece: LogPiece) -> Iterator[tuple[int, Any]]:
    """Yield the rows of a piece part by part: data frames of text files, Arrow tables of Parquet.

    With each comes how many rows of the file stand before it.
    """
    path = Path(piece.path)
    name = path.name.lower()
    if name.endswith(".parquet"):
        yield from _read_parquet(path, piece.groups)
        return
    before = 0
    wrong = (ValueError, UnicodeDecodeError, EOFError, OSError)
    try:
        for part in _read_csv(path) if name.endswith((".csv", ".csv.gz")) else _read_lines(path):
            yield before, part.assign(**{key: part.get(key, word) for key, word in _said_by(path).items()})
            before += len(part)
    except QuestionError:
        raise
    except wrong as error:
        raise QuestionError(f"'{path.name}' cannot be read as a log: {str(error).strip()}") from None


def line_of(piece: LogPiece, row: int) -> str:
    """Return where in its file a row stands that was read as this one, counted from 0: its line; of Parquet its row."""
    path = Path(piece.path)
    name = path.name.lower()
    if name.endswith(".parquet"):
        return f"row {row + 1}"
    with _text(path) as text:
        if name.endswith((".csv", ".csv.gz")):
            lines = csv.reader(text)
            filled: Iterator[int] = (
                lines.line_num - sum(cell.count("\n") for cell in record) for record in lines if record
            )
            row += 1  # the first line holds the names of the columns
        else:
            filled = (n for n, line in enumerate(text, 1) if line.strip())
        return f"line {next(islice(filled, row, None))}"


def _read_parquet(path: Path, groups: tuple[int, ...]) -> Iterator[tuple[int, Any]]:
    pq, wrong = _parquet()
    try:
        import pyarrow as pa

        with pq.ParquetFile(path) as file:
            before = sum(file.metadata.row_group(n).num_rows for n in range(min(groups, default=0)))
            for batch in file.iter_batches(batch_size=_BATCH, row_groups=list(groups)):
                table = pa.table(batch)
                for key, word in _said_by(path).items():
                    if key not in table.column_names:
                        table = table.append_column(key, pa.array([word] * len(table), pa.string()).dictionary_encode())
                yield before, table
                before += len(table)
    except wrong as error:
        raise QuestionError(f"'{path.name}' cannot be read as Parquet: {error}") from None


def _said_by(path: Path) -> dict[str, str]:
    """Return the columns that a file's path says for all of its rows, as ``place=upper-gauges`` does."""
    said = [part.partition("=") for part in path.parts[:-1] if "=" in part]
    return {key: "" if word == _NO_WORD else unquote(word) for key, _, word in said}


def _read_csv(path: Path) -> Iterator[pd.DataFrame]:
    import pandas as pd

    with pd.read_csv(path, chunksize=_ROWS, dtype=str, keep_default_na=False) as parts:
        yield from parts


def _read_lines(path: Path) -> Iterator[pd.DataFrame]:
    """Yield the rows of JSON lines; a number in them stays as it is written."""
    import pandas as pd

    with _text(path) as text:
        rows = (json.loads(line, parse_int=str, parse_float=str) for line in text if line.strip())
        while some := list(islice(rows, _ROWS)):
            if not all(isinstance(row, dict) for row in some):
                raise ValueError("a line is no object")
            yield pd.DataFrame(some, dtype=object)


def _text(path: Path) -> IO[str]:
    if path.name.lower().endswith(".gz"):
        return gzip.open(path, "rt", encoding="utf-8-sig", newline="")
    return path.open(encoding="utf-8-sig", newline="")
