"""What is made once of something that never changes, and kept beside it by those who need it: rooms above as well.

A thing that is kept knows what becomes of it when its host is followed by another one, so that nothing is kept by a key
that does not say all that it was made from.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol, Self, TypeVar, cast

HostT_contra = TypeVar("HostT_contra", contravariant=True)
KeptT = TypeVar("KeptT")


class Kept(Protocol[HostT_contra]):
    """What a host keeps."""

    def after(self, host: HostT_contra, /) -> Self | None:
        """Return what is kept beside the host that follows; ``None`` where it has to be made anew."""


class Keeper:
    """Something that never changes, and keeps what was made of it."""

    def __init__(self) -> None:
        self._kept: dict[object, Kept[Keeper]] = {}

    def keep(self, kind: Callable[[Self], KeptT]) -> KeptT:
        """Return what a class makes of this; made when it is first asked for."""
        known = self._kept.get(kind)
        if known is None:
            known = self._kept[kind] = cast("Kept[Keeper]", kind(self))
        return cast("KeptT", known)

    def _hand_on(self, other: Keeper) -> None:
        """Let the one that follows keep what is still true of it."""
        handed = {kind: each.after(other) for kind, each in list(self._kept.items())}
        other._kept = {kind: each for kind, each in handed.items() if each is not None}
