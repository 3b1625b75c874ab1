"""What the readers share: the names that are known, how one that is not is told, and how a ring of names is found."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping, Sequence
from typing import Any, TypeAlias, TypeVar

from ask_above.charter.catalogue import NO_WORDS, Catalogue, Words
from ask_above.charter.ladder import Rank
from ask_above.charter.names import nearest
from ask_above.charter.places import Group, Place
from ask_above.charter.reading.document import Document, Path

T = TypeVar("T", bound=Hashable)
Items: TypeAlias = list[tuple[int | None, str]]
"""Clean texts with their number in the list; none for one that stood alone."""


def loops(edges: Mapping[T, Sequence[T]]) -> list[list[T]]:
    """Return one loop for each knot of things that point back at themselves, each starting and ending alike.

    >>> loops({"a": ["b"], "b": ["c"], "c": ["a"], "d": ["a"]})
    [['a', 'b', 'c', 'a']]
    """
    state: dict[T, int] = {}
    closed: list[list[T]] = []
    for root in edges:
        if root in state:
            continue
        trail: list[T] = []
        # the trail is kept by hand: what an administrator wrote may be deeper than Python recurses
        stack = [(root, iter(edges[root]))]
        state[root] = 1
        trail.append(root)
        while stack:
            node, following = stack[-1]
            for other in following:
                # 1 is on the trail, 2 is done: what is met on the trail closes a loop, which is the end of the trail
                # from there on
                if state.get(other) == 1:
                    closed.append([*trail[trail.index(other) :], other])
                elif other not in state and other in edges:
                    state[other] = 1
                    trail.append(other)
                    stack.append((other, iter(edges[other])))
                    break
            else:
                state[node] = 2
                trail.pop()
                stack.pop()
    return closed


class KnownNames:
    """The names that a charter defines, however faulty the rest of it is."""

    def __init__(self, ranks: Mapping[str, Rank], groups: Mapping[str, Group], zone: str) -> None:
        self.ranks, self.groups, self.zone = ranks, groups, zone
        self.places: Mapping[str, Place] = {}


def at(path: Path, number: int | None) -> Path:
    """Return the path of an item."""
    return path if number is None else (*path, number)


def unknown(
    document: Document, path: Path, what: str, name: str, known: Iterable[str], *, on_key: bool = False
) -> None:
    """Note that there is no such name."""
    names = list(known)
    near = nearest(name, names)
    message = f"there is no {what} '{name}'"
    # more names than a line holds help nobody
    expected = f"the key of a {what}" if len(names) > 12 else f"one of {', '.join(names)}" if names else ""  # noqa: PLR2004
    document.fault(path, f"unknown-{what.replace(' ', '-')}", message, expected=expected, nearest=near, on_key=on_key)


def known_names(document: Document, items: Items, path: Path, what: str, known: Mapping[str, Any]) -> tuple[str, ...]:
    """Return the names that are known, once each, and note those that are not."""
    for n, name in items:
        if name not in known:
            unknown(document, at(path, n), what, name, known)
    return tuple(dict.fromkeys(name for _, name in items if name in known))


def read_words(document: Document, items: Items | None, path: Path, catalogue: Catalogue) -> Words:
    """Return words for capabilities, and note those that stand for nothing (rule 2.7)."""
    if not items:
        return NO_WORDS
    for n, word in items:
        wrong = catalogue.what_is_wrong_with(word)
        if wrong:
            message, near = wrong
            expected = "a capability, a bundle, a pattern such as post.* or *"
            document.fault(at(path, n), "unknown-capability", message, expected=expected, nearest=near)
    return Words(tuple(dict.fromkeys(word for _, word in items)), document.where(path))


def one_capability(document: Document, name: str, path: Path, catalogue: Catalogue) -> str | None:
    """Return a single capability's key, or note that it is none: no bare name, no bundle, no pattern (rule 2.3)."""
    if name in catalogue.bit:
        return name
    expected = "the key of one capability"
    if name in catalogue.pairs:
        message, near = catalogue.what_is_wrong_with(name) or ("", ())
        document.fault(path, "bare-name", message, expected=expected, nearest=near)
    elif catalogue.expand(name) or name in catalogue.bundles:
        message = f"'{name}' stands for several capabilities; one belongs here"
        document.fault(path, "not-one-capability", message, expected=expected)
    else:
        near = catalogue.near(name, [*catalogue.keys, *catalogue.pairs])
        document.fault(path, "unknown-capability", f"there is no capability '{name}'", expected=expected, nearest=near)
    return None


def title_of(said: Mapping[str, Any]) -> str:
    """Return what people call a thing: its title; its key where that is left out or blank.

    >>> title_of({"key": "notices", "title": " "})
    'notices'
    """
    title = str(said.get("title", ""))
    return title if title.strip() else str(said.get("key", ""))
