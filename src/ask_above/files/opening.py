"""Find a community's folder, and read it while its files hold all of it."""

from __future__ import annotations

from pathlib import Path

from ask_above.errors import MissingFileError
from ask_above.files.names import ASSIGNMENTS, CHARTER, LOCK, MARK, MEMBERS, REGISTER


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
