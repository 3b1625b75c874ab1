"""Members who are alike on both sides of a change, together: what is reckoned for one of them holds for all."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypeAlias

from ask_above.decide.classes import MemberClass
from ask_above.decide.decider import Decider

Form: TypeAlias = tuple[MemberClass | None, MemberClass | None]
"""What members come down to before and after; ``None`` where they are not there."""


def alike(old: Decider, new: Decider) -> Iterable[tuple[Form, list[str]]]:
    """Return the members who are alike in both communities, with what they come down to in each.

    Where both read the same charter, these are the members alone whose record or assignments differ: all others have
    the same answers.
    """
    before, after = old.people.register, new.people.register
    owners = {decider.compiled.charter.owner for decider in (old, new)}
    if before is after and old.compiled.exceptional == new.compiled.exceptional and len(owners) == 1:
        # the same members are alike on both sides
        return [
            ((member_class, new.ready.class_of(keys[0])), list(keys))
            for member_class, keys in old.ready.alike().items()
        ]
    keys = after.differing(before) if old.compiled is new.compiled else dict.fromkeys((*after.members, *before.members))
    forms: dict[Form, list[str]] = {}
    for key in keys:
        form = (
            old.ready.class_of(key) if key in before.members else None,
            new.ready.class_of(key) if key in after.members else None,
        )
        forms.setdefault(form, []).append(key)
    return forms.items()
