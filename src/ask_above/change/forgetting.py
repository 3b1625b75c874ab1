"""Forget a member: what could tell who they were goes, and a numbered stranger stays (rule 9.14)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from ask_above.change.draft import Done, Draft, EditError, RowChange, member_row
from ask_above.charter.charter import Charter
from ask_above.charter.names import listed

STRANGER = "stranger-"
"""What the keys of those begin with who were forgotten."""


class MemberForget(NamedTuple):
    """Forget a member: name, address, notes and key go from the register, its files, the journal and the outbox.

    What they did stays, as that of a stranger with a number. Nothing brings them back.
    """

    key: str

    def on(self, draft: Draft) -> Done:
        """Work it out; raises :class:`EditError` where the charter names them."""
        member = draft.member(self.key)
        if self.key == draft.charter.owner:
            raise EditError(f"{member.called} is the owner, who cannot be forgotten; hand over first.")
        if self.key.startswith(STRANGER):
            raise EditError(f"{self.key} has been forgotten already.")
        named = list(named_in(draft.charter, self.key))
        if named:
            raise EditError(
                f"The charter names {self.key} in {listed(named)}. Take that out first, by command or by hand."
            )
        before = member_row(member)
        gone = ("name", "email", "phone", "note", "user_name", "external_id", "groups")
        after = {**before, **dict.fromkeys(gone, "")}
        after |= {"status": "retired", "was": ""}
        return Done("forget a member for good", (), (RowChange("members", self.key, before, after),))


def named_in(charter: Charter, key: str) -> Iterator[str]:
    """Yield where a charter names a member."""
    for place in charter.places.values():
        for entry in place.exceptions:
            if entry.of == key:
                yield f"the exceptions of {place.title or place.key} ({entry.where})"
    for expectation in charter.expectations:
        if f"@{key}" in expectation.text.replace("(", " ").split() or expectation.author == key:
            yield f"an expectation ({expectation.where})"
