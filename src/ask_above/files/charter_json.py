"""A charter as it was read, as JSON: kept beside the register under the digest of all that it was made from.

It is data alone: whatever stands there makes a charter or nothing. Texts that changed have another digest, and so has
another version of this package.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import Any, NamedTuple

from ask_above.charter.catalogue import Bundle, Capability, Catalogue, Words
from ask_above.charter.charter import Charter
from ask_above.charter.expectations import Expectation
from ask_above.charter.ladder import Perk, Rank
from ask_above.charter.places import Group, OverrideSet, Place
from ask_above.charter.rules import Rules
from ask_above.charter.where import Where
from ask_above.version import __version__

_FORMAT = 2


class _Kept(NamedTuple):
    """A charter's fields, with the catalogue taken apart."""

    key: str
    capabilities: dict[str, Capability]
    bundles: dict[str, Bundle]
    nobody: list[str]
    ranks: dict[str, Rank]
    places: dict[str, Place]
    title: str
    owner: str | None
    rules: Rules
    groups: dict[str, Group]
    override_sets: dict[str, OverrideSet]
    perks: dict[str, Perk]
    expectations: tuple[Expectation, ...]
    add_ons: tuple[str, ...]
    kinds: tuple[str, ...]


def key_of(texts: Mapping[str, str]) -> str:
    """Return the digest of a charter's texts by file name, and of what reads them."""
    return _key_of(tuple(texts.items()))


@lru_cache(maxsize=2)
def _key_of(texts: tuple[tuple[str, str], ...]) -> str:
    import hashlib

    total = hashlib.blake2b(f"{_FORMAT} {__version__} {_shape(Charter)}".encode(), digest_size=24)
    for name, text in texts:
        raw = text.encode("utf-8")
        total.update(f"\0{name}\0{len(raw)}\0".encode())
        total.update(raw)
    return total.hexdigest()


def _shape(kind: Any) -> str:
    """Return the names of all fields that a charter is made of, so that another shape has another digest."""
    kinds = (kind, Capability, Bundle, Rank, Place, Rules, Group, OverrideSet, Perk, Expectation)
    return ";".join(",".join(each._fields) for each in kinds)


def dumped(charter: Charter) -> bytes:
    """Return a charter as JSON."""
    import msgspec

    fields: dict[str, Any] = charter._asdict()
    catalogue: Catalogue = fields.pop("catalogue")
    kept = _Kept(
        capabilities=dict(catalogue.capabilities),
        bundles=dict(catalogue.bundles),
        nobody=sorted(catalogue.nobody),
        **fields,
    )
    return msgspec.json.encode(kept, enc_hook=_to_plain)


def loaded(content: bytes) -> Charter | None:
    """Return the charter that JSON says, ``None`` where it says none."""
    import msgspec

    try:
        kept = msgspec.json.decode(content, type=_Kept, dec_hook=_from_plain)
    except (msgspec.ValidationError, msgspec.DecodeError, ValueError, TypeError):
        return None
    said = kept._asdict()
    catalogue = Catalogue(said.pop("capabilities"), said.pop("bundles"), frozenset(said.pop("nobody")))
    return Charter(catalogue=catalogue, **said)


def _to_plain(each: Any) -> Any:
    if isinstance(each, Words):
        return each.words, each.where
    if isinstance(each, Mapping):
        return dict(each)
    raise NotImplementedError(type(each))


def _from_plain(kind: type, said: Any) -> Any:
    if kind is Words:
        words, (file, line, column) = said
        return Words(tuple(map(str, words)), Where(str(file), int(line), int(column)))
    raise NotImplementedError(kind)
