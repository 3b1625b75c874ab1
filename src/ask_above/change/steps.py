"""Small steps on the plain data of a charter, by which every edit is told; a file takes the same steps on its text."""

from __future__ import annotations

from typing import Any, NamedTuple, TypeAlias

Path: TypeAlias = tuple[str | int, ...]
Step: TypeAlias = "Put | Drop | Insert | MoveItem | Rename"


class Put(NamedTuple):
    """Let a mapping's key, or an item of a list, have a value; mappings on the way that are not there are made."""

    path: Path
    value: Any


class Drop(NamedTuple):
    """Take out a mapping's key or a list's item; a mapping or list that it leaves empty goes with it."""

    path: Path


class Insert(NamedTuple):
    """Put an item into a list before the one at ``position``; a list that is not there is made."""

    path: Path
    position: int
    value: Any


class MoveItem(NamedTuple):
    """Move an item from one list to another, or within one, as it is written.

    ``position`` counts where it will stand once it is taken out. ``to`` is the path of the list before the move.
    """

    path: Path
    to: Path
    position: int


class Rename(NamedTuple):
    """Call a mapping's key by another name."""

    path: Path
    name: str


def at(data: Any, path: Path) -> Any:
    """Return what stands at a path."""
    for each in path:
        data = data[each]
    return data


def there(data: Any, path: Path) -> bool:
    """Whether anything stands at a path."""
    try:
        return at(data, path) is not None
    except (KeyError, IndexError, TypeError):
        return False
