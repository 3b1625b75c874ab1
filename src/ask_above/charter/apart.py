"""What tells ranks, groups and places apart that share a title: the section where that is enough, else the key."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from typing import TypeVar

from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.names import SITE
from ask_above.charter.places import Group, Place

ThingT = TypeVar("ThingT", Rank, Group, Place)


def told_apart(charter: Charter) -> Charter:
    """Return a charter whose ranks, groups and places are each called otherwise than the others of their kind.

    >>> from ask_above import Community
    >>> charter = Community.demo().charter
    >>> wall = charter.places["photo-wall"]._replace(title="River talk")
    >>> told = told_apart(charter._replace(places={**charter.places, "photo-wall": wall}))
    >>> told.places["photo-wall"].called, told.places["river-talk"].called
    ('River talk (photo-wall)', 'River talk (river-talk)')
    """
    places = charter.places

    def section(place: Place) -> str:
        return "" if place.parent in (None, SITE) else places[str(place.parent)].title

    inside = Counter((place.title, section(place)) for place in places.values())

    def of_place(place: Place) -> str:
        return section(place) if section(place) and inside[place.title, section(place)] == 1 else place.key

    ranks, groups = _told(charter.ranks, lambda rank: rank.key), _told(charter.groups, lambda group: group.key)
    told = _told(places, of_place)
    if ranks is charter.ranks and groups is charter.groups and told is places:
        return charter
    return charter._replace(ranks=ranks, groups=groups, places=told)


def _told(things: Mapping[str, ThingT], apart: Callable[[ThingT], str]) -> Mapping[str, ThingT]:
    times = Counter(thing.title for thing in things.values())
    marks = ((thing, apart(thing) if times[thing.title] > 1 else "") for thing in things.values())
    changed = {thing.key: thing._replace(distinct=mark) for thing, mark in marks if thing.distinct != mark}
    return {**things, **changed} if changed else things
