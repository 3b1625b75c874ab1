"""The names of a community's files, in one place; and which names may stand in a database as a file of the folder."""

from __future__ import annotations

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
