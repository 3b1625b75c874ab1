"""Shapes: what may stand where in a file, and the readers that hold plain data to it.

A shape reads a value into clean data, or notes a fault and returns ``BAD``. The tables in ``form.py`` are made of them.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from typing import Any, ClassVar, Final, NamedTuple

from ask_above.charter.moments import zone, zone_names
from ask_above.charter.names import RESERVED, few, is_capability, is_key, nearest, nearest_field
from ask_above.charter.reading.document import Document, Path, describe

_MOST_TOLD = 4

BAD: Final = object()
"""What a shape returns for a value that cannot be meant."""

YES = frozenset({"true", "yes", "on"})
NO = frozenset({"false", "no", "off"})


class Shape(ABC):
    """What may stand at one spot of a file."""

    expected: ClassVar[str] = ""

    @abstractmethod
    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Return the clean value, or note a fault and return ``BAD``."""

    def refuse(self, value: Any, path: Path, document: Document) -> Any:
        """Note that something else stands where this belongs."""
        if value is None:
            return swallowed(path, document, self.expected)
        document.fault(
            path, "wrong-shape", f"{describe(value)} stands where {self.expected} belongs", expected=self.expected
        )
        return BAD


def swallowed(path: Path, document: Document, expected: str) -> Any:
    """Note that nothing stands where something belongs, and why YAML may have taken it for nothing."""
    line = document.where(path).line
    source = document.lines[line - 1] if 0 < line <= len(document.lines) else ""
    # color: #257292 is a comment to YAML, and nobody sees why
    _, mark, comment = source.partition("#")
    if mark and not comment.startswith((" ", "\t")) and comment.strip():
        value = f"#{comment.split(' #')[0].strip()}"
        message = f'nothing is read here: in YAML # starts a comment; write the value in quotes: "{value}"'
    else:
        message = f"nothing stands here; write {expected}, or leave the whole key out"
    document.fault(path, "swallowed", message, expected=expected)
    return BAD


class TextField(Shape):
    """One line of text, read as it stands."""

    expected = "text"

    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Return the text."""
        return value if isinstance(value, str) else self.refuse(value, path, document)


class Key(Shape):
    """A key: small letters, digits, ``-`` and ``_``; never a reserved word unless ``free``."""

    expected = "a key of small letters, digits, - and _"

    def __init__(self, of: str, *, free: bool = False) -> None:
        self.of, self.free = of, free

    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Return the key."""
        if not isinstance(value, str):
            return self.refuse(value, path, document)
        return value if check_key(value, self, path, document) else BAD


def check_key(text: str, shape: Key, path: Path, document: Document, *, on_key: bool = False) -> bool:
    """Note a fault where ``text`` cannot be a key (rules 1.2 and 1.3)."""
    if not is_key(text):
        # what is almost a key, such as River Talk, has a key in it
        better = "".join(ch if ch.isalnum() or ch in "-_" else "-" for ch in text.lower()).strip("-_")
        hint = (better,) if is_key(better) and better.isascii() else ()
        message = f"'{text}' cannot be the key of a {shape.of}"
        document.fault(path, "bad-key", message, expected=shape.expected, nearest=hint, on_key=on_key)
        return False
    if text in RESERVED and not shape.free:
        message = f"'{text}' is a reserved word and cannot be the key of a {shape.of}"
        document.fault(
            path, "reserved-word", message, expected="another key; the title may say anything", on_key=on_key
        )
        return False
    return True


class YesNo(Shape):
    """True or false."""

    expected = "true or false"

    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Return a bool."""
        said = value.lower() if isinstance(value, str) else ""
        if said in YES or said in NO:
            return said in YES
        return self.refuse(value, path, document)


class Whole(Shape):
    """A whole number, 0 or more."""

    expected = "a whole number"

    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Return an int."""
        # other digits than 0 to 9 are digits to Python
        if isinstance(value, str) and value.isascii() and value.isdigit() and len(value) < 10:  # noqa: PLR2004
            return int(value)
        return self.refuse(value, path, document)


class Zone(Shape):
    """The name of a time zone."""

    expected = "the name of a time zone, such as Europe/London"

    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Return the name."""
        if not isinstance(value, str):
            return self.refuse(value, path, document)
        if zone(value) is None:
            near = nearest_zone(value)
            document.fault(
                path, "unknown-zone", f"there is no time zone '{value}'", expected=self.expected, nearest=near
            )
            return BAD
        return value


def nearest_zone(name: str) -> tuple[str, ...]:
    """Return the time zones most like ``name``, whatever their letters' case."""
    spelled = {known.lower(): known for known in zone_names()}
    return tuple(spelled[match] for match in nearest(name, spelled))


class CapabilityKey(Shape):
    """The key of a capability."""

    expected = "a capability: words joined by dots, such as post.write"

    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Return the key."""
        if isinstance(value, str) and is_capability(value):
            return value
        return self.refuse(value, path, document)


class Choice(Shape):
    """One of a few words."""

    def __init__(self, options: tuple[str, ...]) -> None:
        self.options = options

    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Return the word."""
        expected = " or ".join((", ".join(self.options[:-1]), self.options[-1])).removeprefix(" or ")
        if isinstance(value, str) and value in self.options:
            return value
        if value is None:
            return swallowed(path, document, expected)
        near = nearest(value, self.options) if isinstance(value, str) else ()
        document.fault(
            path, "unknown-word", f"{describe(value)} is none of {expected}", expected=expected, nearest=near
        )
        return BAD


