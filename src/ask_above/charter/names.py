"""Names: what a key may look like, which words are reserved, which known name is nearest (rules 1.2, 1.3)."""

from __future__ import annotations

import re
from collections.abc import Callable, Container, Iterable

SITE = "site"
"""The key of the root place."""

RESERVED = frozenset({SITE, "visitor", "every", "no", "may", "not", "in", "by", "on", "to", "of", "using"})
"""Words that expectations and questions are built from; no rank, group, place, member or bundle may have them."""

MEMBER_MARK = "@"
"""What stands before the key of a member where a rank might be meant."""

RANK_MARK = "rank:"
"""What stands before the key of a rank where a member might be meant."""

_MANY, _LONG, _LIKE = 2_000, 200, 60

_KEY = re.compile(r"[a-z0-9][a-z0-9_-]*")
_CAPABILITY = re.compile(r"[a-z0-9][a-z0-9_-]*(?:\.[a-z0-9][a-z0-9_-]*)+")


def is_key(text: str) -> bool:
    """Whether ``text`` has the form of a key."""
    return _KEY.fullmatch(text) is not None


def is_capability(text: str) -> bool:
    """Whether ``text`` has the form of a capability: words joined by dots, at least one dot."""
    return _CAPABILITY.fullmatch(text) is not None


def rank_named(text: str) -> str | None:
    """Return the key of the rank that a text such as ``rank:warden`` names; ``None`` where it names none."""
    return text.removeprefix(RANK_MARK) if text.startswith(RANK_MARK) else None


def as_rank(key: str) -> str:
    """Return how a rank is named where a member might be meant."""
    return f"{RANK_MARK}{key}"


def among_keys(word: str, keys: Container[str]) -> str:
    """Return a word that stands among keys and is none of them: where a key is the same, one that no key can be.

    >>> among_keys("owner", ["host"]), among_keys("owner", ["host", "owner"])
    ('owner', 'the owner')
    """
    return f"the {word}" if word in keys else word


def nearest(name: str, known: Iterable[str], most: int = 3) -> tuple[str, ...]:
    """Return the known names most like ``name``, best first, equally good ones in alphabetical order."""
    from rapidfuzz import fuzz, process

    names = list(dict.fromkeys(known))
    # of very many names those that are equally good may come in their own order
    names = sorted(names) if len(names) <= _MANY else names
    # a name of a megabyte is compared by its beginning: it is a mistake whatever it is nearest to
    found = process.extract(name.lower()[:_LONG], names, scorer=fuzz.ratio, score_cutoff=_LIKE, limit=most)
    return tuple(each for each, *_ in found)


def few(
    names: Iterable[str],
    most: int,
    joiner: str = "and",
    count: int | None = None,
    called: Callable[[str], str] | None = None,
) -> str:
    """Join names as a sentence does; of more than so many the first, and how many more there are, never one alone.

    ``count`` is how many there are, where the names are only the first of them, one more than so many. ``called`` says
    what the named ones are called, where these are keys.
    """
    items = list(names)
    count = len(items) if count is None else count
    items = items if count <= most + 1 else items[:most]
    items = items if called is None else [*map(called, items)]
    return listed(items, joiner) if count <= most + 1 else f"{', '.join(items)} and {count - most:,} more"


def listed(names: Iterable[str], joiner: str = "and") -> str:
    """Join names as a sentence does: ``a, b and c``."""
    items = list(names)
    if len(items) < 2:  # noqa: PLR2004
        return "".join(items)
    return f"{', '.join(items[:-1])} {joiner} {items[-1]}"


def upper(text: str) -> str:
    """Return a text with a capital in front; a key in front stays as it is written.

    >>> upper("two members"), upper("notes.write for Member"), upper("m50 has no rank")
    ('Two members', 'notes.write for Member', 'm50 has no rank')
    """
    # a key or a capability is written one way, at the beginning of a sentence too
    first = text.split(" ", 1)[0].rstrip(".,:;'s")
    return text if any(mark in first for mark in "._0123456789") else text[:1].upper() + text[1:]


def titled(title: str, key: str, distinct: str) -> str:
    """Return what people call a thing: its title, with what tells it from others of that title; the key where none.

    >>> titled("Chat", "chat-a", "North"), titled("Chat", "chat-a", ""), titled("", "chat-a", "")
    ('Chat (North)', 'Chat', 'chat-a')
    """
    return f"{title} ({distinct})" if title and distinct and distinct != title else title or key


def how_many(count: int, thing: str, things: str = "") -> str:
    """Return how many there are of something, in words that fit the number.

    >>> how_many(1, "member"), how_many(0, "answer"), how_many(2, "person", "people")
    ('1 member', '0 answers', '2 people')
    """
    return f"{count:,} {thing if count == 1 else things or thing + 's'}"


_CALLED_ELSEWHERE = {
    "about": "description describe desc summary purpose info text",
    "title": "name label caption called",
    "color": "colour hue tint",
    "badge": "icon emoji symbol sign",
    "prefix": "tag nickname-prefix",
    "heading": "shown-apart apart separate listed section group-heading",
    "call": "callable may-be-called who-may-call ring alert",
    "builds-on": "parent parents inherits extends inherit based-on",
    "copied-from": "copy-of original template",
    "held-by": "automatic everyone default default-for automatic-for",
    "open": "joinable join self-service may-join public",
    "on-joining": "on-join at-joining starter welcome",
    "grants": "capabilities permissions rights allow allows can may",
    "withhold": "deny denies except forbid without",
    "unbounded": "all everything administrator admin superuser",
    "limit": "max maximum most size seats",
    "after": "requires required prerequisite needs",
    "apart-from": "conflicts exclusive not-with excludes",
    "kept-by": "managed-by source external synced",
    "paused": "disabled inactive suspended off",
    "kind": "type sort",
    "includes": "contains members-of nested",
    "confers": "ranks gives roles",
    "email": "address mail e-mail",
    "note": "notes comment remark",
}
"""What people call a field who know it from elsewhere."""


def nearest_field(word: str, fields: Iterable[str]) -> tuple[str, ...]:
    """Return the fields that are meant by a word: those that are called so elsewhere, else those written like it."""
    plain, known = word.strip().lower().replace("_", "-").replace(" ", "-"), [*fields]
    called = tuple(name for name in known if plain in _CALLED_ELSEWHERE.get(name, "").split())
    return called or nearest(word, known)
