"""A community's files: their names, where they are found, and how they are written, whole or not at all."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from ask_above.errors import MissingFileError

CHARTER = "charter.yaml"
MEMBERS = "members.csv"
ASSIGNMENTS = "assignments.csv"
REGISTER = "register.db"
OUTBOX = "outbox"
LOCK = ".ask-above.lock"
MARK = ".ask-above.json"
"""Says which database a folder belongs to, and from which of its states the folder's files were made."""
SPARE = ".ask-above-"
"""What the names of files begin with that were prepared and not yet put in their place."""
_WAYS_OUT = ("/", "\\", "\x00", ":")
_MOST_READ = 256 * 1024 * 1024
"""How many bytes are read of what is no file on a disk: a pipe, or a device."""
PRIVATE = 0o600
"""The mode of new files that hold people."""
PUBLIC = 0o644


def is_read_from(file: Path) -> bool:
    """Whether a community is read from a file: nothing but a change writes over it."""
    folder = file.parent.resolve()
    if not any((folder / name).exists() for name in (CHARTER, MARK)):
        return False
    own = file.name in (CHARTER, MEMBERS, ASSIGNMENTS, MARK, LOCK) or file.name.startswith(REGISTER)
    return own or (file.suffix in (".yaml", ".yml") and file.exists())


def located(path: str | Path) -> tuple[Path, str]:
    """Return the folder and the charter's name in it; raises :class:`MissingFileError` where there is no charter.

    One that is missing beside the folder's database is written anew from there.
    """
    path = Path(path)
    folder, name = path, CHARTER
    if not folder.is_dir() and (folder.is_file() or folder.suffix in (".yaml", ".yml")):
        folder, name = folder.parent, folder.name
    if not (folder / name).exists() and not (folder / MARK).exists():
        where = f"the folder '{folder}'" if folder.is_dir() else f"'{folder}', which is no folder"
        raise MissingFileError(
            f"There is no {name} in {where}. Name the community's folder, or write the demo with: ask-above demo DIR"
        )
    return folder, name


def is_inside(name: str) -> bool:
    """Whether a name is that of a file in the folder itself, and nothing that leads out of it or is hidden.

    >>> [is_inside(name) for name in ("charter.yaml", "../charter.yaml", "/etc/passwd", ".profile", "")]
    [True, False, False, False, False]
    """
    return bool(name.strip()) and not name.startswith(".") and not any(sign in name for sign in _WAYS_OUT)


def set_aside(name: str, taken: frozenset[str] = frozenset()) -> str:
    """Return the name under which a file is put aside that counts no more.

    >>> set_aside("members.csv"), set_aside("members.csv", frozenset({"members.put-aside.csv"}))
    ('members.put-aside.csv', 'members.put-aside-2.csv')
    """
    stem, dot, ending = name.rpartition(".")
    free, n = f"{stem}.put-aside{dot}{ending}", 1
    while free in taken:
        n += 1
        free = f"{stem}.put-aside-{n}{dot}{ending}"
    return free


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

    @property
    def is_empty(self) -> bool:
        """Whether nothing was prepared that is not in its place."""
        return not self._ready

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


def contents(file: Path) -> bytes:
    """Return what a file holds; raises ``OSError``, also for what has no end, as a device."""
    with file.open("rb") as opened:
        on_disk = stat.S_ISREG(os.fstat(opened.fileno()).st_mode)
        held = opened.read(-1 if on_disk else _MOST_READ + 1)
    if len(held) > _MOST_READ and not on_disk:
        raise OSError(errno.EFBIG, f"{os.strerror(errno.EFBIG)}; put what you want of it into a file", str(file))
    return held


def read_bytes(file: Path) -> bytes | None:
    """Return what a file holds; ``None`` where there is none."""
    try:
        return contents(file)
    except FileNotFoundError:
        return None
