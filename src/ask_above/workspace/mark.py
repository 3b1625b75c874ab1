"""What a folder remembers: which folder it is, and which database it belongs to."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from ask_above.errors import StoreError
from ask_above.files.names import MARK
from ask_above.files.writing import read_bytes


class FolderMark(NamedTuple):
    """``register`` is what messages call the database, ``id`` its own, ``folder`` this folder's.

    ``state`` is the number of a change, which folders of before remembered.
    """

    register: str
    id: str
    folder: str = ""
    state: int | None = None

    @property
    def content(self) -> bytes:
        """What the file holds."""
        import json

        said = {name: value for name, value in self._asdict().items() if value not in ("", None)}
        return (json.dumps(said, indent=2) + "\n").encode("utf-8")

    def key_in(self, folder: Path) -> str:
        """Return what a database of several folders knows this one by: two that were copied lie in different places."""
        import hashlib

        return hashlib.sha256(f"{self.folder}\n{folder.resolve()}".encode()).hexdigest()


def read_mark(folder: Path) -> FolderMark | None:
    """Return what a folder remembers, ``None`` where it never had a database; raises for what cannot be read."""
    raw = read_bytes(folder / MARK)
    if raw is None:
        return None
    try:
        import json

        said = json.loads(raw)
        state = int(said["state"]) if "state" in said else None
        return FolderMark(str(said["register"]), str(said["id"]), str(said.get("folder", "")), state)
    except (ValueError, KeyError, TypeError):
        raise StoreError(
            f"{MARK} does not say which database this folder belongs to. Restore it from a copy, or delete it: then "
            "the folder's own database, or the named one, is used."
        ) from None
