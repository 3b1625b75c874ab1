"""Advice about colours: read on light and dark ground, told apart (WCAG 2 contrast, CIE 1976 difference)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import combinations
from math import dist

from ask_above.ask.advice.piece import Piece, Sight
from ask_above.charter.ladder import Rank

LEAST_CONTRAST = 3.0
"""What WCAG 2 asks of large text and of parts of an interface."""

LIGHT, DARK = "#ffffff", "#121212"
LEAST_DIFFERENCE = 10.0
"""Below this CIE 1976 difference two small patches of colour are taken for one."""

_HEX = re.compile(r"#(?:[0-9a-fA-F]{3}|[0-9a-fA-F]{6})", re.ASCII)
_WHITE = (0.95047, 1.0, 1.08883)


def colors(sight: Sight) -> Iterator[Piece]:
    """Find colours that cannot be read or told apart, ranks that share one."""
    known = [(r, r.color.lower()) for r in sight.compiled.ranks if r.color and _HEX.fullmatch(r.color)]
    for rank, color in known:
        for ground, shade in ((LIGHT, "a light"), (DARK, "a dark")):
            ratio = contrast(color, ground)
            if ratio < LEAST_CONTRAST:
                least = f"{LEAST_CONTRAST:g}"
                what = (
                    f"{rank.title}'s {color} has a contrast of {ratio:.2f} on {shade} background; {least} is readable"
                )
                mend = f"choose a {'darker' if ground == LIGHT else 'lighter'} colour"
                yield Piece("color-unreadable", rank.where, what, mend, (rank.key,))
    for (one, first), (other, second) in combinations(known, 2):
        concerned = (one.key, other.key)
        if first == second:
            what = f"{one.title} and {other.title} have the same colour, {first}"
            yield Piece(
                "color-same", other.where, what, "choose another colour for one of them", concerned, _without(other)
            )
        elif difference(first, second) < LEAST_DIFFERENCE:
            what = f"{one.title}'s {first} and {other.title}'s {second} look the same"
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
