"""Members who are alike on both sides of a change, together: what is reckoned for one of them holds for all."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, TypeAlias

import numpy as np

from ask_above.decide.classes import MemberClass
from ask_above.decide.decider import Decider

if TYPE_CHECKING:
    from numpy.typing import NDArray

Form: TypeAlias = tuple[MemberClass | None, MemberClass | None]
"""What members come down to before and after; ``None`` where they are not there."""


class MemberNumbers:
    """The members in the register's order, and where in it those of each class stand; made once, kept beside a decider.

    ``everyone`` has their keys, ``of`` the numbers of each class.
    """

    def __init__(self, decider: Decider) -> None:
        self._register, self._exceptional = decider.people.register, decider.compiled.exceptional
        self.everyone: NDArray[np.object_] = np.array(list(self._register.members), dtype=np.object_)
        number = {key: n for n, key in enumerate(self._register.members)}
        self.of: dict[MemberClass, NDArray[np.int64]] = {
            member_class: np.fromiter(map(number.__getitem__, keys), dtype=np.int64, count=len(keys))
            for member_class, keys in decider.ready.alike().items()
        }

    def after(self, decider: Decider) -> MemberNumbers | None:
        """Return them after a change, where nobody comes to be of another class."""
        same = decider.people.register is self._register and decider.compiled.exceptional == self._exceptional
        return self if same else None


def alike(old: Decider, new: Decider) -> Iterable[tuple[Form, list[str]]]:
    """Return the members who are alike in both communities, with what they come down to in each.

    Where both read the same charter, these are the members alone whose record or assignments differ: all others have
    the same answers.
    """
    before, after = old.people.register, new.people.register
    owners = {decider.compiled.charter.owner for decider in (old, new)}
    if before is after and old.compiled.exceptional == new.compiled.exceptional and len(owners) == 1:
        # the same members are alike on both sides
        return [((member_class, new.ready.class_of(keys[0])), keys) for member_class, keys in old.ready.alike().items()]
    # another charter may change anybody's answers; the same one only those whose record differs
    keys = after.differing(before) if old.compiled is new.compiled else dict.fromkeys((*after.members, *before.members))
    forms: dict[Form, list[str]] = {}
    for key in keys:
        form = (
            old.ready.class_of(key) if key in before.members else None,
            new.ready.class_of(key) if key in after.members else None,
        )
        forms.setdefault(form, []).append(key)
    return forms.items()
