"""What is kept between runs, so that a question about one member does not read the files of all.

For a large community the charter and the register, cut into small pieces, are kept in the user's cache folder under the
digest of everything they were made from. A file that changed has another digest; what is kept may be deleted at any
time; whatever cannot be read is as if it were not there.
"""

from __future__ import annotations

import gc
import hashlib
import json
import os
import pickle
import shutil
import sys
import tempfile
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any
from zlib import crc32

from ask_above.charter.charter import Charter
from ask_above.people.register import Assignment, Member, Register
from ask_above.version import __version__

_PER_PIECE = 400
_BROKEN = (
    OSError,
    ValueError,
    EOFError,
    KeyError,
    AttributeError,
    ImportError,
    TypeError,
    IndexError,
    pickle.PickleError,
)

Piece = tuple[dict[str, Member], dict[str, list[Assignment]]]
Reread = Callable[[], tuple[Charter, Register]]


def cache_folder() -> Path:
    """Return the folder for what is kept: below ``XDG_CACHE_HOME``, else below the home folder."""
    base = os.environ.get("XDG_CACHE_HOME")
    return (Path(base) if base else Path.home() / ".cache") / "ask-above"


def _is_ours(folder: Path) -> bool:
    """Tell whether nobody else can have written there; what is kept is only trusted then."""
    if not hasattr(os, "getuid"):
        return True
    status = folder.stat()
    return status.st_uid == os.getuid() and not status.st_mode & 0o022


def _note_of(folder: Path) -> Path:
    return cache_folder() / f"{hashlib.blake2b(str(folder.resolve()).encode(), digest_size=12).hexdigest()}.json"


def digest(contents: Mapping[str, bytes | None]) -> str:
    """Return the digest of files' contents, of this program and this Python; ``None`` is a file that is not there."""
    total = hashlib.blake2b(f"{__version__} {sys.version}".encode(), digest_size=16)
    for name, raw in sorted(contents.items()):
        total.update(f"\0{name}\0{raw is not None}\0{len(raw or b'')}\0".encode())
        total.update(raw or b"")
    return total.hexdigest()


def load(folder: Path, reread: Reread) -> tuple[Charter, Register] | None:
    """Return the charter and register of a folder as they are kept; ``None`` where they are not, or not any more.

    ``reread`` reads the folder itself, should a piece go missing later.
    """
    try:
        note = json.loads(_note_of(folder).read_bytes())
        files = {name: folder / name for name in note["files"]}
        now = {name: file.read_bytes() if file.exists() else None for name, file in files.items()}
        entry = cache_folder() / digest(now)
        if entry.name != note["entry"] or not _is_ours(entry):
            return None
        charter, size, pieces, source = _unpickle(entry / "charter")
        if not isinstance(charter, Charter):
            return None
        return charter, KeptRegister(entry, size, pieces, source, reread)
    except _BROKEN:
        return None


def _unpickle(file: Path) -> Any:
    raw = file.read_bytes()
    # thousands of small objects at once: collecting garbage in between finds none and takes most of the time
    was_on = gc.isenabled()
    gc.disable()
    try:
        return pickle.loads(raw)  # noqa: S301 (only from a folder that nobody else can write to)
    finally:
        if was_on:
            gc.enable()


def keep(folder: Path, contents: Mapping[str, bytes | None], charter: Charter, register: Register) -> None:
    """Keep what was made of these contents for the next run; where that cannot be done, nothing is.

    The contents are those that were read, not those of now: somebody may have saved a file meanwhile.
    """
    try:
        base = cache_folder()
        base.mkdir(parents=True, exist_ok=True, mode=0o700)
        entry = base / digest(contents)
        if not entry.exists():
            _write_entry(base, entry, charter, register)
        note = _note_of(folder)
        before = json.loads(note.read_bytes())["entry"] if note.exists() else None
        part = note.with_suffix(f".{os.getpid()}")
        part.write_text(json.dumps({"files": sorted(contents), "entry": entry.name}), "utf-8")
        part.replace(note)
        if before and before != entry.name:
            shutil.rmtree(base / before, ignore_errors=True)
    except _BROKEN:
        return


def _write_entry(base: Path, entry: Path, charter: Charter, register: Register) -> None:
    size = len(register.members)
    count = max(1, size // _PER_PIECE)
    pieces: list[Piece] = [({}, {}) for _ in range(count)]
    for key, member in register.members.items():
        members, given = pieces[_piece_of(key, count)]
        members[key] = member
        if register.of(key):
            given[key] = register.of(key)
    part = Path(tempfile.mkdtemp(dir=base))
    _dump(part / "charter", (charter, size, count, register.source))
    _dump(part / "order", list(register.members))
    for n, piece in enumerate(pieces):
        _dump(part / f"piece-{n}", piece)
    try:
        part.rename(entry)
    except OSError:
        shutil.rmtree(part, ignore_errors=True)


def _dump(file: Path, data: Any) -> None:
    file.write_bytes(pickle.dumps(data, protocol=5))


def _piece_of(key: str, count: int) -> int:
    return crc32(key.encode()) % count


class _Pieces:
    """Loads the pieces of a register as they are needed; where one is gone, reads the folder instead."""

    def __init__(self, entry: Path, count: int, reread: Reread) -> None:
        self.entry, self.count, self.reread = entry, count, reread
        self.known: dict[int, Piece] = {}
        self.whole: Register | None = None

    def of(self, key: str) -> Piece:
        return self.piece(_piece_of(key, self.count))

    def piece(self, n: int) -> Piece:
        known = self.known.get(n)
        if known is None:
            try:
                known = _unpickle(self.entry / f"piece-{n}")
            except _BROKEN:
                known = self._from_files(n)
            self.known[n] = known
        return known

    def _from_files(self, n: int) -> Piece:
        register = self.all()
        members = {key: each for key, each in register.members.items() if _piece_of(key, self.count) == n}
        return members, {key: register.of(key) for key in members}

    def all(self) -> Register:
        if self.whole is None:
            self.whole = self.reread()[1]
        return self.whole

    def order(self) -> list[str]:
        try:
            order: list[str] = _unpickle(self.entry / "order")
        except _BROKEN:
            order = list(self.all().members)
        return order


class _Members(Mapping[str, Member]):
    def __init__(self, pieces: _Pieces, size: int) -> None:
        self._pieces, self._size = pieces, size

    def __getitem__(self, key: str) -> Member:
        return self._pieces.of(key)[0][key]

    def __contains__(self, key: object) -> bool:
        return isinstance(key, str) and key in self._pieces.of(key)[0]

    def __iter__(self) -> Iterator[str]:
        return iter(self._pieces.order())

    def __len__(self) -> int:
        return self._size


class KeptRegister(Register):
    """A register whose members are loaded as they are asked about."""

    def __init__(self, entry: Path, size: int, pieces: int, source: str, reread: Reread) -> None:
        self._pieces = _Pieces(entry, pieces, reread)
        super().__init__(_Members(self._pieces, size), (), source)

    def of(self, member: str) -> list[Assignment]:
        """Return a member's assignments, in the order of the file."""
        return self._pieces.of(member)[1].get(member, [])

    def _with(self, member: str, given: list[Assignment]) -> Register:
        """Read all there is: what differs from something kept is not kept itself."""
        return self._pieces.all()._with(member, given)

    def _given(self) -> dict[str, list[Assignment]]:
        return {key: self.of(key) for key in self.members if self.of(key)}
