"""Many rows of a database made into a register at once; what is odd about any of them is left to the slow reading."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from ask_above.charter.charter import Charter
from ask_above.charter.moments import Period, is_date, period
from ask_above.charter.names import RESERVED, SITE, is_key
from ask_above.charter.where import Where
from ask_above.people.register import KINDS, STATUSES, Assignment, Member

MEMBER_ORDER = (
    "key", "name", "email", "kind", "status", "joined", "note", "id", "user_name", "external_id", "was",
    "phone", "groups",
)  # fmt: skip
ASSIGNMENT_ORDER = ("number", "member", "rank", "place", "from", "until", "by", "why", "source")
"""What the rows are made of, in order."""


def members_of(rows: Iterable[Sequence[Any]], charter: Charter, where: Where) -> dict[str, Member] | None:
    """Return members by key, ``None`` where a row cannot be meant."""
    groups: dict[str, tuple[str, ...]] = {"": ()}
    members = {
        row[0]: Member(
            row[0], row[1], row[2], row[3], row[4], row[5], groups[said] if (said := row[12]) in groups else
            groups.setdefault(said, tuple(said.split(";"))), row[6], row[7], row[8], row[9], row[10], row[11], where,
        )
        for row in rows
    }  # fmt: skip
    known = charter.groups.keys()
    good = (
        all(group in known for each in groups.values() for group in each)
        and {member.kind for member in members.values()} <= set(KINDS)
        and {member.status for member in members.values()} <= set(STATUSES)
        and {member.was for member in members.values()} <= {"", *STATUSES}
        and all(map(is_date, {member.joined for member in members.values()}))
        and not RESERVED & members.keys()
        and all(map(is_key, members))
    )
    return members if good else None


def assignments_of(
    rows: Iterable[Sequence[Any]], charter: Charter, members: Mapping[str, Member], where: Where
) -> dict[str, list[Assignment]] | None:
    """Return assignments by member, ``None`` where a row cannot be meant."""
    ranks = {key for key, rank in charter.ranks.items() if not rank.automatic}
    places, zone = charter.places.keys(), charter.zone
    periods: dict[tuple[str, str], Period] = {}
    by_member: dict[str, list[Assignment]] = {}
    try:
        for number, member, rank, place, since, until, by, why, source in rows:
            when = periods.get((since, until))
            if when is None:
                when = periods[since, until] = period(since, until, zone)
            at = place or SITE
            if rank not in ranks or at not in places:
                return None
            assignment = Assignment(member, rank, at, when, by, why, where, number, source)
            mine = by_member.get(member)
            if mine is None:
                by_member[member] = [assignment]
            else:
                mine.append(assignment)
    except ValueError:
        return None
    return by_member if by_member.keys() <= members.keys() else None
