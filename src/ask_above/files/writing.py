"""Write files whole or not at all: prepared beside where they go, and then put there together."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from ask_above.files.names import SPARE

PRIVATE = 0o600
"""The mode of new files that hold people."""
PUBLIC = 0o644


class FileBatch:
    """Files that are written beside their places, safe on the disk, and put there when all of them are.

    A file that is a symbolic link stays one: what it points to is replaced. A file that is there keeps its mode.
    """

    def __init__(self) -> None:
        self._ready: list[tuple[Path, Path]] = []

    def prepare(self, file: Path, content: bytes, mode: int = PUBLIC) -> None:
        """Write what a file is to hold beside it; raises ``OSError`` where it can never be put there."""
        place = file.resolve() if file.is_symlink() else file
        if place.exists() and not place.is_file():
            raise IsADirectoryError(21, "there is something else of that name, which is no file", str(place))
        from tempfile import mkstemp  # a question writes nothing

        handle, name = mkstemp(dir=place.parent, prefix=SPARE, suffix=".part")
        spare = Path(name)
        self._ready.append((spare, place))
        with os.fdopen(handle, "wb") as out:
            out.write(content)
            out.flush()
            os.fsync(out.fileno())
        spare.chmod(stat.S_IMODE(place.stat().st_mode) if place.exists() else mode)

    def place(self) -> None:
        """Put every file in its place, the first prepared first; raises ``OSError``, and the rest stays prepared."""
        while self._ready:
            spare, place = self._ready[0]
            spare.replace(place)
            self._ready.pop(0)
            _keep_folder(place.parent)

    def drop(self) -> None:
        """Take away what was prepared and not put in its place."""
        for spare, _ in self._ready:
            with suppress(OSError):
                spare.unlink(missing_ok=True)
        self._ready.clear()


@contextmanager
def batch() -> Iterator[FileBatch]:
    """Prepare files in the block; what was not put in its place by its end is taken away."""
    made = FileBatch()
    try:
        yield made
    finally:
        made.drop()


def write_whole(file: Path, text: str, mode: int = PUBLIC) -> None:
    """Put a text in the place of a file's, as :func:`write_bytes` does."""
    write_bytes(file, text.encode("utf-8"), mode)


def write_bytes(file: Path, content: bytes, mode: int = PUBLIC) -> None:
    """Put something in the place of what a file holds; after a crash it holds the one or the other, never a part.

    Raises ``OSError``, and then the file holds what it held.
    """
    with batch() as made:
        made.prepare(file, content, mode)
        made.place()


def put_new(spare: Path, file: Path) -> None:
    """Put a file where there is none; raises ``FileExistsError`` where somebody else has put one there."""
    try:
        os.link(spare, file)
    except FileExistsError:
        raise
    except OSError:  # a file system without links
        spare.replace(file)
    else:
        spare.unlink()
    _keep_folder(file.parent)


def clear_spares(folder: Path) -> None:
    """Take away what somebody prepared who was stopped before it was put in its place; call it locked."""
    for spare in folder.glob(f"{SPARE}*.part"):
        with suppress(OSError):
            spare.unlink()


def _keep_folder(folder: Path) -> None:
    """Let the folder's own entry be written, where the system can be asked for that."""
    with suppress(OSError, AttributeError):
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def read_bytes(file: Path) -> bytes | None:
    """Return what a file holds; ``None`` where there is none."""
    try:
        return file.read_bytes()
    except FileNotFoundError:
        return None
