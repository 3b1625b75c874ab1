"""People as a directory has them: who is in which of its groups, through groups in groups too."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple


class Outsider(NamedTuple):
    """A person of a directory: the number that never changes, what a key is made of, name, address, groups by name.

    ``phone`` is the telephone number, empty where the directory has none.
    """

    number: str
    key: str
    name: str
    email: str
    groups: frozenset[str]
    phone: str = ""


class OutsideGroup(NamedTuple):
    """A group of a directory: its name, its own id, and the ids of people and groups that are in it."""

    id: str
    name: str
    members: frozenset[str]


def groups_of(groups: Iterable[OutsideGroup]) -> dict[str, frozenset[str]]:
    """Return, for each id that is in a group, the names of all groups it is in, through groups in groups and rings too.

    >>> inner = OutsideGroup("g1", "Otters", frozenset({"ida"}))
    >>> outer = OutsideGroup("g2", "Beasts", frozenset({"g1", "jo"}))
    >>> sorted(groups_of([inner, outer])["ida"])
    ['Beasts', 'Otters']
    """
    known = {group.id: group for group in groups}
    above: dict[str, set[str]] = {}
    for group in known.values():
        for member in group.members:
            above.setdefault(member, set()).add(group.id)

    def reached(start: str) -> frozenset[str]:
        names: set[str] = set()
        waiting = list(above.get(start, ()))
        while waiting:
            group = waiting.pop()
            if group not in names:
                names.add(group)
                waiting += above.get(group, ())
        return frozenset(known[group].name for group in names)

    return {member: reached(member) for member in above if member not in known}


def twice(people: Sequence[Outsider]) -> Mapping[str, int]:
    """Return the numbers that more than one person has, and how many have each."""
    seen: dict[str, int] = {}
    for person in people:
        seen[person.number] = seen.get(person.number, 0) + 1
    return {number: count for number, count in seen.items() if count > 1}
