"""The parts of a difference: one thing that differs in one field, its row of the rules, and for what times.

Equal for all spellings of the same: where something was written is no part of it (rule 9.1).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from enum import StrEnum
from typing import Any, Final, NamedTuple

from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant
from ask_above.charter.places import Override
from ask_above.people.register import Assignment, Register

BEGINNING: Instant = -(1 << 62)
END: Instant = 1 << 62
IDENTITY: Final = ("user_name", "external_id")
"""What says who somebody is to other programs."""


class Coverage(NamedTuple):
    """Stretches of time, apart from one another and in order; each from an instant until another, that one excluded."""

    stretches: tuple[tuple[Instant, Instant], ...] = ()

    def __bool__(self) -> bool:
        return bool(self.stretches)

    def __sub__(self, other: Coverage) -> Coverage:
        left = list(self.stretches)
        for start, end in other.stretches:
            left = [
                piece
                for first, last in left
                for piece in ((first, min(last, start)), (max(first, end), last))
                if piece[0] < piece[1]
            ]
        return Coverage(tuple(left))

    def since(self, now: Instant) -> Coverage:
        """Return what of it is yet to be."""
        return Coverage(tuple((max(start, now), end) for start, end in self.stretches if end > now))

    @property
    def first(self) -> Instant:
        """The instant at which it begins."""
        return self.stretches[0][0]

    @property
    def open_ended(self) -> bool:
        """Whether it is one stretch that never ends."""
        return len(self.stretches) == 1 and self.stretches[0][1] == END


ALWAYS_COVERED = Coverage(((BEGINNING, END),))


def coverage(given: Iterable[Assignment]) -> Coverage:
    """Return what time assignments cover together."""
    spans = sorted(
        (
            BEGINNING if assignment.period.start is None else assignment.period.start,
            END if assignment.period.end is None else assignment.period.end,
        )
        for assignment in given
    )
    merged: list[tuple[Instant, Instant]] = []
    for start, end in spans:
        if start >= end:
            continue
        if merged and start <= merged[-1][1]:
            merged[-1] = (merged[-1][0], max(end, merged[-1][1]))
        else:
            merged.append((start, end))
    return Coverage(tuple(merged))


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


class EditRow(StrEnum):
    """The rows of the table of edits (rule 9.3); what has none is the owner's alone."""

    MANAGE = "manage"
    LADDER = "ladder"
    BUNDLE = "bundle"
    PLACE = "place"
    PARENT = "parent"
    SETS = "sets"
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


def _by_row(**fields: str) -> Mapping[str, EditRow]:
    """Return the row of each field; said are, for each row, the fields that stand in it."""
    return {field: EditRow(row) for row, said in fields.items() for field in said.split()}


RANK_ROWS: Final = _by_row(
    manage="key title about held_by entry open on_joining grants withhold builds_on copied_from call_open heading color"
    " badge prefix perks paused",
    ladder="position",
    owner="unbounded kept_by limit after apart_from lists",
    nothing="where distinct",
)
PLACE_ROWS: Final = _by_row(
    owner="key kind", place="title about overrides exceptions gate like", parent="parent", nothing="where distinct"
)
MEMBER_ROWS: Final = _by_row(
    owner="key joined id was",
    account="kind status note",
    people="groups",
    name="name",
    address="email",
    phone="phone",
    identity="user_name external_id",
    nothing="where distinct",
)

CHARTER_ROWS: Final = _by_row(
    owner="key title owner rules catalogue groups perks expectations add_ons kinds",
    manage="ranks",
    place="places",
    sets="override_sets",
)

# a new field of one of these stands in the last row, the owner's, until somebody gives it another
GROUP_ROWS: Final = _by_row(owner="key title about includes confers", nothing="where distinct")
SET_ROWS: Final = _by_row(sets="key overrides", nothing="where")
PERK_ROWS: Final = _by_row(owner="key about settle default", nothing="where")


def entries(overrides: Iterable[Override]) -> dict[str, tuple[frozenset[str], ...]]:
    """Return what overrides or exceptions say, by whom they speak of; their order says nothing, nor do empty ones."""
    return {
        override.label: tuple(frozenset(words) for words in (override.allow, override.deny, override.bar))
        for override in overrides
        if override.speaks
    }
