"""Somebody who is forgotten, taken out of the journal: of every state the charter's files as they were, less them.

The pieces that a change replaced are counted from the beginning of a file. So not they but the texts before and after
it are gone over, and the pieces found anew: a state gone by can still be read, with the stranger in it (rule 9.14).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from typing import Any

import yaml

from ask_above.errors import StoreError
from ask_above.files.merging import differing
from ask_above.files.splice import as_before
from ask_above.files.yaml_text import compose, scalars
from ask_above.store.entries import Entry
from ask_above.store.strangers import Person, without


def journal_without(entries: Sequence[Entry], files: Mapping[str, str], person: Person) -> list[Entry]:
    """Return the journal's entries without somebody; ``files`` hold the charter as it is, which names them no more."""

    @lru_cache(8)
    def cleaned(text: str) -> str:
        return _text_without(text, person)

    after, left, newest_first = dict(files), dict(files), list[Entry]()
    for entry in reversed(entries):
        pieces = entry.splices
        try:
            earlier = as_before(after, pieces) if pieces else after
        except StoreError:  # from here on no state can be read, with them or without
            pieces = [(file, at, person.without(old), person.without(new)) for file, at, old, new in pieces]
            earlier = {}
        else:
            before = {name: cleaned(text) for name, text in earlier.items()}
            if pieces and (before, left) != (earlier, after):
                names = dict.fromkeys((*before, *left))
                pieces = [p for name in names for p in differing(name, before.get(name, ""), left.get(name, ""))]
            left = before
        after = earlier
        newest_first.append(without(entry._replace(splices=pieces), person))
    return newest_first[::-1]


def _text_without(text: str, person: Person) -> str:
    """Return a charter's text without somebody: what means them there, and what comments say of them."""
    text = person.without_names(text)
    in_comment = person.key_words
    if not in_comment.search(text):
        return text
    in_expectation = re.compile(f"(?<=@){in_comment.pattern}")
    theirs, parts, at = set(_meaning(compose(text), person.keys)), list[str](), 0
    for token in scalars(text):
        start, end = token.start_mark.index, token.end_mark.index
        # between two values there is nothing to be read but comments
        parts += [in_comment.sub(person.stranger, text[at:start]), in_expectation.sub(person.stranger, text[start:end])]
        if start in theirs:
            parts[-1] = parts[-1].replace(token.value, person.stranger)
        at = end
    return "".join([*parts, in_comment.sub(person.stranger, text[at:])])


def _meaning(node: Any, keys: Sequence[str], under: str = "") -> Iterator[int]:
    """Yield where a value means a member: the owner, and who has an exception."""
    if isinstance(node, yaml.SequenceNode):
        for each in node.value:
            yield from _meaning(each, keys)
    elif isinstance(node, yaml.MappingNode):
        for name, value in node.value:
            if under == "exceptions" and name.value in keys:
                yield name.start_mark.index
            if name.value == "owner" and value.value in keys:
                yield value.start_mark.index
            yield from _meaning(value, keys, name.value)
