"""How a database is reached and brought up to date: its URL, SQLite's settings, a copy where nothing may be written."""

from __future__ import annotations

import os
import shutil
import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory
from urllib.parse import quote
from uuid import uuid4

import sqlalchemy as sa
from sqlalchemy.pool import NullPool

from ask_above.errors import StoreError
from ask_above.store.tables import HEAD, VERSION, metadata, state

WAIT = 30
"""For how many seconds one writer waits for another."""

PRIVATE = 0o600
"""The mode of a database's file: it holds people."""

_TRIES = 50
_DAMAGED = ("malformed", "not a database", "disk i/o error", "database corruption")


def url_of(text: str) -> sa.URL:
    """Return a URL, with the driver that this package uses; raises :class:`StoreError` without repeating it."""
    for plain in ("postgresql://", "postgres://"):
        if text.startswith(plain):
            text = f"postgresql+psycopg://{text.removeprefix(plain)}"
    try:
        return sa.make_url(text)
    except (sa.exc.ArgumentError, ValueError):
        # what cannot be read as a URL may hold a password all the same, so it is not repeated
        raise StoreError(
            "The register's database cannot be opened: that is no URL such as postgresql://host/name."
        ) from None


def engine_of(url: sa.URL, *, make: bool, limit: float | None = None) -> sa.Engine:
    """Return what connects to a database; ``make``: a SQLite file that is not there is made, for its owner alone.

    ``limit`` is how many seconds it may take to connect, and each statement.
    """
    try:
        if url.get_backend_name() != "sqlite":
            # a connection for each transaction: none is left open, however many communities a process opens
            more: dict[str, object] = {"connect_timeout": WAIT}
            if limit is not None:
                milliseconds = int(limit * 1000)
                more = {
                    "connect_timeout": max(2, int(limit)),
                    "options": f"-c statement_timeout={milliseconds} -c lock_timeout={milliseconds}",
                    # a server that hangs answers no statement at all: the line is given up then
                    "tcp_user_timeout": milliseconds,
                    "keepalives_idle": max(1, int(limit)),
                    "keepalives_interval": 1,
                    "keepalives_count": 3,
                }
            return sa.create_engine(url, poolclass=NullPool, connect_args=more)
        engine = sa.create_engine(url, creator=lambda: _sqlite(Path(url.database or ""), make=make), poolclass=NullPool)
    except ImportError as error:
        extra = "pip install 'ask-above[postgresql]'" if url.get_backend_name() == "postgresql" else error.name
        raise StoreError(f"The register's database needs more packages: {extra}") from None
    except sa.exc.SQLAlchemyError as error:
        raise StoreError(f"The register's database cannot be opened: {said_of(error)}") from None

    @sa.event.listens_for(engine, "begin")
    def begin(connection: sa.Connection) -> None:
        writes = connection.get_execution_options().get("writes")
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")

    return engine


def _sqlite(file: Path, *, make: bool) -> sqlite3.Connection:
    if make and not file.exists():
        os.close(os.open(file, os.O_CREAT | os.O_WRONLY, PRIVATE))
    where = f"file:{quote(str(file))}?mode=rw"
    connection = sqlite3.connect(where, uri=True, timeout=WAIT, isolation_level=None, check_same_thread=False)
    # a database in the making has one file, which is written to the disk once and put in its place by one rename;
    # where anything fails before, it is thrown away
    if make:
        connection.execute("PRAGMA journal_mode=MEMORY")
    connection.execute(f"PRAGMA synchronous={'OFF' if make else 'FULL'}")
    connection.execute("PRAGMA cache_size=-65536")  # 64 MB: an index that members come into in any order is kept whole
    connection.execute("PRAGMA secure_delete=ON")  # what is taken out is written over
    return connection


def may_be_written(file: Path) -> bool:
    """Whether a SQLite file can be opened as usual; its log stands beside it, so the folder counts too."""
    return os.access(file, os.W_OK) and os.access(file.parent, os.W_OK)


@contextmanager
def copy_of(file: Path) -> Iterator[Path]:
    """Give a copy of a SQLite file and its log, as of one moment, to read where nothing may be written beside it."""
    with TemporaryDirectory(prefix="ask-above-") as folder:
        copy = Path(folder) / file.name
        for n in range(_TRIES):
            before = _state(file)
            for path in _files(file):
                shutil.copyfile(path, Path(folder) / path.name)
            if _state(file) == before:
                break
            for path in Path(folder).iterdir():
                path.unlink()
            time.sleep(0.01 * n)
        yield copy


def _files(file: Path) -> list[Path]:
    return [path for path in (file, file.with_name(f"{file.name}-wal")) if path.exists()]


def _state(file: Path) -> list[tuple[str, int, int]]:
    return [(path.name, path.stat().st_mtime_ns, path.stat().st_size) for path in _files(file)]


def said_of(error: BaseException) -> str:
    """Say what went wrong in one line, without what was sent or where to."""
    said = str(getattr(error, "orig", None) or error).strip().splitlines()
    return said[0] if said else type(error).__name__


def is_damage(error: BaseException) -> bool:
    """Whether an error means that a file is no whole database any more."""
    return any(sign in said_of(error).lower() for sign in _DAMAGED)


def upgrade(connection: sa.Connection, *, keep: bool) -> None:
    """Make the tables, or bring them up to date; ``keep``: with a copy of every table beside it, named for this."""
    tables = set(sa.inspect(connection).get_table_names())
    if keep:
        for table in metadata.sorted_tables:
            copy = f"before_{HEAD}_{table.name}"
            if table.name in tables and copy not in tables:
                connection.execute(sa.text(f'CREATE TABLE "{copy}" AS TABLE "{table.name}"'))
    if VERSION.name in tables:
        _run_migrations(connection)
    else:  # the migrations from the first on would come to the same, and take ten times as long
        metadata.create_all(connection)
        VERSION.create(connection)
        connection.execute(VERSION.insert().values(version_num=HEAD))
    said = dict(connection.execute(sa.select(state.c.name, state.c.value)).all())
    first = {"version": "0", "files": "{}", "id": uuid4().hex, "unseen": "[]", "forgotten": "[]", "aside": ""}
    for name, value in first.items():
        if name not in said:
            connection.execute(state.insert().values(name=name, value=value))


def _run_migrations(connection: sa.Connection) -> None:
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations").replace("%", "%%"))
    config.set_main_option("path_separator", "os")
    config.attributes["connection"] = connection
    command.upgrade(config, "head")
