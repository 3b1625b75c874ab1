"""The catalogue: which capabilities there are, what they mean, and how they hang together (rules 2.1 to 2.8).

Sets of capabilities are whole numbers here, one bit for each capability in the catalogue's order: union, difference
and "is all of this in that" are then one operation each.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from ask_above.charter.names import is_capability, nearest
from ask_above.charter.where import NOTHING, NOWHERE, Where

RISKS = ("low", "medium", "high")
_SAY_NOTHING = frozenset(("a", "an", "the", "of", "to", "in", "at", "and", "or", "one"))
_MOST_NEAR = 3


class Capability(NamedTuple):
    """One thing that can be done.

    ``kinds`` are the kinds of place where it has a meaning, ``None`` for all of them. ``pair`` is the bare name of a
    capability that is declared once for own things and once for everybody's.
    """

    key: str
    about: str = ""
    heading: str = ""
    kinds: frozenset[str] | None = None
    risk: str = "low"
    implies: tuple[str, ...] = ()
    needs: tuple[str, ...] = ()
    leads_to: tuple[str, ...] = ()
    pair: str | None = None
    add_on: str | None = None
    where: Where = NOWHERE

    def has_meaning_in(self, kind: str) -> bool:
        """Whether the capability means anything in a place of this kind (rule 2.1)."""
        return self.kinds is None or kind in self.kinds


class Words:
    """Capabilities as an administrator writes them: names, bundles, patterns."""

    __slots__ = ("where", "words")

    def __init__(self, words: tuple[str, ...] = (), where: Where = NOWHERE) -> None:
        self.words, self.where = words, where

    def __iter__(self) -> Iterator[str]:
        return iter(self.words)

    def __bool__(self) -> bool:
        return bool(self.words)


class Bundle(NamedTuple):
    """A named set of capabilities."""

    key: str
    words: Words
    where: Where = NOWHERE


NO_WORDS = Words()


def content(value: Any) -> Any:
    """Return what a value says, without where it was written; equal for all spellings and orders of the same."""
    if isinstance(value, Words):
        return frozenset(value.words)
    if isinstance(value, tuple) and hasattr(value, "_fields"):
        return tuple(content(each) for name, each in zip(value._fields, value, strict=True) if name != "where")
    if isinstance(value, tuple):
        said = tuple(map(content, value))
        return frozenset(said) if all(isinstance(each, (str, tuple)) for each in said) else said
    if isinstance(value, Mapping):
        return {key: content(each) for key, each in value.items()}
    return value


class Catalogue:
    """All capabilities and bundles of a charter, and what words stand for.

    ``capabilities`` is in the charter's order; ``keys`` repeats it. The relations must not loop; reading a charter sees
    to that. ``pairs`` maps the bare names that are declared once for own and all to the two.
    """

    def __init__(
        self,
        capabilities: Mapping[str, Capability],
        bundles: Mapping[str, Bundle] = NOTHING,
        nobody: frozenset[str] = frozenset(),
    ) -> None:
        self.capabilities, self.bundles, self.nobody = capabilities, bundles, nobody
        self.keys: tuple[str, ...] = tuple(capabilities)
        self.bit = {key: 1 << n for n, key in enumerate(self.keys)}
        self.everything = (1 << len(self.keys)) - 1
        self.pairs = {c.pair: (f"{c.pair}.own", f"{c.pair}.all") for c in capabilities.values() if c.pair}
        # the same few sets are closed again and again: a charter is compiled once and asked for days
        self._implied: dict[int, int] = {}
        self._expanded: dict[str, int] = {}
        self._closed: dict[int, int] = {}

    def mask(self, keys: Iterable[str]) -> int:
        """Return the set of these capabilities."""
        result = 0
        for key in keys:
            result |= self.bit[key]
        return result

    def names(self, mask: int) -> tuple[str, ...]:
        """Return the keys in a set, in the catalogue's order."""
        keys = []
        while mask:
            low = mask & -mask
            keys.append(self.keys[low.bit_length() - 1])
            mask ^= low
        return tuple(keys)

    def expand(self, word: str) -> int:
        """Return what one word stands for: a capability, a bundle, ``post.*`` or ``*``; 0 for none (rule 2.7)."""
        known = self._expanded.get(word)
        if known is None:
            known = self._expanded[word] = self._expand(word)
        return known

    def _expand(self, word: str) -> int:
        if word == "*":
            return self.everything
        # the dot stays, so that post.* is not postbox.write
        if word.endswith(".*"):
            return self.mask(key for key in self.keys if key.startswith(word[:-1]))
        if word in self.bundles:
            return self.expand_all(self.bundles[word].words)
        return self.bit.get(word, 0)

    def expand_all(self, words: Iterable[str]) -> int:
        """Return what these words stand for together: exactly what is named (rule 2.5)."""
        result = 0
        for word in words:
            result |= self.expand(word)
        return result

    def close(self, mask: int) -> int:
        """Add to a set all that its capabilities imply, transitively (rule 2.4)."""
        known = self._closed.get(mask)
        if known is None:
            known = mask
            for key in self.names(mask):
                known |= self._implied_by(key)
            self._closed[mask] = known
        return known

    def _implied_by(self, key: str) -> int:
        bit = self.bit[key]
        known = self._implied.get(bit)
        if known is None:
            known = bit
            for other in self.capabilities[key].implies:
                known |= self._implied_by(other)
            self._implied[bit] = known
        return known

    def rests_on(self, key: str, *, beside: str | None = None) -> int:
        """Return what must be held for ``key`` to be usable: itself, what it implies and needs, and so on (rule 5.6).

        ``beside`` is one more capability to rest on, with all that it rests on itself.
        """
        # without recursion: a chain of implications may be as long as the catalogue
        result, todo = 0, [key] if beside is None else [key, beside]
        while todo:
            bit = self.bit[name := todo.pop()]
            if not result & bit:
                result |= bit
                capability = self.capabilities[name]
                todo += [*capability.implies, *capability.needs]
        return result

    def carriers(self, words: Iterable[str], key: str) -> tuple[str, ...]:
        """Return those of the words that stand for ``key`` itself or for something that implies it."""
        bit = self.bit[key]
        return tuple(word for word in words if self.close(self.expand(word)) & bit)

    def known_words(self) -> tuple[str, ...]:
        """Return every name that may stand where capabilities are listed, for finding the nearest one."""
        return (*self.keys, *self.bundles, *sorted({f"{key.split('.')[0]}.*" for key in self.keys}))

    def near(self, name: str, known: Iterable[str]) -> tuple[str, ...]:
        """Return the names most like one that stands for nothing, before them what is described in its words."""
        words = _stems(name) - _SAY_NOTHING
        # somebody who knows no name says what they mean: the words of what it is about are looked at too
        about = {
            capability.pair or capability.key: _stems(f"{capability.about} {capability.key.replace('.', ' ')}")
            for capability in self.capabilities.values()
        }
        described = sorted(
            (name for name in about if words and words <= about[name]), key=lambda name: len(about[name])
        )
        return tuple(dict.fromkeys((*described, *nearest(name, known))))[:_MOST_NEAR]

    def what_is_wrong_with(self, word: str) -> tuple[str, tuple[str, ...]] | None:
        """Return why a word stands for nothing, and the nearest names; ``None`` where it is fine (rules 2.3, 2.7)."""
        # an empty bundle stands for nothing and is fine all the same
        if self.expand(word) or word in self.bundles:
            return None
        if word in self.pairs:
            own, everybody = self.pairs[word]
            return (
                f"'{word}' is two capabilities; write '{own}' (on own things) or '{everybody}' (on everybody's)",
                (own, everybody),
            )
        if word.endswith("*"):
            return f"the pattern '{word}' matches no capability", nearest(word, self.known_words())
        what = "capability" if is_capability(word) else "capability or bundle"
        return f"there is no {what} '{word}'", self.near(word, [*self.known_words(), *self.pairs])


def _stems(text: str) -> set[str]:
    """Return the words of a text, those of several as one: ``entries`` as ``entry``."""
    words = (word.strip(".,;:").removesuffix("s") for word in text.casefold().split())
    return {f"{word[:-2]}y" if word.endswith("ie") else word for word in words}
