"""Small steps on the plain data of a charter, by which every edit is told; a file takes the same steps on its text."""

from __future__ import annotations

from copy import deepcopy
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


def take(data: Any, step: Step) -> Any:
    """Return the plain data after a step; what was given stays as it is.

    >>> take({"a": {"b": ["x"]}}, Drop(("a", "b", 0)))
    {}
    """
    data = deepcopy(data)
    match step:
        case Put(path, value):
            _reach(data, path[:-1], {})[path[-1]] = deepcopy(value)
        case Drop(path):
            _drop(data, path)
        case Insert(path, position, value):
            items = _reach(data, path, [])
            items.insert(position, deepcopy(value))
        case MoveItem(path, to, position):
            item = at(data, path)
            source, target = at(data, path[:-1]), _reach(data, to, [])
            source.pop(path[-1])
            # before the item is put in, which may move all that the path counts on
            if source is not target:
                _tidy(data, path[:-1])
            target.insert(position, item)
        case Rename(path, name):
            mapping = at(data, path[:-1])
            changed = {name if key == path[-1] else key: value for key, value in mapping.items()}
            mapping.clear()
            mapping.update(changed)
    return data


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


def _reach(data: Any, path: Path, empty: Any) -> Any:
    """Return the mapping or list at a path, made where it is not there."""
    for n, word in enumerate(path):
        missing = isinstance(data, dict) and data.get(word) is None
        if missing:
            data[word] = deepcopy(empty) if n == len(path) - 1 else {}
        data = data[word]
    return data


def _drop(data: Any, path: Path) -> None:
    at(data, path[:-1]).pop(path[-1])
    _tidy(data, path[:-1])


def _tidy(data: Any, path: Path) -> None:
    """Take out what was left empty, and so on upwards; the whole itself stays."""
    while path and not at(data, path):
        at(data, path[:-1]).pop(path[-1])
        path = path[:-1]
