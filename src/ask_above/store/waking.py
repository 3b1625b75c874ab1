"""What a database says, by itself, when it has changed: PostgreSQL speaks, a SQLite file is asked for its version."""

from __future__ import annotations

import asyncio
import logging
import sqlite3
from collections.abc import AsyncIterator
from contextlib import suppress
from pathlib import Path
from typing import Final

from ask_above.store.database import Store

log = logging.getLogger("ask_above.store")

_EVERY: Final = 0.1
"""After how many seconds a SQLite file is asked for its version, which costs next to nothing."""
_AGAIN: Final = (0.2, 5.0)
"""After how many seconds a connection that was lost is tried again: at first, and at most."""


def changes_of(store: Store) -> AsyncIterator[None]:
    """Yield whenever a database has changed, or may have; for ever."""
    return _of_file(store.file) if store.file is not None else _of_server(store)


async def _of_file(file: Path) -> AsyncIterator[None]:
    """Ask a SQLite file for its version, over one connection that is kept, which is that of others' changes."""
    known: tuple[int, int] | None = None
    connection: sqlite3.Connection | None = None
    try:
        while True:
            await asyncio.sleep(_EVERY)
            try:
                now = _number(file)
                # the version counts what others committed since this connection was opened
                if connection is None or known is None or known[0] != now:
                    if connection is not None:
                        connection.close()
                    connection = sqlite3.connect(f"file:{file}?mode=ro", uri=True, isolation_level=None)
                version = (now, int(connection.execute("PRAGMA data_version").fetchone()[0]))
            except (OSError, sqlite3.Error):
                version = None
            if version != known:
                known = version
                yield
    finally:
        if connection is not None:
            connection.close()


def _number(file: Path) -> int:
    """Return what tells a file from another one that is put in its place."""
    return file.stat().st_ino


async def _of_server(store: Store) -> AsyncIterator[None]:
    """Listen to what PostgreSQL says when a change is made; where the connection is lost, connect again."""
    import psycopg

    url = store.url.set(drivername="postgresql").render_as_string(hide_password=False)
    pause, longest = _AGAIN
    while True:
        with suppress(psycopg.Error, OSError):
            async with await psycopg.AsyncConnection.connect(url, autocommit=True) as connection:
                await connection.execute(f"LISTEN {store.CHANNEL}")
                pause = _AGAIN[0]
                yield  # for what was said while nobody listened
                async for _ in connection.notifies():
                    yield
        log.info("the database is listened to again in a moment")
        await asyncio.sleep(pause)
        pause = min(2 * pause, longest)
