"""Edits of groups: make them, say what they confer, give them another key, and put members in and take them out."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from ask_above.change.draft import Done, Draft, EditError, RowChange, changed_member
from ask_above.change.items import ITEMS, Item, ItemRename, ItemSet, is_free
from ask_above.change.references import references, reworded_lists
from ask_above.change.steps import Drop, Insert, Path, Rename, Step
from ask_above.charter.names import how_many, listed, nearest
from ask_above.charter.places import Group
from ask_above.errors import UnknownNameError


class GroupAdd(NamedTuple):
    """Make a group; fields as in the charter: title, about, includes, confers."""

    key: str
    fields: Mapping[str, Any] = {}

    def on(self, draft: Draft) -> Done:
        is_free(draft, self.key, "group")
        group = {"key": self.key, **self.fields}
        size = len(draft.said(("groups",)) or [])
        return Done(f"add the group {group.get('title', self.key)}", (Insert(("groups",), size, group),))


class GroupSet(ItemSet):
    """Change what is written of a group; ``None`` takes a field out."""

    __slots__ = ()


class GroupRename(ItemRename):
    """Give a group another title, or another key with every reference to it."""

    __slots__ = ()


class GroupRemove(NamedTuple):
    """Remove a group; its members leave it."""

    key: str

    def on(self, draft: Draft) -> Done:
        path, called = _path(draft, self.key), _called(draft, self.key)
        named = [where for where, _ in _references(draft, self.key)]
        if named:
            where = _spell(draft.data, named[0])
            raise EditError(f"The charter still names {called}, in {where}. Change that first.")
        rows = tuple(_rows(draft, self.key, None))
        many = f", with {how_many(len(rows), 'member')} in it" if rows else ""
        return Done(f"remove the group {called}{many}", (Drop(path),), rows)


class MemberGroups(NamedTuple):
    """Put a member into groups, and take them out of others; the groups they are in besides stay."""

    key: str
    put: Sequence[str] = ()
    take: Sequence[str] = ()

    def on(self, draft: Draft) -> Done:
        member = draft.member(self.key)
        titles = {key: _called(draft, key) for key in (*self.put, *self.take)}
        kept = [key for key in member.groups if key not in self.take]
        groups = [*kept, *(key for key in self.put if key not in kept)]
        said = [f"put {member.called} into {listed(titles[key] for key in self.put)}" if self.put else ""]
        said += [f"take {member.called} out of {listed(titles[key] for key in self.take)}" if self.take else ""]
        what = " and ".join(filter(None, said))
        if groups == list(member.groups):
            return Done(what)
        return Done(what, (), (changed_member(member, {"groups": ";".join(groups)}),))


def _group(draft: Draft, key: str) -> Group:
    known = draft.charter.groups.get(key)
    if known is None:
        hint = f"'{key}' is a rank." if key in draft.charter.ranks else ""
        raise UnknownNameError("group", key, nearest(key, draft.charter.groups), hint)
    return known


def _called(draft: Draft, key: str) -> str:
    return _group(draft, key).called


def _settable(draft: Draft, key: str, fields: Mapping[str, Any]) -> None:
    if not fields or "key" in fields:
        raise EditError(f"Say what changes of {_called(draft, key)}; another key is given by renaming it.")


def _path(draft: Draft, key: str) -> Path:
    _group(draft, key)
    return "groups", next(n for n, each in enumerate(draft.data["groups"]) if each["key"] == key)


def _references(draft: Draft, key: str) -> Iterator[tuple[Path, str]]:
    """Yield where a group is named, and how: a word in a list, or a mapping's key."""
    yield from references(draft.data, key)
    for n, group in enumerate(draft.data.get("groups") or []):
        for k, word in enumerate(group.get("includes") or []):
            if word == key:
                yield ("groups", n, "includes", k), "word"


def _renamed(draft: Draft, key: str, new: str) -> list[Step]:
    """Return the steps that let every reference name a group by its new key."""
    found = list(_references(draft, key))
    steps: list[Step] = [Rename(path, new) for path, how in found if how == "key"]
    return steps + reworded_lists(draft, [path for path, how in found if how == "word"], key, new)


def _rows(draft: Draft, key: str, new: str | None) -> Iterator[RowChange]:
    """Yield the members of a group, in it by its new key or no more."""
    for member in draft.register.members.values():
        if key in member.groups:
            groups = (new if group == key else group for group in member.groups)
            yield changed_member(member, {"groups": ";".join(filter(None, groups))})


def _spell(data: Any, path: Path) -> str:
    """Return a path with the keys of what it leads through."""
    spelled, here = list[str](), data
    for each in path:
        here = here[each]
        key = here.get("key") if isinstance(here, dict) and isinstance(each, int) else None
        spelled.append(key or (str(each + 1) if isinstance(each, int) else each))
    return ".".join(spelled)


ITEMS[GroupSet] = ITEMS[GroupRename] = Item("group", _path, _called, _settable, _renamed, _rows)
