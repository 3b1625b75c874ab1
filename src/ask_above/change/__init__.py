"""Edits of charter and register, as plans: checked against the rules, told by what they do.

The edits are imported from here: ``from ask_above.change import Grant, Assign``.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ask_above.change.draft import Draft, Edit, EditError, RowChange
    from ask_above.change.forgetting import MemberForget
    from ask_above.change.people import Assign, HandOver, MemberAdd, MemberSet, MemberStatus, Unassign
    from ask_above.change.places import PlaceAdd, PlaceMove, PlaceRemove, PlaceSet, Realign, Say, SetGate, SetLike
    from ask_above.change.ranks import Grant, RankAdd, RankMove, RankRemove, RankRename, RankSet, Withdraw, Withhold
    from ask_above.change.whole import CharterAdd, CharterRemove, CharterSet

__all__ = [
    "Assign",
    "CharterAdd",
    "CharterRemove",
    "CharterSet",
    "Draft",
    "Edit",
    "EditError",
    "Grant",
    "HandOver",
    "MemberAdd",
    "MemberForget",
    "MemberSet",
    "MemberStatus",
    "PlaceAdd",
    "PlaceMove",
    "PlaceRemove",
    "PlaceSet",
    "RankAdd",
    "RankMove",
    "RankRemove",
    "RankRename",
    "RankSet",
    "Realign",
    "RowChange",
    "Say",
    "SetGate",
    "SetLike",
    "Unassign",
    "Withdraw",
    "Withhold",
]

_WHERE = {
    "Assign": "people",
    "CharterAdd": "whole",
    "CharterRemove": "whole",
    "CharterSet": "whole",
    "Draft": "draft",
    "Edit": "draft",
    "EditError": "draft",
    "Grant": "ranks",
    "HandOver": "people",
    "MemberAdd": "people",
    "MemberForget": "forgetting",
    "MemberSet": "people",
    "MemberStatus": "people",
    "PlaceAdd": "places",
    "PlaceMove": "places",
    "PlaceRemove": "places",
    "PlaceSet": "places",
    "RankAdd": "ranks",
    "RankMove": "ranks",
    "RankRemove": "ranks",
    "RankRename": "ranks",
    "RankSet": "ranks",
    "Realign": "places",
    "RowChange": "draft",
    "Say": "places",
    "SetGate": "places",
    "SetLike": "places",
    "Unassign": "people",
    "Withdraw": "ranks",
    "Withhold": "ranks",
}

if not TYPE_CHECKING:

    def __getattr__(name: str) -> Any:
        """Import an edit when it is first used: a question needs none of them."""
        if name not in _WHERE:
            raise AttributeError(f"module 'ask_above.change' has no attribute '{name}'")
        value = getattr(import_module(f"ask_above.change.{_WHERE[name]}"), name)
        globals()[name] = value
        return value
