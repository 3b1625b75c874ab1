"""The shape of an edit: each of its fields is of the kind that is written beside it, before anything reads it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from collections.abc import Set as AbstractSet
from datetime import date
from functools import cache
from types import UnionType
from typing import Any, NamedTuple, Union, cast, get_args, get_origin, get_type_hints

from ask_above.change.draft import Done, Edit, EditError
from ask_above.visible import has_unseen, is_plain, visible

_CALLED = {str: "text", bool: "true or false", type(None): "nothing", Sequence: "a list", Mapping: "a mapping"}


_OF_MANY_LINES = ("about", "note", "why", "said")
"""What may have line breaks in it."""


class _Field(NamedTuple):
    name: str
    kind: Any
    default: Any


def shaped(edit: Edit) -> Edit:
    """Return an edit whose fields are of their kinds.

    What is left out as ``None`` is as if it was not given, a date or a moment is written in ISO 8601, and whatever can
    be gone through once is a list. Raises :class:`EditError` where a field holds something of another kind.
    """
    fields = {}
    if not hasattr(edit, "on"):
        raise EditError(f"{edit!r} is no edit; the edits are in ask_above.change.")
    for field in _fields(type(edit)):
        value = getattr(edit, field.name)
        meant = _meant(value, field)
        if not _is(meant, field.kind):
            wanted = " or ".join(_in_words(field.kind))
            raise EditError(f"{type(edit).__name__}: {field.name} is {wanted}, not {value!r}.")
        if meant is not value:
            fields[field.name] = meant
    return cast("Edit", cast("Any", edit)._replace(**fields)) if fields else edit


@cache
def _fields(kind: type[Any]) -> tuple[_Field, ...]:
    known, defaults = getattr(kind, "_fields", ()), getattr(kind, "_field_defaults", {})
    hints = get_type_hints(kind)
    return tuple(_Field(name, hints[name], defaults.get(name)) for name in known)


def _meant(value: Any, field: _Field) -> Any:
    base, inner = get_origin(field.kind) or field.kind, get_args(field.kind)
    if value is None and field.default is not None:
        return field.default
    if base is str and isinstance(value, date):
        return value.isoformat()
    if base is Sequence and isinstance(value, Iterable) and not isinstance(value, str | bytes | Mapping | Sequence):
        return tuple(sorted(value, key=str) if isinstance(value, AbstractSet) else value)
    if base is Mapping and isinstance(value, Mapping) and inner[1] is str:
        return {key: "" if each is None else _meant(each, _Field("", str, None)) for key, each in value.items()}
    return value


def _is(value: Any, kind: Any) -> bool:
    base, inner = get_origin(kind) or kind, get_args(kind)
    if kind is Any:
        return True
    if base is Sequence:
        listed = isinstance(value, Sequence) and not isinstance(value, str | bytes)
        return listed and all(_is(each, inner[0]) for each in value)
    if base is Mapping:
        return isinstance(value, Mapping) and all(_is(k, inner[0]) and _is(v, inner[1]) for k, v in value.items())
    if base in (Union, UnionType):
        return any(_is(value, each) for each in inner)
    return isinstance(value, base)


def _in_words(kind: Any) -> Iterator[str]:
    base, inner = get_origin(kind) or kind, get_args(kind)
    if base in (Sequence, Mapping):
        of = " of text" if inner[-1] is str else ""
        yield f"{_CALLED[base]}{of}"
    elif base in (Union, UnionType):
        for each in inner:
            yield from _in_words(each)
    else:
        yield _CALLED.get(base, base.__name__)


def of_plain_text(done: Done) -> Done:
    """Return what an edit comes to; raises :class:`EditError` where it writes what cannot be seen.

    Control characters, line breaks and what turns the direction of reading would let a title or a name look like
    something else wherever it is shown.
    """
    for step in done.steps:
        for value in step:
            _check(value, next((each for each in reversed(getattr(step, "path", ())) if isinstance(each, str)), ""))
    for row in done.rows:  # what was written by hand before does not keep the rest from being changed
        before, after = row.before or {}, row.after or {}
        for name, cell in () if is_plain("".join(after.values())) else after.items():
            if cell != before.get(name, ""):
                _check(cell, name)
    return done


def _check(value: Any, name: str) -> None:
    if isinstance(value, str):
        if has_unseen(value.replace("\n", "") if name in _OF_MANY_LINES else value, badge=name == "badge"):
            said = f"The {name} '{visible(value)}'" if name else f"'{visible(value)}'"
            raise EditError(f"{said} holds a character that cannot be seen; type it anew, in one line.")
    elif isinstance(value, Mapping):
        for key, item in value.items():
            _check(key, "")
            _check(item, str(key))
    elif isinstance(value, Sequence):
        for item in value:
            _check(item, name)
