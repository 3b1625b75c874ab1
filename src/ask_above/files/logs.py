"""Logs of what was done: CSV, JSON lines and Parquet, read part by part."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from ask_above.errors import QuestionError

if TYPE_CHECKING:
    import pandas as pd

_ROWS: Final = 500_000
"""How many rows of text are in memory at a time."""
_BATCH: Final = 2_000_000
"""How many rows of Parquet are."""
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
    found: list[LogPiece] = []
    some: list[int] = []
    rows = 0
    for n in range(meta.num_row_groups):
        some.append(n)
        rows += meta.row_group(n).num_rows
        if rows >= _BATCH or n == meta.num_row_groups - 1:
            found.append(LogPiece(str(path), tuple(some)))
            some, rows = [], 0
    return found


def _parquet() -> tuple[Any, Any]:
    try:
        import pyarrow as pa
        import pyarrow.parquet as pq
    except ImportError:
        raise QuestionError("Parquet needs more packages: pip install 'ask-above[parquet]'") from None
    return pq, (pa.ArrowInvalid, OSError)


def read_piece(piece: LogPiece) -> Iterator[Any]:
    """Yield the rows of a piece part by part: data frames of text files, Arrow tables of Parquet."""
    path = Path(piece.path)
    name = path.name.lower()
    if name.endswith(".parquet"):
        pq, wrong = _parquet()
        try:
            import pyarrow as pa

            with pq.ParquetFile(path) as file:
                for batch in file.iter_batches(batch_size=_BATCH, row_groups=list(piece.groups)):
                    yield pa.table(batch)
        except wrong as error:
            raise QuestionError(f"'{path.name}' cannot be read as Parquet: {error}") from None
    elif name.endswith((".csv", ".csv.gz")):
        yield from _text(path, "read_csv", dtype=str, keep_default_na=False)
    else:
        yield from _text(path, "read_json", lines=True, dtype=False)


def _text(path: Path, reader: str, **how: Any) -> Iterator[pd.DataFrame]:
    import pandas as pd

    try:
        with getattr(pd, reader)(path, chunksize=_ROWS, **how) as parts:
            yield from parts
    except (ValueError, UnicodeDecodeError, EOFError, OSError) as error:
        raise QuestionError(f"'{path.name}' cannot be read as a log: {str(error).strip()}") from None
