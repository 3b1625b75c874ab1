"""What is the same for ranks, places and groups: a field is set, a key is free, an item gets another title or key."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from ask_above.change.draft import Done, Draft, EditError, RowChange, ended
from ask_above.change.steps import Drop, Path, Put, Step, there
from ask_above.charter.names import few, listed, nearest_field

Fields = Mapping[str, Any]


class Item(NamedTuple):
    """What is to be known of one kind of thing that has a key: ranks, places, groups.

    ``path`` and ``called`` say where one stands and what a sentence calls it; ``check`` raises for fields that cannot
    be set. ``anew`` and ``rows`` name it by a new key wherever it is referred to.
    """

    kind: str
    path: Callable[[Draft, str], Path]
    called: Callable[[Draft, str], str]
    check: Callable[[Draft, str, Fields], None]
    anew: Callable[[Draft, str, str], Iterable[Step]]
    rows: Callable[[Draft, str, str], Iterable[RowChange]]


class ItemSet(NamedTuple):
    """Set fields of an item where they differ; ``None`` takes a field out."""

    key: str
    fields: Fields

    def on(self, draft: Draft) -> Done:
        item = ITEMS[type(self)]
        path = item.path(draft, self.key)
        item.check(draft, self.key, self.fields)
        steps: list[Step] = []
        for name, value in self.fields.items():
            # a perk is set by itself: perks.NAME
            spot = (*path, "perks", name.removeprefix("perks.")) if name.startswith("perks.") else (*path, name)
            if value is None and there(draft.data, spot):
                alone = len(spot) > len(path) + 1 and len(draft.said(spot[:-1])) == 1
                steps.append(Drop(spot[:-1] if alone else spot))
            elif value is not None and draft.said(spot) != value:
                steps.append(Put(spot, value))
        the = "the group " if item.kind == "group" else ""
        return Done(f"set {listed(self.fields)} of {the}{item.called(draft, self.key)}", tuple(steps))


class ItemRename(NamedTuple):
    """Give an item another title, or another key with every reference to it."""

    key: str
    title: str | None = None
    new_key: str | None = None

    def on(self, draft: Draft) -> Done:
        item, new = ITEMS[type(self)], self.new_key
        path, called = item.path(draft, self.key), item.called(draft, self.key)
        steps: list[Step] = [] if self.title is None else [Put((*path, "title"), self.title)]
        rows: tuple[RowChange, ...] = ()
        if new is not None and new != self.key:
            is_free(draft, new, item.kind)
            steps += [*item.anew(draft, self.key, new), Put((*path, "key"), new)]
            rows = tuple(item.rows(draft, self.key, new))
        words = [f"rename {called} to {self.title}"] if self.title else []
        words += [f"give {called} the key {new}"] if new else []
        return Done("; ".join(words), tuple(steps), rows)


ITEMS: dict[type, Item] = {}
"""What the edits that set and rename are about; each room of edits adds its own."""


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


def given_anew(field: str) -> Callable[[Draft, str, str], Iterator[RowChange]]:
    """Return what names a rank or a place, whichever ``field`` it is of assignments, by its new key in them."""
    return lambda draft, key, new: (ended(each, {field: new}) for each in draft.register.naming(field, {key}))
