"""The form of a charter as a JSON Schema, so that editors complete and check it while it is being written.

It holds a charter to its form, not to its names: a rank that nothing has, a loop, a contradiction are found by reading.
"""

from __future__ import annotations

from functools import singledispatch
from typing import Any

from ask_above.charter.names import RESERVED
from ask_above.charter.reading import form
from ask_above.charter.reading import shapes as s

_KEY = "[a-z0-9][a-z0-9_-]*"
_SCALAR = ["string", "number", "boolean"]
"""Every scalar is read as text, and an editor's YAML takes some for numbers."""


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
