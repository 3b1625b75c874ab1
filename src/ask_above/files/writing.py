"""Write a file whole or not at all."""

from __future__ import annotations

import os
import shutil
import tempfile
from contextlib import suppress
from pathlib import Path


def write_whole(file: Path, text: str) -> None:
    """Put a text in the place of a file's, as :func:`write_bytes` does."""
    write_bytes(file, text.encode("utf-8"))


def write_bytes(file: Path, content: bytes) -> None:
    """Put something in the place of what a file holds; after a crash it holds the one or the other, never a part.

    Raises ``OSError``, and then the file holds what it held.
    """
    handle, name = tempfile.mkstemp(dir=file.parent, prefix=f".{file.name}.")
    spare = Path(name)
    try:
        with os.fdopen(handle, "wb") as out:
            out.write(content)
            out.flush()
            os.fsync(out.fileno())
        if file.exists():
            shutil.copymode(file, spare)
        else:
            spare.chmod(0o644)
        spare.replace(file)
    except BaseException:
        spare.unlink(missing_ok=True)
        raise
    _keep_folder(file.parent)


def _keep_folder(folder: Path) -> None:
    """Let the folder's own entry be written, where the system can be asked for that."""
    with suppress(OSError, AttributeError):
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def read_text(file: Path) -> str | None:
    """Return a file's text as it stands, byte-order mark and line breaks included; ``None`` where there is none."""
    return file.read_bytes().decode("utf-8") if file.exists() else None
