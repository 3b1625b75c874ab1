"""The steps of an edit taken on plain data, as plainly as they are told: what the text of a file has to come to."""

from __future__ import annotations

from copy import deepcopy
from typing import Any

from ask_above.change.steps import Drop, Insert, MoveItem, Path, Put, Rename, Step, at


def take(data: Any, step: Step) -> Any:
    """Return the plain data after a step; what was given stays as it is."""
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
