"""Advice about titles and names that are the same, or look the same."""

from __future__ import annotations

import unicodedata
from collections.abc import Callable, Iterator, Mapping
from operator import attrgetter
from typing import Any

from ask_above.ask.advice.piece import Piece, Sight
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.names import SITE, nearest
from ask_above.charter.places import Group, Place
from ask_above.people.register import Member
from ask_above.visible import has_unseen, visible, without_hidden

_ALIKE = 80


def look_alikes(sight: Sight) -> Iterator[Piece]:
    """Find ranks, groups, places and members whose titles differ in nothing that can be seen (rule 1.2)."""
    for kind, things in _things(sight).items():
        titles = list(map(_title_of(kind), things.values()))
        seen: dict[str, tuple[str, str]] = {}
        # what is plain Latin looks like nothing else that is: of very many members hardly any are looked at
        for (key, thing), title in zip(things.items(), () if "".join(titles).isascii() else titles, strict=False):
            plain = title if title.isascii() else unicodedata.normalize("NFKC", without_hidden(title))
            first, other = seen.setdefault(plain, (title, key))
            if first != title:
                what = f"the {kind}s {_named(kind, other)} and {_named(kind, key)} both look like “{visible(plain)}”"
                both = _named(kind, key), _named(kind, other)
                yield Piece("look-alike", thing.where, what, f"give {both[0]} another title", both)


def title_twice(sight: Sight) -> Iterator[Piece]:
    """Find ranks and groups of one title, and members of one name; places are told apart by their section."""
    for kind, things in _things(sight).items():
        title_of, first = _title_of(kind), dict[str, str]()
        titles = [title.casefold() for title in map(title_of, things.values()) if title]
        for key, thing in things.items() if len({*titles}) < len(titles) and kind != "place" else ():
            title = title_of(thing)
            other = first.setdefault(title.casefold(), key) if title else key
            if other != key:
                both, called = (_named(kind, other), _named(kind, key)), "name" if kind == "member" else "title"
                what = f"the {kind}s {both[0]} and {both[1]} are both called {title}"
                yield Piece("title-twice", thing.where, what, f"give one of them another {called}", both)


def unseen(sight: Sight) -> Iterator[Piece]:
    """Find names that hold a character which cannot be seen (rule 1.2)."""
    charter = sight.charter
    things = ((kind, key, titled) for kind, all_of in _titled(charter).items() for key, titled in all_of.items())
    for kind, key, thing in things:
        for field in ("title", "badge", "prefix"):
            if has_unseen(getattr(thing, field, None) or "", badge=field == "badge"):
                what = f"the {field} of the {kind} {key} has a hidden character"
                yield Piece("unseen-character", thing.where, what, f"type the {field} of {key} again")
    members = sight.register.members
    for key, member in members.items() if not "".join(titled.name for titled in members.values()).isascii() else ():
        if not member.name.isascii() and has_unseen(member.name):
            what = f"the name of @{key} has a hidden character"
            yield Piece("unseen-character", member.where, what, f"type the name of {key} again")


def _things(sight: Sight) -> dict[str, Mapping[str, Rank | Group | Place | Member]]:
    return {**_titled(sight.charter), "member": sight.register.members}


def _title_of(kind: str) -> Callable[[Any], str]:
    """Return what gives what a thing of this kind is called."""
    return attrgetter("name" if kind == "member" else "title")


def _named(kind: str, key: str) -> str:
    return f"@{key}" if kind == "member" else key


def _titled(charter: Charter) -> dict[str, Mapping[str, Rank | Group | Place | Member]]:
    return {"rank": charter.ranks, "group": charter.groups, "place": charter.places}


def kinds(sight: Sight) -> Iterator[Piece]:
    """Find places of a kind that no capability names and that is nearly one that some do (rule 5.6)."""
    capabilities = sight.charter.catalogue.capabilities.values()
    named = {kind for capability in capabilities for kind in capability.kinds or ()}
    for key, place in sight.charter.places.items():
        near = nearest(place.kind, named - {SITE}) if place.kind not in named and key != SITE else ()
        if near and fuzzy(place.kind, near[0]):
            what = f"{place.title or key} is of kind {place.kind}, which no capability names; many name {near[0]}"
            yield Piece(
                "kind-misspelled",
                place.where,
                what,
                f"set its kind to {near[0]}",
                (),
                (f"ask-above place set {key} kind={near[0]}",),
            )


def fuzzy(one: str, other: str) -> bool:
    """Whether two words are nearly the same."""
    from rapidfuzz import fuzz

    return fuzz.ratio(one, other) >= _ALIKE
