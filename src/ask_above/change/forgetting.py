"""Forget a member: what could tell who they were goes, and a numbered stranger stays (rule 9.14)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from ask_above.change.draft import Done, Draft, EditError, changed_member
from ask_above.charter.charter import Charter
from ask_above.charter.names import listed

STRANGER = "stranger-"
"""What the keys of those begin with who were forgotten."""
GONE = ("name", "email", "phone", "note", "user_name", "external_id", "groups")
"""What is emptied of their row."""
_SHORT = 3


class MemberForget(NamedTuple):
    """Forget a member: name, address, notes and key go from the register, its files, the journal and the outbox.

    What they did stays, as that of a stranger with a number. Nothing brings them back.
    """

    key: str

    def on(self, draft: Draft) -> Done:
        """Return the change; whether the charter names them is checked once it is known that it may be done."""
        member = draft.member(self.key)
        if self.key == draft.charter.owner:
            raise EditError(f"{member.called} is the owner, who cannot be forgotten; hand over first.")
        if self.key.startswith(STRANGER):
            raise EditError(f"{self.key} has been forgotten already.")
        gone = {**dict.fromkeys(GONE, ""), "status": "retired", "was": ""}
        return Done("forget a member for good", (), (changed_member(member, gone),))


def check_forgotten(texts: Mapping[str, str], charter: Charter, key: str, names: Iterable[str]) -> None:
    """Raise where the charter's files name somebody who is to be forgotten.

    By key, in comments too, or by one of the names and addresses that they have had, as a word.
    """
    named = list(named_in(charter, key))
    if named:
        raise EditError(f"The charter names {key} in {listed(named)}. Remove that first, by command or by hand.")
    words = words_of(names)
    in_comment = re.compile(rf"(?:^|\s)#.*(?P<key>{keys_as_words((key,)).pattern})")
    for name, text in texts.items():
        for n, line in enumerate(text.splitlines(), 1):
            found = words.search(line) or in_comment.search(line)
            if found:
                said = found.groupdict().get("key", found[0])
                raise EditError(f"{name} still names {said} on line {n}. Remove that first, by hand.")


def keys_as_words(keys: Iterable[str]) -> re.Pattern[str]:
    """Return what finds keys of a member where they stand as words, and not as the first part of a capability."""
    return re.compile(rf"(?<![\w.-])(?:{'|'.join(map(re.escape, keys))})(?![\w-]|\.\w)")


def words_of(names: Iterable[str]) -> re.Pattern[str]:
    """Return what finds names where they stand as whole words; a short one as it is written alone."""
    said = [re.escape(name) if len(name) <= _SHORT else f"(?i:{re.escape(name)})" for name in names if name]
    return re.compile(rf"(?<![\w-])(?:{'|'.join(said)})(?![\w-])" if said else r"(?!)")


def named_in(charter: Charter, key: str) -> Iterator[str]:
    """Yield where a charter names a member."""
    for place in charter.places.values():
        for entry in place.exceptions:
            if entry.of == key:
                yield f"the exceptions of {place.called} ({entry.where})"
    for expectation in charter.expectations:
        if f"@{key}" in expectation.text.replace("(", " ").split() or expectation.author == key:
            yield f"an expectation ({expectation.where})"
