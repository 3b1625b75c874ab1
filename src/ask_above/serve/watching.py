"""What tells that there may be another state, at once: files that are watched, a database that says so.

What is told is looked at, and never believed: a look now and then stands behind it, for what tells nobody.
"""

from __future__ import annotations

import asyncio
import logging
import sqlite3
from collections.abc import Callable, Container
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Final

from ask_above.files.names import ASSIGNMENTS, MEMBERS

if TYPE_CHECKING:
    from ask_above.store.database import Store

log = logging.getLogger("ask_above.serve")
Wake = Callable[[], None]

_EVERY: Final = 0.1
"""After how many seconds a SQLite file is asked for its version, which costs next to nothing."""
_AGAIN: Final = 5.0
"""After how many seconds what could not be watched is tried again."""
_STEP: Final = 50


async def watch_files(folder: Path, names: Callable[[], Container[str]], wake: Wake) -> None:
    """Wake whenever one of these files of a folder is written; for ever, or not at all without the package for it."""
    try:
        from watchfiles import Change, awatch
    except ImportError:
        return

    def counts(_: Change, path: str) -> bool:
        name = Path(path).name
        return name in (MEMBERS, ASSIGNMENTS) or name in names()

    while True:
        with suppress(OSError, RuntimeError):
            async for _ in awatch(folder, watch_filter=counts, debounce=_STEP, step=_STEP, recursive=False):
                wake()
        await asyncio.sleep(_AGAIN)


async def watch_database(store: Store, wake: Wake) -> None:
    """Wake whenever a database has changed; for ever."""
    if store.file is not None:
        await _sqlite(store.file, wake)
    else:
        await _listening(store, wake)


async def _sqlite(file: Path, wake: Wake) -> None:
    """Ask a SQLite file for its version, over one connection that is kept, which is that of others' changes."""
    known: tuple[int, int] | None = None
    connection: sqlite3.Connection | None = None
    try:
        while True:
            await asyncio.sleep(_EVERY)
            try:
                now = _number(file)
                if connection is None or known is None or known[0] != now:  # it may have been put in another's place
                    if connection is not None:
                        connection.close()
                    connection = sqlite3.connect(f"file:{file}?mode=ro", uri=True, isolation_level=None)
                version = (now, int(connection.execute("PRAGMA data_version").fetchone()[0]))
            except (OSError, sqlite3.Error):
                version = None
            if version != known:
                known = version
                wake()
    finally:
        if connection is not None:
            connection.close()


def _number(file: Path) -> int:
    """Return what tells a file from another one that is put in its place."""
    return file.stat().st_ino


async def _listening(store: Store, wake: Wake) -> None:
    """Listen to what PostgreSQL says when a change is made; where the connection is lost, connect again."""
    import psycopg

    url = store.url.set(drivername="postgresql").render_as_string(hide_password=False)
    while True:
        with suppress(psycopg.Error, OSError):
            async with await psycopg.AsyncConnection.connect(url, autocommit=True) as connection:
                await connection.execute(f"LISTEN {store.CHANNEL}")
                wake()  # for what was said while nobody listened
                async for _ in connection.notifies():
                    wake()
        log.info("the database is listened to again in a moment")
        await asyncio.sleep(_AGAIN)
