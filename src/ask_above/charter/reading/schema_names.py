"""The JSON Schema of one charter: with its own names, so that an editor offers them while one types.

The names are offered, not demanded: a rank that is about to be written is no fault of the form.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from ask_above.charter.charter import Charter
from ask_above.charter.reading.schema import json_schema

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


def schema_with_names(charter: Charter, members: Iterable[str]) -> dict[str, Any]:
    """Return the JSON Schema of a charter in which its own names are offered wherever a name belongs."""
    names = _names(charter, members)
    schema = json_schema()
    places = schema["$defs"]
    for part in (schema, places["place"]):
        _named(part, names, places)
    schema["title"] = f"The charter of {charter.title or charter.key}"
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
