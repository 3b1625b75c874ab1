"""The form of a charter as a JSON Schema, so that editors complete and check it while it is being written.

It holds a charter to its form, and with names to be offered to those too: a loop, a contradiction are found by reading.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import singledispatch
from typing import Any

from ask_above.charter.charter import Charter
from ask_above.charter.names import RESERVED
from ask_above.charter.reading import form
from ask_above.charter.reading import shapes as s

_KEY = "[a-z0-9][a-z0-9_-]*"
_SCALAR = ["string", "number", "boolean"]
"""Every scalar is read as text, and an editor's YAML takes some for numbers."""
_VALUES = {
    **dict.fromkeys(("allow", "deny", "bar", "grants", "withhold", "bundles"), "words"),
    **dict.fromkeys(("nobody", "implies", "needs", "leads-to"), "capabilities"),
    **dict.fromkeys(("using", "naming", "seeing", "contacts"), "capabilities"),
    **dict.fromkeys(("builds-on", "after", "apart-from", "copied-from", "rank", "only", "except"), "ranks"),
    **dict.fromkeys(("any", "all", "none"), "sets of members"),
    **dict.fromkeys(("kind", "kinds"), "kinds"),
    "like": "override sets",
    "includes": "groups",
    "place": "places",
    "owner": "members",
}
"""For each field whose value is a name, or a list of names, what it is a name of."""
_KEYS = {"overrides": "who differs", "override-sets": "", "exceptions": "members", "perks": "perks"}
"""For each field whose keys are names, what they are names of."""


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema of a charter (draft 2020-12).

    >>> json_schema()["properties"]["ranks"]["items"]["properties"]["limit"]["description"]
    'how many members may have it'
    """
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A charter of Ask Above",
        **said(form.CHARTER),
        "$defs": {"place": said(form.PLACE)},
    }


@singledispatch
def said(shape: s.Shape) -> dict[str, Any]:
    """Return what a shape lets stand, as a schema."""
    raise NotImplementedError(type(shape).__name__)


@said.register(s.TextField)
@said.register(s.Zone)
def _(_: s.Shape) -> dict[str, Any]:
    return {"type": _SCALAR}


@said.register
def _(shape: s.Key) -> dict[str, Any]:
    found: dict[str, Any] = {"type": _SCALAR, "pattern": f"^{_KEY}$"}
    return found if shape.free else found | {"not": {"enum": sorted(RESERVED)}}


@said.register
def _(_: s.CapabilityKey) -> dict[str, Any]:
    return {"type": "string", "pattern": r"^[a-z0-9][a-z0-9_-]*(\.[a-z0-9][a-z0-9_-]*)+$"}


@said.register
def _(_: s.YesNo) -> dict[str, Any]:
    return {"enum": [True, False, *sorted(s.YES | s.NO)]}


@said.register
def _(_: s.Whole) -> dict[str, Any]:
    return {"anyOf": [{"type": "integer", "minimum": 0}, {"type": "string", "pattern": "^[0-9]{1,9}$"}]}


@said.register
def _(shape: s.Choice) -> dict[str, Any]:
    numbers = [int(option) for option in shape.options if option.isdigit()]
    return {"enum": [*shape.options, *numbers]}


@said.register
def _(shape: s.ListOf) -> dict[str, Any]:
    least = {"minItems": shape.least} if shape.least else {}
    return {"type": "array", "items": said(shape.item), **least}


@said.register
def _(shape: s.OneOrMore) -> dict[str, Any]:
    return {"anyOf": [said(shape.item), said(s.ListOf(shape.item, 1))]}


@said.register
def _(shape: s.Mapped) -> dict[str, Any]:
    schema: dict[str, Any] = {"type": "object", "additionalProperties": said(shape.value)}
    if shape.keys is not None:
        names: dict[str, Any] = {"pattern": rf"^{_KEY}\+?$" if shape.ranges else f"^{_KEY}$"}
        schema["propertyNames"] = names if shape.keys.free else names | {"not": {"enum": sorted(RESERVED)}}
    return schema


@said.register
def _(shape: s.Record) -> dict[str, Any]:
    whole: dict[str, Any] = {
        "type": "object",
        "properties": {key: {"description": field.about, **said(field.shape)} for key, field in shape.fields.items()},
        "additionalProperties": False,
    }
    if shape.required:
        whole["required"] = list(shape.required)
    return whole if shape.short is None else {"anyOf": [said(shape.fields[shape.short].shape), whole]}


@said.register
def _(_: s.Later) -> dict[str, Any]:
    return {"$ref": "#/$defs/place"}


def schema_with_names(charter: Charter, members: Iterable[str]) -> dict[str, Any]:
    """Return the JSON Schema of a charter in which its own names are offered wherever a name belongs."""
    names = _names(charter, members)
    schema = json_schema()
    places = schema["$defs"]
    for part in (schema, places["place"]):
        _named(part, names, places)
    schema["title"] = f"The charter of {charter.title}"
    return schema


def _names(charter: Charter, members: Iterable[str]) -> dict[str, list[str]]:
    ranks, groups = list(charter.ranks), list(charter.groups)
    capabilities = [*charter.catalogue.keys, *charter.catalogue.pairs]
    kinds = {place.kind for place in charter.places.values() if place.parent is not None} | {*charter.kinds}
    return {
        "ranks": ranks,
        "groups": groups,
        "sets of members": [*groups, *ranks, *(f"{rank}+" for rank in ranks)],
        "who differs": [*ranks, *(f"{rank}+" for rank in ranks), *groups],
        "capabilities": capabilities,
        "words": [*charter.catalogue.bundles, *capabilities],
        "kinds": sorted(kinds | {"site"}),
        "places": list(charter.places),
        "members": sorted(members),
        "perks": list(charter.perks),
        "override sets": list(charter.override_sets),
    }


def _named(schema: dict[str, Any], names: dict[str, list[str]], parts: dict[str, Any]) -> None:
    """Go through a schema and offer names where they belong."""
    for field, inner in schema.get("properties", {}).items():
        if field in _VALUES:
            _offer(inner, names[_VALUES[field]])
        if field in _KEYS and inner.get("additionalProperties"):
            _offer_keys(field, inner, names.get(_KEYS[field], []), parts)
        _named(inner, names, parts)
    for inner in _inner(schema):
        _named(inner, names, parts)


def _inner(schema: dict[str, Any]) -> list[dict[str, Any]]:
    """Return what a schema is put together from, its fields left out."""
    found = [schema[key] for key in ("items", "additionalProperties") if isinstance(schema.get(key), dict)]
    return found + list(schema.get("anyOf", ()))


def _offer(schema: dict[str, Any], names: list[str]) -> None:
    """Offer names in the place of every text of a value, a list of values, or a mapping to such."""
    if not names:
        return
    for inner in _inner(schema):
        _offer(inner, names)
    if "type" in schema and schema["type"] not in ("array", "object"):
        as_it_was = dict(schema)
        description = {"description": as_it_was.pop("description")} if "description" in as_it_was else {}
        schema.clear()
        schema.update(description, anyOf=[{"enum": names}, as_it_was])


def _offer_keys(field: str, schema: dict[str, Any], names: list[str], parts: dict[str, Any]) -> None:
    """Offer names as the keys of a mapping."""
    value = schema["additionalProperties"]
    if "properties" in value and "$ref" not in value:
        parts.setdefault(f"one-of-{field}", value)
        value = {"$ref": f"#/$defs/one-of-{field}"}
        schema["additionalProperties"] = value
    schema["properties"] = dict.fromkeys(names, value)
