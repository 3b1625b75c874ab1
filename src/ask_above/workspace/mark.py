"""What a folder remembers: which database it belongs to, and from which of its states the folder's files were made."""

from __future__ import annotations

import json
from pathlib import Path
from typing import NamedTuple

from ask_above.errors import StoreError
from ask_above.files.names import MARK
from ask_above.files.writing import read_bytes


class FolderMark(NamedTuple):
    """``register`` is what messages call the database, ``id`` its own, ``state`` the number of a change."""

    register: str
    id: str
    state: int

    @property
    def content(self) -> bytes:
        """What the file holds."""
        return (json.dumps(self._asdict(), indent=2) + "\n").encode("utf-8")


def read_mark(folder: Path) -> FolderMark | None:
    """Return what a folder remembers, ``None`` where it never had a database; raises for what cannot be meant."""
    raw = read_bytes(folder / MARK)
    if raw is None:
        return None
    try:
        said = json.loads(raw)
        return FolderMark(str(said["register"]), str(said["id"]), int(said["state"]))
    except (ValueError, KeyError, TypeError):
        raise StoreError(
            f"{MARK} does not say which database this folder belongs to. Put a copy of it back, or delete it: then the "
            "database that is here, or named, is taken as this folder's own."
        ) from None
