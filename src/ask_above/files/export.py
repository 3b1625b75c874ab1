"""Write rows to Parquet, CSV, or a table in a database, batch by batch: never all at once in memory.

A file, and a folder of parts, appears whole or not at all. A table in a database is replaced in one transaction.
"""

from __future__ import annotations

import csv
import os
import re
import shutil
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType
from typing import Any, Final, Protocol, Self

from ask_above.errors import QuestionError
from ask_above.files.cells import guarded
from ask_above.files.writing import PRIVATE

Columns = Mapping[str, type]
"""Names of columns and what stands in them: ``str``, ``int``, or in Parquet ``Long``."""


class Long(int):
    """The kind of a column of numbers that may be long; it is written with 64 bits."""


class Writer(Protocol):
    """Takes rows for one table."""

    def write(self, columns: Mapping[str, list[Any]]) -> None:
        """Add rows."""


class Target(Protocol):
    """Where tables are written; a context that keeps them when it is left well, and nothing when it is not."""

    def table(self, name: str, columns: Columns) -> Writer:
        """Begin a table."""

    def __enter__(self) -> Self: ...

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None: ...


def open_target(where: str) -> Target:
    """Return the target that a path ending in .parquet, .csv or /, or a database's URL, names.

    Raises :class:`QuestionError` for anything else, and where a package for it is not installed.
    """
    if "://" in where:
        return DatabaseTarget(where)
    if where.endswith(("/", os.sep)):
        _need("pyarrow", "parquet")
        return FolderTarget(Path(where))
    suffix = Path(where).suffix.lower()
    if suffix == ".csv":
        return FileTarget(Path(where), _CsvWriter)
    if suffix == ".parquet":
        _need("pyarrow", "parquet")
        return FileTarget(Path(where), _ParquetWriter)
    raise QuestionError(f"'{where}' names neither a .parquet or .csv file, a folder/ for many, nor a database's URL.")


def _need(package: str, extra: str) -> None:
    from importlib.util import find_spec

    if find_spec(package) is None:
        raise QuestionError(f"That needs {package}, which is not installed: pip install 'ask-above[{extra}]'")


class _CsvWriter:
    def __init__(self, path: Path, columns: Columns) -> None:
        self._file = path.open("w", newline="", encoding="utf-8")
        self._writer = csv.writer(self._file, lineterminator="\n")
        self._writer.writerow(columns)

    def write(self, columns: Mapping[str, list[Any]]) -> None:
        self._writer.writerows(
            [guarded(each) if isinstance(each, str) else each for each in row]
            for row in zip(*columns.values(), strict=True)
        )

    def close(self) -> None:
        self._file.close()


class _ParquetWriter:
    def __init__(self, path: Path, columns: Columns) -> None:
        import pyarrow as pa
        from pyarrow import parquet

        kinds = {str: pa.dictionary(pa.int32(), pa.string()), int: pa.int32(), Long: pa.int64()}
        self._schema = pa.schema([(name, kinds[kind]) for name, kind in columns.items()])
        self._writer = parquet.ParquetWriter(str(path), self._schema)

    def write(self, columns: Mapping[str, list[Any]]) -> None:
        import pyarrow as pa

        self._writer.write_table(pa.table(dict(columns), schema=self._schema))

    def close(self) -> None:
        self._writer.close()


PART_ROWS: Final = 5_000_000
"""From so many rows on a folder's next part is begun: what one reader takes at a time."""


_PART: Final = re.compile(r"part-\d+\.parquet")


class _PartsWriter:
    """A folder of Parquet files that are one table; the parts are begun one after the other."""

    def __init__(self, folder: Path, columns: Columns) -> None:
        self._folder, self._columns = folder, columns
        self._parts = self._rows = 0
        self._next()

    def _next(self) -> None:
        self._writer = _ParquetWriter(self._folder / f"part-{self._parts:05}.parquet", self._columns)
        self._parts, self._rows = self._parts + 1, 0

    def write(self, columns: Mapping[str, list[Any]]) -> None:
        if self._rows >= PART_ROWS:
            self._writer.close()
            self._next()
        self._writer.write(columns)
        self._rows += len(next(iter(columns.values())))

    def close(self) -> None:
        self._writer.close()


class _Beside:
    """Writes each table beside what is there, and puts all in its place once everything is well."""

    def __init__(self) -> None:
        self._open: list[tuple[Path, Path, _CsvWriter | _ParquetWriter | _PartsWriter | None]] = []

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for part, path, writer in self._open:
            if writer is not None:
                writer.close()
            if error is None:
                _put(part, path)
            elif part.is_dir():
                shutil.rmtree(part, ignore_errors=True)
            else:
                part.unlink(missing_ok=True)


def _put(part: Path, path: Path) -> None:
    """Put a file, or a folder of files, where it belongs, instead of the one that is there."""
    for file in part.iterdir() if part.is_dir() else (part,):
        file.chmod(PRIVATE)
    if not path.is_dir():
        os.replace(part, path)  # noqa: PTH105 (replaces what is there on every system)
        return
    old = path.with_name(f".{path.name}.old")
    shutil.rmtree(old, ignore_errors=True)
    path.rename(old)
    part.rename(path)
    shutil.rmtree(old, ignore_errors=True)


