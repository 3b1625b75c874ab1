"""Start anew from the files, where a database is gone, damaged or another's: it is put aside, never overwritten."""

from __future__ import annotations

from ask_above.errors import AskAboveError
from ask_above.files.folder import read_folder
from ask_above.files.writing import MARK, MEMBERS, REGISTER, set_aside
from ask_above.workspace.home import Home


class NothingToBeginWithError(AskAboveError, ValueError):
    """There are no files to start anew from."""


def ready_for_anew(home: Home) -> int:
    """Return how many members the files hold; raises where they cannot be meant, or are not there."""
    if not (home.folder / MEMBERS).exists():
        raise NothingToBeginWithError(
            f"There is no {MEMBERS} in {home.folder.name} to start anew from. Put one there, such as ask-above export "
            "writes, or a copy of before."
        )
    return len(read_folder(home.folder, home.name).register.members)


def start_anew(home: Home) -> list[str]:
    """Put the folder's database and its mark aside; returns what was done, in sentences."""
    ready_for_anew(home)
    done = []
    with home.locked():
        taken = frozenset(path.name for path in home.folder.iterdir())
        file = home.folder / REGISTER
        if file.exists() and not home.register:
            aside = set_aside(REGISTER, taken)
            for ending in ("-wal", "-shm", ""):
                part = file.with_name(f"{REGISTER}{ending}")
                if part.exists():
                    part.rename(file.with_name(f"{aside}{ending}"))
            done.append(f"{REGISTER} is {aside} now.")
        (home.folder / MARK).unlink(missing_ok=True)
    done.append(f"The next change makes a new {REGISTER}.")
    return done
