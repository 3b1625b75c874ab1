"""Edits by the names that people use: each thing an edit is about may be given by key, title or full name.

What nothing is called stays as it is written; the edit itself says what is wrong with it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Final, cast

from ask_above.change import forgetting, groups, people, places, ranks
from ask_above.change.draft import Edit
from ask_above.people.directory import Directory, NameKind

_Meant = Callable[[Directory, Any], Any]


def _one(*kinds: NameKind) -> _Meant:
    def meant(directory: Directory, name: Any) -> Any:
        if not isinstance(name, str) or not name:
            return name
        known = directory.find(name, *kinds)
        return name if known is None else known.key

    return meant


_MEMBER, _RANK, _PLACE, _GROUP, _SET = (
    _one(kind) for kind in (NameKind.MEMBER, NameKind.RANK, NameKind.PLACE, NameKind.GROUP, NameKind.SET)
)
_HOLDER = _one(NameKind.RANK, NameKind.GROUP)


def _all(meant: _Meant) -> _Meant:
    def found(directory: Directory, names: Any) -> Any:
        if isinstance(names, str | bytes) or not isinstance(names, Sequence):
            return names  # the edit says what is wrong with it
        return [meant(directory, name) for name in names]

    return found


def _above(directory: Directory, name: Any) -> Any:
    """Return a rank, a rank with ``+``, or a group."""
    if isinstance(name, str) and name.endswith("+"):
        return f"{_RANK(directory, name[:-1].strip())}+"
    return _HOLDER(directory, name)


def _groups(directory: Directory, fields: Any) -> Any:
    """Return fields of a member, with their groups by key."""
    if not isinstance(fields, Mapping) or not isinstance(fields.get("groups"), str):
        return fields
    found = ";".join(_GROUP(directory, word.strip()) for word in fields["groups"].split(";"))
    return {**fields, "groups": found}


def _within(names: Sequence[str], meant: _Meant, beside: Mapping[str, _Meant] | None = None) -> _Meant:
    """Return what finds the names in some fields of a mapping, ``beside`` them those of others; what is none stays."""
    find = {**dict.fromkeys(names, meant), **(beside or {})}

    def found(directory: Directory, said: Any) -> Any:
        if not isinstance(said, Mapping):
            return said
        return {name: find[name](directory, each) if name in find and each else each for name, each in said.items()}

    return found


_LISTS: Final = _within(("only", "except"), _all(_RANK))
_RANK_FIELDS: Final = _within(
    ("builds-on", "after", "apart-from"), _all(_RANK), dict.fromkeys(("moderates", "assigns", "manages"), _LISTS)
)
_GROUP_FIELDS: Final = _within(("includes",), _all(_GROUP), {"confers": _all(_RANK)})
_GATE: Final = _within(("any", "all", "none"), _all(_above))
_AT_A_PLACE: Final = {"member": _MEMBER, "rank": _RANK, "place": _PLACE}
_FIELDS: Final[Mapping[type, Mapping[str, _Meant]]] = {
    people.Assign: _AT_A_PLACE,
    people.Unassign: _AT_A_PLACE,
    people.HandOver: {"member": _MEMBER},
    people.MemberAdd: {"fields": _groups},
    forgetting.MemberForget: {"key": _MEMBER},
    people.MemberSet: {"key": _MEMBER, "fields": _groups},
    people.MemberStatus: {"key": _MEMBER, "written": _MEMBER},
    places.PlaceAdd: {"into": _PLACE},
    places.PlaceMove: {"key": _PLACE, "into": _PLACE},
    places.PlaceCopy: {"key": _PLACE, "into": _PLACE},
    places.PlaceRemove: {"key": _PLACE},
    places.PlaceSet: {"key": _PLACE},
    places.Realign: {"place": _PLACE},
    places.Say: {"place": _PLACE},
    places.SetGate: {"place": _PLACE, "gate": _GATE},
    places.SetLike: {"place": _PLACE, "sets": _all(_SET)},
    places.PlaceRename: {"key": _PLACE},
    groups.GroupAdd: {"fields": _GROUP_FIELDS},
    groups.GroupSet: {"key": _GROUP, "fields": _GROUP_FIELDS},
    groups.GroupRename: {"key": _GROUP},
    groups.GroupRemove: {"key": _GROUP},
    groups.MemberGroups: {"key": _MEMBER, "put": _all(_GROUP), "take": _all(_GROUP)},
    ranks.Grant: {"rank": _RANK},
    ranks.Withhold: {"rank": _RANK},
    ranks.RankAdd: {"fields": _RANK_FIELDS, "above": _RANK, "below": _RANK, "copy_of": _RANK},
    ranks.RankMove: {"key": _RANK, "above": _RANK, "below": _RANK},
    ranks.RankRemove: {"key": _RANK, "instead": _RANK},
    ranks.RankRename: {"key": _RANK},
    ranks.RankSet: {"key": _RANK, "fields": _RANK_FIELDS},
}


def meant(edit: Edit, directory: Directory) -> Edit:
    """Return an edit with the keys of what its names mean.

    Raises :class:`ask_above.AmbiguousNameError` where a name is that of several.
    """
    fields: dict[str, Any] = {}
    for field, find in _FIELDS.get(type(edit), {}).items():
        fields[field] = find(directory, getattr(edit, field))
    if isinstance(edit, places.Say):
        fields["of"] = (_MEMBER if edit.member else _above)(directory, edit.of)
    changed = {field: value for field, value in fields.items() if value != getattr(edit, field)}
    return cast("Edit", cast("Any", edit)._replace(**changed)) if changed else edit
