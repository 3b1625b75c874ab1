"""Reads the answers out of a page by itself, as a second reading of what the page's own script looks up."""

from __future__ import annotations

import base64
import html
import json
import re
import struct
from typing import Any, NamedTuple

HOLE, ACTOR, TARGET = "\0", "\1", "\2"


class Read(NamedTuple):
    """One answer: whether it is yes, why, and the steps where the page has them; ``None`` where it does not say why."""

    allowed: bool
    reason: str | None
    steps: list[str]


class PageReader:
    """The data of one page."""

    def __init__(self, page: str) -> None:
        found = re.search(r'<script type="application/json" id="data">(.*?)</script>', page, re.DOTALL)
        assert found is not None
        self.data: dict[str, Any] = json.loads(html.unescape(found[1]))
        self.persons = {each[0]: each for each in self.data["persons"]}
        self.places = {each[0]: n for n, each in enumerate(self.data["places"])}
        self.capabilities = [each[0] for each in self.data["capabilities"]]
        self.layers = 1 + max(each[4] for each in self.data["places"])
        self.can = base64.b64decode(self.data["can"])
        self.shapes = [base64.b64decode(shape) for shape in self.data["shapes"]]
        self.told = [(shape, base64.b64decode(table)) for shape, table in self.data["told"]]

    def answer(self, who: str, capability: str, place: str) -> Read:
        """Return what the page answers."""
        row, number = self.persons[who][5], self.capabilities.index(capability)
        layer, size = self.data["places"][self.places[place]][4], len(self.capabilities)
        width = (size + 7) // 8
        allowed = bool(self.can[(row * self.layers + layer) * width + number // 8] >> number % 8 & 1)
        texts = self._texts(row, layer * size + number)
        filled = [self.filled(text, HOLE, *self.persons[who][2:4]) for text in texts]
        return Read(allowed, filled[0] if filled else None, filled[1:])

    def _texts(self, row: int, question: int) -> list[str]:
        if row >= len(self.told):
            return []
        shape, table = self.told[row]
        account = _number(table, _number(self.shapes[shape], question))
        return [] if account is None else [self.data["texts"][n] for n in self.data["accounts"][account]]

    def state(self, who: str, place: str) -> str:
        """Return how a place shows itself."""
        letter = self.data["states"][self.persons[who][5]][self.places[place]]
        return {"o": "open", "c": "closed", "n": "not there"}[letter]

    def changes(self, who: str, place: str) -> tuple[tuple[str, ...], ...]:
        """Return what a place adds, and what it takes."""
        found = self.data["changes"][self.persons[who][5]].get(str(self.places[place]), [[], []])
        return tuple(tuple(self.capabilities[n] for n in side) for side in found)

    def power(self, act: str, actor: int, target: int) -> list[str]:
        """Return why one rank may not act on another; nothing where it may."""
        powers = self.data["powers"]
        number = powers["acts"][act][actor * len(powers["ranks"]) + target]
        texts = [] if number < 0 else [powers["texts"][text] for text in powers["accounts"][number]]
        filled = [self.filled(text, ACTOR, *powers["ranks"][actor]) for text in texts]
        return [self.filled(text, TARGET, *powers["ranks"][target]) for text in filled]

    @staticmethod
    def filled(text: str, hole: str, name: str, first: str) -> str:
        """Put a name into the holes of a text."""
        return (first + text[1:] if text.startswith(hole) else text).replace(hole, name)


def _number(table: bytes, at: int | None) -> int | None:
    if at is None or 2 * at + 2 > len(table):
        return None
    found: int = struct.unpack_from("<H", table, 2 * at)[0]
    return found
