"""Advice about titles, names and colours that are the same, or look the same."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Iterator, Mapping
from itertools import combinations
from math import dist
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
LEAST_CONTRAST = 3.0
"""What WCAG 2 asks of large text and of parts of an interface."""
LIGHT, DARK = "#ffffff", "#121212"
LEAST_DIFFERENCE = 10.0
"""Below this CIE 1976 difference two small patches of colour are taken for one."""
_HEX = re.compile(r"#(?:[0-9a-fA-F]{3}|[0-9a-fA-F]{6})", re.ASCII)
_WHITE = (0.95047, 1.0, 1.08883)


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
        title_of, same = _title_of(kind), dict[str, list[str]]()
        titles = [title.casefold() for title in map(title_of, things.values()) if title]
        for key, thing in things.items() if len({*titles}) < len(titles) and kind != "place" else ():
            same.setdefault(title_of(thing).casefold(), []).append(key)
        for title, keys in same.items():
            # by their keys: in another order the same is no news
            first, *others = sorted(keys) if title else [""]
            for key in others:
                both, called = (_named(kind, first), _named(kind, key)), "name" if kind == "member" else "title"
                what = f"the {kind}s {both[0]} and {both[1]} are both called {title_of(things[key])}"
                yield Piece("title-twice", things[key].where, what, f"give one of them another {called}", both)


def unseen(sight: Sight) -> Iterator[Piece]:
    """Find names that hold a character which cannot be seen (rule 1.2)."""
    charter = sight.charter
    things = ((kind, key, titled) for kind, all_of in _titled(charter).items() for key, titled in all_of.items())
    for kind, key, thing in things:
        for field in ("title", "badge", "prefix"):
            if has_unseen(getattr(thing, field, None) or "", badge=field == "badge"):
                what = f"the {field} of the {kind} {key} has a hidden character"
                yield Piece("unseen-character", thing.where, what, f"type the {field} of {key} again")
    members = sight.named
    for key, member in members.items() if not "".join(titled.name for titled in members.values()).isascii() else ():
        if not member.name.isascii() and has_unseen(member.name):
            what = f"the name of @{key} has a hidden character"
            yield Piece("unseen-character", member.where, what, f"type the name of {key} again")


def _things(sight: Sight) -> dict[str, Mapping[str, Rank | Group | Place | Member]]:
    return {**_titled(sight.charter), "member": sight.named}


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
            what = f"{place.called} is of kind {place.kind}, which no capability names; many name {near[0]}"
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


def colors(sight: Sight) -> Iterator[Piece]:
    """Find colours that cannot be read or told apart, ranks that share one."""
    known = [(r, r.color.lower()) for r in sight.compiled.ranks if r.color and _HEX.fullmatch(r.color)]
    for rank, color in known:
        for ground, shade in ((LIGHT, "a light"), (DARK, "a dark")):
            ratio = contrast(color, ground)
            if ratio < LEAST_CONTRAST:
                least = f"{LEAST_CONTRAST:g}"
                what = (
                    f"{rank.called}'s {color} has a contrast of {ratio:.2f} on {shade} background; {least} is readable"
                )
                mend = f"choose a {'darker' if ground == LIGHT else 'lighter'} colour"
                yield Piece("color-unreadable", rank.where, what, mend, (rank.key,))
    for (one, first), (other, second) in combinations(known, 2):
        concerned = (one.key, other.key)
        if first == second:
            what = f"{one.called} and {other.called} have the same colour, {first}"
            yield Piece(
                "color-same", other.where, what, "choose another colour for one of them", concerned, _without(other)
            )
        elif difference(first, second) < LEAST_DIFFERENCE:
            what = f"{one.called}'s {first} and {other.called}'s {second} look the same"
            yield Piece(
                "color-alike", other.where, what, "choose another colour for one of them", concerned, _without(other)
            )


def _without(rank: Rank) -> tuple[str, ...]:
    return (f"ask-above rank set {rank.key} color=",)


def contrast(one: str, other: str) -> float:
    """Return the contrast of two colours as WCAG 2 reckons it, from 1 to 21.

    >>> contrast("#000000", "#ffffff")
    21.0
    """
    first, second = sorted((_luminance(one), _luminance(other)))
    return round((second + 0.05) / (first + 0.05), 6)


def difference(one: str, other: str) -> float:
    """Return the CIE 1976 colour difference."""
    return dist(_lab(one), _lab(other))


def _linear(color: str) -> tuple[float, float, float]:
    digits = color[1:] if len(color) == 7 else "".join(2 * each for each in color[1:])  # noqa: PLR2004
    values = [int(digits[n : n + 2], 16) / 255 for n in (0, 2, 4)]
    red, green, blue = (v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4 for v in values)  # noqa: PLR2004
    return red, green, blue


def _luminance(color: str) -> float:
    red, green, blue = _linear(color)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def _lab(color: str) -> tuple[float, float, float]:
    red, green, blue = _linear(color)
    x = 0.4124 * red + 0.3576 * green + 0.1805 * blue
    y = 0.2126 * red + 0.7152 * green + 0.0722 * blue
    z = 0.0193 * red + 0.1192 * green + 0.9505 * blue
    scaled = [value / white for value, white in zip((x, y, z), _WHITE, strict=True)]
    fx, fy, fz = (v ** (1 / 3) if v > 216 / 24389 else (24389 / 27 * v + 16) / 116 for v in scaled)
    return 116 * fy - 16, 500 * (fx - fy), 200 * (fy - fz)
