"""Advice about titles and names that are the same, or look the same."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable, Iterator, Mapping

from ask_above.ask.advice.piece import Piece, Sight
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.names import SITE, nearest
from ask_above.charter.places import Group, Place
from ask_above.charter.where import Where
from ask_above.visible import has_unseen, visible, without_hidden

_ALIKE = 80

Named = tuple[str, str, Where]
"""What something is called, how it is named in advice, and where it stands."""


def look_alikes(sight: Sight) -> Iterator[Piece]:
    """Find ranks, groups, places and members whose titles differ in nothing that can be seen (rule 1.2)."""
    for kind, named in _kinds(sight).items():
        yield from _among(kind, named)


def _kinds(sight: Sight) -> dict[str, Iterable[Named]]:
    titled = {
        kind: ((each.title, key, each.where) for key, each in all_of.items())
        for kind, all_of in _titled(sight.charter).items()
    }
    return {**titled, "member": ((each.name, f"@{key}", each.where) for key, each in sight.register.members.items())}


def title_twice(sight: Sight) -> Iterator[Piece]:
    """Find ranks and groups of one title, and members of one name; places are told apart by their section."""
    for kind, named in _kinds(sight).items():
        first: dict[str, str] = {}
        for title, key, where in named if kind != "place" else ():
            other = first.setdefault(title.casefold(), key) if title else key
            if other != key:
                what = f"the {kind}s {other} and {key} are both called {title}"
                yield Piece(
                    "title-twice",
                    where,
                    what,
                    f"give one of them another {'name' if kind == 'member' else 'title'}",
                    (other, key),
                )


def unseen(sight: Sight) -> Iterator[Piece]:
    """Find names that hold a character which cannot be seen (rule 1.2)."""
    charter = sight.charter
    things = ((kind, key, each) for kind, all_of in _titled(charter).items() for key, each in all_of.items())
    for kind, key, thing in things:
        for field in ("title", "badge", "prefix"):
            if has_unseen(getattr(thing, field, None) or "", badge=field == "badge"):
                what = f"the {field} of the {kind} {key} has a hidden character"
                yield Piece("unseen-character", thing.where, what, f"type the {field} of {key} again")
    for key, member in sight.register.members.items():
        if not member.name.isascii() and has_unseen(member.name):
            what = f"the name of @{key} has a hidden character"
            yield Piece("unseen-character", member.where, what, f"type the name of {key} again")


def _titled(charter: Charter) -> dict[str, Mapping[str, Rank | Group | Place]]:
    return {"rank": charter.ranks, "group": charter.groups, "place": charter.places}


def _among(kind: str, named: Iterable[Named]) -> Iterator[Piece]:
    seen: dict[str, Named] = {}
    for title, key, where in named:
        plain = title if title.isascii() else unicodedata.normalize("NFKC", without_hidden(title))
        other = seen.setdefault(plain, (title, key, where))
        if other[0] != title:
            what = f"the {kind}s {other[1]} and {key} both look like “{visible(plain)}”"
            mend = f"give {key} another title"
            yield Piece("look-alike", where, what, mend, (key, other[1]))


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
