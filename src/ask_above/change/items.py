"""What is the same for ranks, places and groups: a field is set, a key is free, an item gets another title or key."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, Protocol

from ask_above.change.draft import Done, Draft, EditError, RowChange
from ask_above.change.steps import Drop, Path, Put, Step, there
from ask_above.charter.names import few, listed, nearest_field

KeyStep = Callable[[Draft, str, str], Iterable[Step]]
KeyRow = Callable[[Draft, str, str], Iterable[RowChange]]


class Renaming(Protocol):
    """An edit that gives an item another title, or another key with every reference to it."""

    @property
    def key(self) -> str: ...
    @property
    def title(self) -> str | None: ...
    @property
    def new_key(self) -> str | None: ...


def no_field(noun: str, name: str, known: Sequence[str]) -> EditError:
    """Return the error for a field that cannot be set, with the one that is meant."""
    near = nearest_field(name, known)
    hint = f"Nearest: {few(near, len(near), 'or')}." if near else f"The fields are {listed(known)}."
    return EditError(f"{noun.capitalize()} has no field '{name}' that can be set. {hint}")


def is_free(draft: Draft, key: str, kind: str) -> None:
    """Raise :class:`EditError` where a key is taken: ranks and groups share theirs, places have own (rule 1.3)."""
    charter = draft.charter
    if key in charter.places if kind == "place" else key in charter.ranks or key in charter.groups:
        raise EditError(f"There is a {'place' if kind == 'place' else 'rank or group'} '{key}' already.")


def setting(draft: Draft, path: Path, fields: Mapping[str, Any], called: str) -> Done:
    """Set fields of an item where they differ; ``None`` takes a field out."""
    steps: list[Step] = []
    for name, value in fields.items():
        # a perk is set by itself: perks.NAME
        spot = (*path, "perks", name.removeprefix("perks.")) if name.startswith("perks.") else (*path, name)
        if value is None and there(draft.data, spot):
            alone = len(spot) > len(path) + 1 and len(draft.said(spot[:-1])) == 1
            steps.append(Drop(spot[:-1] if alone else spot))
        elif value is not None and draft.said(spot) != value:
            steps.append(Put(spot, value))
    return Done(f"set {listed(fields)} of {called}", tuple(steps))


def renaming(draft: Draft, edit: Renaming, path: Path, called: str, kind: str, anew: KeyStep, rows: KeyRow) -> Done:
    """Give an item another title or key; ``anew`` and ``rows`` name it by its new key where it is referred to."""
    new = edit.new_key
    steps: list[Step] = [] if edit.title is None else [Put((*path, "title"), edit.title)]
    changed: list[RowChange] = []
    if new is not None and new != edit.key:
        is_free(draft, new, kind)
        steps += [*anew(draft, edit.key, new), Put((*path, "key"), new)]
        changed = list(rows(draft, edit.key, new))
    words = [f"rename {called} to {edit.title}" if edit.title else "", f"give {called} the key {new}" if new else ""]
    return Done("; ".join(filter(None, words)), tuple(steps), tuple(changed))
