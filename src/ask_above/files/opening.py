"""Open a community's folder: read it, or take what an earlier run kept of it."""

from __future__ import annotations

from pathlib import Path

from ask_above.charter.charter import Charter
from ask_above.errors import MissingFileError
from ask_above.people.register import Register

CHARTER = "charter.yaml"
REGISTER = "register.db"


def open_folder(path: str | Path, *, keep: bool = False) -> tuple[Charter, Register]:
    """Open a community's folder, or the folder of the charter that ``path`` names.

    ``keep`` takes what an earlier run kept, and keeps what this one reads, where the files are large. Raises
    :class:`MissingFileError` where there is no charter, :class:`FaultyFilesError` where anything is wrong.
    """
    folder, name = located(path)

    contents: dict[str, bytes | None] = {}

    def read() -> tuple[Charter, Register]:
        from ask_above.files.folder import read_folder

        return read_folder(folder, name, contents)

    if not keep or name != CHARTER:
        return read()
    large = _is_large(folder)
    if large:
        from ask_above.files import kept

        known = kept.load(folder, read)
        if known is not None:
            return known
    charter, register = read()
    if large:
        kept.keep(folder, contents, charter, register)
    return charter, register


def located(path: str | Path) -> tuple[Path, str]:
    """Return the folder and the charter's name in it; raises :class:`MissingFileError` where there is no charter."""
    path = Path(path)
    folder, name = path, CHARTER
    if not folder.is_dir() and (folder.is_file() or folder.suffix in (".yaml", ".yml")):
        folder, name = folder.parent, folder.name
    if not (folder / name).exists():
        where = f"the folder '{folder}'" if folder.is_dir() else f"'{folder}', which is no folder"
        raise MissingFileError(
            f"There is no {name} in {where}. Name the community's folder, or write the demo with: ask-above demo DIR"
        )
    return folder, name


def _is_large(folder: Path) -> bool:
    """Tell whether the files are so large that keeping what they say pays."""
    sizes = (file.stat().st_size for file in folder.iterdir() if file.suffix in (".yaml", ".csv"))
    return sum(sizes) >= 200_000  # noqa: PLR2004 (below that reading is quick)


def has_database(folder: Path, register: str | None) -> bool:
    """Tell whether a register in a database is named, or stands in the folder."""
    return bool(register) or (folder / REGISTER).exists()
