"""Edits of charter and register, as plans: checked against the rules, told by what they do.

The edits are imported from here: ``from ask_above.change import Grant, Assign``.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from ask_above.lazily import lazily

if TYPE_CHECKING:
    from ask_above.change.draft import Draft, Edit, EditError, RowChange
    from ask_above.change.forgetting import MemberForget
    from ask_above.change.groups import GroupAdd, GroupRemove, GroupRename, GroupSet, MemberGroups
    from ask_above.change.people import Assign, HandOver, MemberAdd, MemberSet, MemberStatus, Unassign
    from ask_above.change.places import (
        PlaceAdd,
        PlaceCopy,
        PlaceMove,
        PlaceRemove,
        PlaceRename,
        PlaceSet,
        Realign,
        Say,
        SetGate,
        SetLike,
    )
    from ask_above.change.ranks import Grant, RankAdd, RankMove, RankRemove, RankRename, RankSet, Withdraw, Withhold
    from ask_above.change.whole import CharterAdd, CharterRemove, CharterSet

__all__ = [
    "Assign", "CharterAdd", "CharterRemove", "CharterSet", "Draft", "Edit", "EditError", "Grant", "GroupAdd",
    "GroupRemove", "GroupRename", "GroupSet", "HandOver", "MemberAdd", "MemberForget", "MemberGroups", "MemberSet",
    "MemberStatus", "PlaceAdd", "PlaceCopy", "PlaceMove", "PlaceRemove", "PlaceRename", "PlaceSet", "RankAdd",
    "RankMove", "RankRemove", "RankRename", "RankSet", "Realign", "RowChange", "Say", "SetGate", "SetLike",
    "Unassign", "Withdraw", "Withhold",
]  # fmt: skip

_NAMES = {
    "people": ("Assign", "HandOver", "MemberAdd", "MemberSet", "MemberStatus", "Unassign"),
    "whole": ("CharterAdd", "CharterRemove", "CharterSet"),
    "draft": ("Draft", "Edit", "EditError", "RowChange"),
    "ranks": ("Grant", "RankAdd", "RankMove", "RankRemove", "RankRename", "RankSet", "Withdraw", "Withhold"),
    "forgetting": ("MemberForget",),
    "places": (
        "PlaceAdd",
        "PlaceCopy",
        "PlaceMove",
        "PlaceRemove",
        "PlaceSet",
        "Realign",
        "Say",
        "SetGate",
        "SetLike",
        "PlaceRename",
    ),
    "groups": ("GroupAdd", "GroupRemove", "GroupRename", "GroupSet", "MemberGroups"),
}

if not TYPE_CHECKING:
    __getattr__ = lazily(__name__, _NAMES)


def __dir__() -> list[str]:
    """Name what is public."""
    return [*__all__]
