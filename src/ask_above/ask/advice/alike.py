"""Advice about titles and names that look the same and are not: signs without width, other forms of letters."""

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
    charter = sight.charter
    kinds: dict[str, Iterable[Named]] = {
        "rank": ((each.title, key, each.where) for key, each in charter.ranks.items()),
        "group": ((each.title, key, each.where) for key, each in charter.groups.items()),
        "place": ((each.title, key, each.where) for key, each in charter.places.items()),
        "member": ((each.name, f"@{key}", each.where) for key, each in sight.register.members.items()),
    }
    for kind, named in kinds.items():
        yield from _among(kind, named)


def unseen(sight: Sight) -> Iterator[Piece]:
    """Find names that hold a character which cannot be seen (rule 1.2)."""
    charter = sight.charter
    things = ((kind, key, each) for kind, all_of in _titled(charter).items() for key, each in all_of.items())
    for kind, key, thing in things:
        for field in ("title", "badge", "prefix"):
            if has_unseen(getattr(thing, field, None) or "", badge=field == "badge"):
                what = f"the {field} of the {kind} {key} holds a character that cannot be seen"
                yield Piece("unseen-character", thing.where, what, f"type the {field} of {key} anew")
    for key, member in sight.register.members.items():
        if not member.name.isascii() and has_unseen(member.name):
            what = f"the name of @{key} holds a character that cannot be seen"
            yield Piece("unseen-character", member.where, what, f"type the name of {key} anew")


def _titled(charter: Charter) -> dict[str, Mapping[str, Rank | Group | Place]]:
    return {"rank": charter.ranks, "group": charter.groups, "place": charter.places}


def _among(kind: str, named: Iterable[Named]) -> Iterator[Piece]:
    seen: dict[str, Named] = {}
    for title, key, where in named:
        plain = title if title.isascii() else unicodedata.normalize("NFKC", without_hidden(title))
        other = seen.setdefault(plain, (title, key, where))
        if other[0] != title:
            what = f"the {kind} {key} is called “{visible(plain)}” and so, to the eye, is {other[1]}"
            mend = f"give {key} a title of its own, typed anew"
            yield Piece("look-alike", where, what, mend, (key, other[1]))


def kinds(sight: Sight) -> Iterator[Piece]:
    """Find places of a kind that no capability names and that is nearly one that some do (rule 5.6)."""
    capabilities = sight.charter.catalogue.capabilities.values()
    named = {kind for capability in capabilities for kind in capability.kinds or ()}
    for key, place in sight.charter.places.items():
        near = nearest(place.kind, named - {SITE}) if place.kind not in named and key != SITE else ()
        if near and fuzzy(place.kind, near[0]):
            what = f"{place.title or key} is of the kind {place.kind}, which no capability names; many name {near[0]}"
            yield Piece(
                "kind-misspelled",
                place.where,
                what,
                f"make it a {near[0]}",
                (),
                (f"ask-above place set {key} kind={near[0]}",),
            )


def fuzzy(one: str, other: str) -> bool:
    """Tell whether two words are so much alike that the one may be meant for the other."""
    from rapidfuzz import fuzz

    return fuzz.ratio(one, other) >= _ALIKE
