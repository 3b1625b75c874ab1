"""The parts of a difference: one thing that differs in one field, and the row of the rules that the field stands in.

Equal for all spellings of the same: where something was written is no part of it (rule 9.1).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from enum import StrEnum
from typing import Any, Final, NamedTuple

from ask_above.change.coverage import Coverage
from ask_above.charter.catalogue import Words
from ask_above.charter.charter import Charter
from ask_above.charter.places import Override
from ask_above.people.register import Assignment, Register


class Kind(StrEnum):
    """What kind of thing a part is about."""

    CHARTER = "charter"
    RULES = "rules"
    CATALOGUE = "catalogue"
    BUNDLE = "bundle"
    PERK = "perk"
    RANK = "rank"
    GROUP = "group"
    SET = "set"
    PLACE = "place"
    EXPECTATIONS = "expectations"
    MEMBER = "member"
    ASSIGNMENT = "assignment"


class EditRow(StrEnum):
    """The rows of the table of edits (rule 9.3); what has none is the owner's alone."""

    MANAGE = "manage"
    LADDER = "ladder"
    BUNDLE = "bundle"
    PLACE = "place"
    PARENT = "parent"
    SETS = "sets"
    ASSIGN = "assign"
    PEOPLE = "people"
    ACCOUNT = "account"
    NAME = "name"
    PHONE = "phone"
    ADDRESS = "address"
    IDENTITY = "identity"
    OWNER = "owner"
    NOTHING = "nothing"


class State(NamedTuple):
    """A community at one point of its journal: its charter and its register."""

    charter: Charter
    register: Register


class DifferencePart(NamedTuple):
    """One thing that differs in one field; ``field`` is empty where the thing itself was made or is gone.

    ``row`` is the row of the table of edits that it stands in. ``before`` and ``after`` are ``None`` where there is
    nothing.
    """

    kind: Kind
    key: str
    field: str
    before: Any
    after: Any
    row: EditRow


class Given(NamedTuple):
    """What differs in a member's assignments of one rank at one place, over all time.

    ``gained`` is newly covered from now on, ``lost`` no longer covered from now on; both are empty where only the past
    differs, or the record: by whom, why, from where. ``come`` and ``gone`` are the assignments that are not over and
    stand on one side alone.
    """

    member: str
    rank: str
    place: str
    gained: Coverage
    lost: Coverage
    come: tuple[Assignment, ...] = ()
    gone: tuple[Assignment, ...] = ()


RANK_ROWS: Final[Mapping[str, EditRow]] = {
    "key": EditRow.MANAGE,
    "position": EditRow.LADDER,
    "title": EditRow.MANAGE,
    "about": EditRow.MANAGE,
    "held_by": EditRow.MANAGE,
    "unbounded": EditRow.OWNER,
    "entry": EditRow.MANAGE,
    "open": EditRow.MANAGE,
    "on_joining": EditRow.MANAGE,
    "grants": EditRow.MANAGE,
    "withhold": EditRow.MANAGE,
    "builds_on": EditRow.MANAGE,
    "copied_from": EditRow.MANAGE,
    "kept_by": EditRow.OWNER,
    "limit": EditRow.OWNER,
    "after": EditRow.OWNER,
    "apart_from": EditRow.OWNER,
    "lists": EditRow.OWNER,
    "call_open": EditRow.MANAGE,
    "heading": EditRow.MANAGE,
    "color": EditRow.MANAGE,
    "badge": EditRow.MANAGE,
    "prefix": EditRow.MANAGE,
    "perks": EditRow.MANAGE,
    "paused": EditRow.MANAGE,
    "where": EditRow.NOTHING,
}

PLACE_ROWS: Final[Mapping[str, EditRow]] = {
    "key": EditRow.OWNER,
    "kind": EditRow.OWNER,
    "title": EditRow.PLACE,
    "about": EditRow.PLACE,
    "parent": EditRow.PARENT,
    "overrides": EditRow.PLACE,
    "exceptions": EditRow.PLACE,
    "gate": EditRow.PLACE,
    "like": EditRow.PLACE,
    "where": EditRow.NOTHING,
}

MEMBER_ROWS: Final[Mapping[str, EditRow]] = {
    "key": EditRow.OWNER,
    "name": EditRow.NAME,
    "email": EditRow.ADDRESS,
    "kind": EditRow.ACCOUNT,
    "status": EditRow.ACCOUNT,
    "joined": EditRow.OWNER,
    "groups": EditRow.PEOPLE,
    "note": EditRow.ACCOUNT,
    "id": EditRow.OWNER,
    "user_name": EditRow.IDENTITY,
    "external_id": EditRow.IDENTITY,
    "was": EditRow.OWNER,
    "phone": EditRow.PHONE,
    "where": EditRow.NOTHING,
}

IDENTITY: Final = ("user_name", "external_id")
"""What says who somebody is to other programs."""

CHARTER_ROWS: Final[Mapping[str, EditRow]] = {
    "key": EditRow.OWNER,
    "title": EditRow.OWNER,
    "owner": EditRow.OWNER,
    "rules": EditRow.OWNER,
    "catalogue": EditRow.OWNER,
    "ranks": EditRow.MANAGE,
    "places": EditRow.PLACE,
    "groups": EditRow.OWNER,
    "override_sets": EditRow.SETS,
    "perks": EditRow.OWNER,
    "expectations": EditRow.OWNER,
    "add_ons": EditRow.OWNER,
    "kinds": EditRow.OWNER,
}

# a new field of one of these stands in the last row, the owner's, until somebody gives it another
GROUP_ROWS: Final[Mapping[str, EditRow]] = dict.fromkeys(
    ("key", "title", "about", "includes", "confers"), EditRow.OWNER
) | {"where": EditRow.NOTHING}
SET_ROWS: Final[Mapping[str, EditRow]] = {"key": EditRow.SETS, "overrides": EditRow.SETS, "where": EditRow.NOTHING}
PERK_ROWS: Final[Mapping[str, EditRow]] = dict.fromkeys(("key", "about", "settle", "default"), EditRow.OWNER) | {
    "where": EditRow.NOTHING
}

_LOOKS = ("title", "about", "color", "badge", "prefix")
_NO_WORDS: Words = Words()


def content(value: Any) -> Any:
    """Return what a value says, without where it was written; equal for all spellings of the same."""
    if isinstance(value, Words):
        return value.words
    if isinstance(value, tuple) and hasattr(value, "_fields"):
        return tuple(content(each) for name, each in zip(value._fields, value, strict=True) if name != "where")
    if isinstance(value, tuple):
        return tuple(map(content, value))
    if isinstance(value, Mapping):
        return {key: content(each) for key, each in value.items()}
    return value


def entries(overrides: Iterable[Override]) -> dict[str, tuple[frozenset[str], ...]]:
    """Return what overrides or exceptions say, by whom they speak of; their order says nothing."""
    return {
        override.label: tuple(frozenset(words) for words in (override.allow, override.deny, override.bar))
        for override in overrides
    }