class ListOf(Shape):
    """A list."""

    expected = "a list, such as [one, two]"

    def __init__(self, item: Shape, least: int = 0) -> None:
        self.item, self.least = item, least

    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Return a list of the clean items."""
        if not isinstance(value, list):
            if isinstance(value, str):
                message = f"{describe(value)} stands where a list belongs; write [{value}]"
                document.fault(path, "wrong-shape", message, expected=self.expected)
                return BAD
            return self.refuse(value, path, document)
        if len(value) < self.least:
            document.fault(path, "empty", "an empty list means nothing here", expected="at least one entry")
            return BAD
        item, clean = self.item, []
        for n, each in enumerate(value):
            read = item.read(each, (*path, n), document)
            if read is not BAD:
                clean.append((n, read))
        return clean


class OneOrMore(Shape):
    """One thing, or a list of such."""

    def __init__(self, item: Shape) -> None:
        self.item = item

    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Return a list of the clean items; a single one has no number in its path."""
        if isinstance(value, list):
            return ListOf(self.item, 1).read(value, path, document)
        read = self.item.read(value, path, document)
        return BAD if read is BAD else [(None, read)]


class Mapped(Shape):
    """A mapping from keys of the administrator's own to values of one shape; ``ranges`` lets keys end in +."""

    expected = "a mapping of lines like key: value"

    def __init__(self, value: Shape, keys: Key | None = None, *, ranges: bool = False) -> None:
        self.value, self.keys, self.ranges = value, keys, ranges

    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Return a dict of the clean values."""
        if not isinstance(value, dict):
            return self.refuse(value, path, document)
        clean: dict[str, Any] = {}
        for key, item in value.items():
            here = (*path, key)
            bare = key[:-1] if self.ranges and key.endswith("+") else key
            if self.keys is not None and not check_key(bare, self.keys, here, document, on_key=True):
                continue
            read = self.value.read(item, here, document)
            if read is not BAD:
                clean[key] = read
        return clean


class Field(NamedTuple):
    """One key of a record: what stands there, what it is for, whether it must be there."""

    shape: Shape
    about: str
    required: bool = False


class Record(Shape):
    """A mapping with known keys.

    ``short`` names the key that a lone text stands for. A ``partial`` record gives what could be read of it even where
    something that must be there is not, so that the faults in the rest are found in the same run.
    """

    def __init__(
        self, noun: str, fields: Mapping[str, Field], *, short: str | None = None, partial: bool = False
    ) -> None:
        self.noun, self.fields, self.short, self.partial = noun, fields, short, partial
        self.required = tuple(key for key, known in fields.items() if known.required)

    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Return a dict of the clean values of the keys that are there."""
        if isinstance(value, str) and self.short is not None:
            read = self.fields[self.short].shape.read(value, path, document)
            return BAD if read is BAD else {self.short: read}
        if not isinstance(value, dict):
            return self._refuse(value, path, document)
        clean: dict[str, Any] = {}
        for key, item in value.items():
            known = self.fields.get(key)
            if known is None:
                self._unknown(key, (*path, key), document)
                continue
            read = known.shape.read(item, (*path, key), document)
            if read is not BAD:
                clean[key] = read
        for key in self.required:
            if key in value:
                continue
            message = f"{self.noun} needs a line '{key}:' ({self.fields[key].about})"
            document.fault(path, "missing", message, expected=f"{key}: ...")
        # without what must be there nothing that names this can be checked: its own faults are enough
        if self.partial or not self.required or clean.keys() >= set(self.required):
            return clean
        return BAD

    def _refuse(self, value: Any, path: Path, document: Document) -> Any:
        expected = f"a mapping of lines like key: value for {self.noun}"
        if value is None:
            return swallowed(path, document, expected)
        document.fault(path, "wrong-shape", f"{describe(value)} stands where {expected} belongs", expected=expected)
        return BAD

    def _unknown(self, key: str, path: Path, document: Document) -> None:
        near = nearest_field(key, self.fields)
        # most often a field is not misspelt but stands one level too high
        inside = tuple(name for name, each in self.fields.items() if key in getattr(each.shape, "fields", ()))
        if key == "<<":
            message = "'<<' would merge another mapping in; this format does not read that: write the lines out"
        elif inside:
            message, near = f"{self.noun} has no field '{key}'; it stands under {few(inside, _MOST_TOLD, 'or')}", ()
        else:
            message = f"{self.noun} has no field '{key}'"
        known = ", ".join(self.fields)
        document.fault(path, "unknown-key", message, expected=f"one of {known}", nearest=near, on_key=True)


class Later(Shape):
    """A shape that contains itself, named before it is there."""

    def __init__(self, shape: Callable[[], Shape]) -> None:
        self.shape = shape

    def read(self, value: Any, path: Path, document: Document) -> Any:
        """Read as the shape does."""
        return self.shape().read(value, path, document)
