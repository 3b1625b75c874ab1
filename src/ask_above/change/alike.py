"""Members who are alike on both sides of a change, together: what is reckoned for one of them holds for all."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypeAlias

from ask_above.decide.may import Decider
from ask_above.decide.ready import Fold

Form: TypeAlias = tuple[Fold | None, Fold | None]
"""What members come down to before and after; ``None`` where they are not there."""


def alike(old: Decider, new: Decider) -> Iterable[tuple[Form, list[str]]]:
    """Return the members who are alike in both communities, with what they come down to in each.

    Where both read the same charter, these are the members alone whose record or assignments differ: all others have
    the same answers.
    """
    before, after = old.people.register, new.people.register
    owners = {decider.frame.charter.owner for decider in (old, new)}
    if before is after and old.frame.exceptional == new.frame.exceptional and len(owners) == 1:
        # the same members are alike on both sides
        return [((fold, new.ready.fold(keys[0])), list(keys)) for fold, keys in old.ready.alike().items()]
    keys = after.differing(before) if old.frame is new.frame else dict.fromkeys((*after.members, *before.members))
    forms: dict[Form, list[str]] = {}
    for key in keys:
        form = (
            old.ready.fold(key) if key in before.members else None,
            new.ready.fold(key) if key in after.members else None,
        )
        forms.setdefault(form, []).append(key)
    return forms.items()
