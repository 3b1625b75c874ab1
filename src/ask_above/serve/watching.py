"""What tells that there may be another state, at once: files that are watched, a database that says so.

What is told is looked at, and never believed: a look now and then stands behind it, for what tells nobody.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Container
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Final

from ask_above.files.names import ASSIGNMENTS, MEMBERS

if TYPE_CHECKING:
    from ask_above.store.database import Store

Wake = Callable[[], None]

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
    from ask_above.store.waking import changes_of

    async for _ in changes_of(store):
        wake()
