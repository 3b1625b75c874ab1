"""Edits of whatever else a charter holds, by the path to it: rules, catalogue, bundles, sets, perks, expectations."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

from ask_above.change.draft import Done, Draft, EditError
from ask_above.change.references import every_place
from ask_above.change.steps import Drop, Insert, Path, Put, Step, at
from ask_above.charter.names import nearest


class CharterSet(NamedTuple):
    """Let what stands at a path have a value; what is missing on the way is made."""

    path: str
    value: Any

    def on(self, draft: Draft) -> Done:
        if self.value is None:
            raise EditError(f"No value is given for {self.path}; to take out what stands there, remove it.")
        path, rest = found(draft.data, self.path)
        here = at(draft.data, path)
        if (
            path[:1] == ("capabilities",) and isinstance(here, str) and len(rest) == 1
        ):  # its short form becomes a whole one
            return Done(f"set {self.path}", (Put(path, {"about": here, rest[0]: self.value}),))
        _spot(draft.data, self.path, path, rest)
        if rest and path and path[0] == "capabilities" and len(path) <= 2:  # noqa: PLR2004 (a capability has dots)
            whole = self.path.split(".", 2)
            path, rest = ("capabilities", whole[1]), whole[2:]
        return Done(f"set {self.path}", (Put((*path, *rest), self.value),))


class CharterAdd(NamedTuple):
    """Add to the list at a path, at its end; with ``named``, under that name to the named things there."""

    path: str
    value: Any
    named: str = ""

    def on(self, draft: Draft) -> Done:
        path, rest = found(draft.data, self.path)
        _spot(draft.data, self.path, path, rest)
        listed = at(draft.data, path) if not rest else []
        if self.named and (rest or isinstance(listed, dict)):
            return CharterSet(f"{self.path}.{self.named}", self.value).on(draft)
        if self.named and isinstance(listed, list):
            raise EditError(f"{self.path} is a list, whose items have no names; say the item without '{self.named}='.")
        if isinstance(listed, dict):
            raise EditError(
                f"{self.path} holds several named things; say which: ask-above charter set {self.path}.KEY VALUE"
            )
        if not isinstance(listed, list):
            raise EditError(f"{self.path} is no list; set a value with: ask-above charter set {self.path} VALUE")
        if self.value in listed:
            return Done(f"{self.path} has {self.value} already")
        return Done(f"add {self.value} to {self.path}", (Insert((*path, *rest), len(listed), self.value),))


class CharterRemove(NamedTuple):
    """Take out what stands at a path; with a value, that item of the list there."""

    path: str
    value: Any = None

    def on(self, draft: Draft) -> Done:
        path, rest = found(draft.data, self.path)
        if rest or not path:
            raise EditError(missing(draft.data, self.path))
        if self.value is None:
            return Done(f"remove {self.path}", (Drop(path),))
        said = at(draft.data, path)
        if not isinstance(said, list) or self.value not in said:
            raise EditError(f"{self.path} does not hold {self.value}.")
        steps: tuple[Step, ...] = (Drop((*path, said.index(self.value))),)
        return Done(f"remove {self.value} from {self.path}", steps)


def found(data: Any, said: str) -> tuple[Path, list[str]]:
    """Return how far a dotted path leads, and the words that are left.

    A key may have dots itself; an item of a list is named by its key, by its number from 1, or by what it says. A
    place is named by its key wherever it lies in the tree: ``places.river-talk``; so is a capability, whatever its
    heading.
    """
    words, path, here = said.split("."), list[str | int](), data
    if words[0] == "capabilities" and isinstance(data, dict) and words[1:2] and words[1] not in data["capabilities"]:
        for heading, entries in data["capabilities"].items():
            if _step(entries, words[1:]) is not None:
                words.insert(1, heading)
                break
    if words[0] == "places" and isinstance(data, dict):
        places = {place["key"]: (path, place) for path, place in every_place(data) if path != ("site",)}
        for size in range(len(words) - 1, 0, -1):
            deep = places.get(".".join(words[1 : size + 1]))
            if deep:
                path, here, words = list(deep[0]), deep[1], words[size + 1 :]
                break
    while words:
        step = _step(here, words)
        if step is None:
            break
        key, taken = step
        path.append(key)
        here, words = here[key], words[taken:]
    return tuple(path), words


def missing(data: Any, said: str) -> str:
    """Say that nothing stands at a path: from which word on, and the nearest known name."""
    path, rest = found(data, said)
    here = at(data, path)
    if isinstance(here, list):
        known = [str(item.get("key", "")) if isinstance(item, dict) else str(item) for item in here]
    else:
        known = [str(key) for key in here] if isinstance(here, dict) else []
    near = nearest(rest[0], known) if rest else ()
    hint = f" Nearest: {', '.join(near)}." if near else ""
    return f"There is no {said or 'such path'} in the charter.{hint}"


def _spot(data: Any, said: str, path: Path, rest: Sequence[str]) -> None:
    """Raise ``EditError`` where nothing can be put at a path: what is missing is made below a mapping only."""
    if rest and not (isinstance(at(data, path), dict) and all(rest)):
        raise EditError(missing(data, said))


def _step(here: Any, words: Sequence[str]) -> tuple[str | int, int] | None:
    """Return the key or number that the first words name, and how many words that takes."""
    for size in range(len(words), 0, -1):
        name = ".".join(words[:size])
        if isinstance(here, dict) and name in here:
            return name, size
        if isinstance(here, list):
            for n, item in enumerate(here):
                if item == name or (isinstance(item, dict) and item.get("key") == name):
                    return n, size
            if size == 1 and name.isdecimal() and 0 < int(name) <= len(here):
                return int(name) - 1, 1
    return None