class FolderTarget(_Beside):
    """A folder with one of its own for each table, in it Parquet files of some million rows: a data set."""

    def __init__(self, folder: Path) -> None:
        super().__init__()
        self.folder = folder

    def folder_of(self, name: str) -> Path:
        """Begin a table whose parts somebody else writes; returns the folder for them, beside what is there."""
        path, part = self._begun(name)
        self._open.append((part, path, None))
        return part

    def table(self, name: str, columns: Columns) -> Writer:
        """Begin a table beside the one that is there; raises :class:`QuestionError` where something else is there."""
        path, part = self._begun(name)
        writer = _PartsWriter(part, columns)
        self._open.append((part, path, writer))
        return writer

    def _begun(self, name: str) -> tuple[Path, Path]:
        path, part = self.folder / name, self.folder / f".{name}.part"
        if path.exists() and not (path.is_dir() and all(_PART.fullmatch(each.name) for each in path.iterdir())):
            raise QuestionError(f"'{path}' holds more than an earlier export, and stays; name another folder.")
        shutil.rmtree(part, ignore_errors=True)
        self.folder.mkdir(exist_ok=True)
        part.mkdir()
        return path, part


class FileTarget(_Beside):
    """Files beside one another: OUT.csv for the first table, OUT-NAME.csv for each further one."""

    def __init__(self, path: Path, kind: type[_CsvWriter | _ParquetWriter]) -> None:
        super().__init__()
        self.path, self.kind = path, kind

    def table(self, name: str, columns: Columns) -> Writer:
        """Begin a file; raises :class:`QuestionError` where a folder is in its place."""
        path = self.path if not self._open else self.path.with_stem(f"{self.path.stem}-{name}")
        if path.is_dir():
            raise QuestionError(f"'{path}' is a folder, and stays; name another file.")
        part = path.with_name(f".{path.name}.part")
        writer = self.kind(part, columns)
        self._open.append((part, path, writer))
        return writer


class DatabaseTarget:
    """Tables named ``ask_above_NAME`` in a database, replaced in one transaction."""

    def __init__(self, url: str) -> None:
        _need("sqlalchemy", "database")
        import sqlalchemy as sa

        self._sa = sa
        try:
            self._engine = sa.create_engine(url)
        except (sa.exc.ArgumentError, sa.exc.NoSuchModuleError, ImportError, ValueError):
            # the URL may hold a password, so neither it nor what was said of it is repeated
            raise QuestionError("That is no URL of a database that can be reached here.") from None
        if self._engine.dialect.name == "sqlite":
            self._begin_by_hand()

    def _begin_by_hand(self) -> None:
        """Let SQLite drop and create tables within the transaction; its driver begins one for rows alone."""

        @self._sa.event.listens_for(self._engine, "connect")
        def _(connection: Any, _record: Any) -> None:
            connection.isolation_level = None

        @self._sa.event.listens_for(self._engine, "begin")
        def _(connection: Any) -> None:
            connection.exec_driver_sql("BEGIN")

    def __enter__(self) -> Self:
        with self._told():
            self._connection = self._engine.connect()
            self._transaction = self._connection.begin()
        return self

    def table(self, name: str, columns: Columns) -> Writer:
        """Drop the table that is there, and begin it anew."""
        sa = self._sa
        kinds = {str: sa.Text(), int: sa.Integer()}
        made = sa.Table(
            f"ask_above_{name}", sa.MetaData(), *(sa.Column(key, kinds[kind]) for key, kind in columns.items())
        )
        with self._told():
            made.drop(self._connection, checkfirst=True)
            made.create(self._connection)
        return _RowWriter(self, made)

    def insert(self, table: Any, columns: Mapping[str, list[Any]]) -> None:
        """Add rows to a table."""
        names = list(columns)
        rows = [dict(zip(names, row, strict=True)) for row in zip(*columns.values(), strict=True)]
        with self._told():
            self._connection.execute(table.insert(), rows)

    @contextmanager
    def _told(self) -> Iterator[None]:
        try:
            yield
        except self._sa.exc.SQLAlchemyError as error:
            said = str(getattr(error, "orig", None) or error).strip()
            password = self._engine.url.password
            said = said.replace(str(password), "***") if password else said
            raise QuestionError(f"The database says no: {said}") from None

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        with self._told():
            if error is None:
                self._transaction.commit()
            else:
                self._transaction.rollback()
            self._connection.close()
            self._engine.dispose()


class _RowWriter:
    def __init__(self, target: DatabaseTarget, table: Any) -> None:
        self._target, self._table = target, table

    def write(self, columns: Mapping[str, list[Any]]) -> None:
        self._target.insert(self._table, columns)


def write_all(writer: Writer, batches: Iterable[Mapping[str, list[Any]]]) -> int:
    """Write all batches, and return how many rows they had."""
    count = 0
    for columns in batches:
        writer.write(columns)
        count += len(next(iter(columns.values())))
    return count
