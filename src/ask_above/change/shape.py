"""The shape of an edit: each of its fields is of the kind that is written beside it, before anything reads it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from types import UnionType
from typing import Any, Union, get_args, get_origin, get_type_hints

from ask_above.change.draft import Edit, EditError

_CALLED = {str: "text", bool: "true or false", type(None): "nothing", Sequence: "a list", Mapping: "a mapping"}


def check_shape(edit: Edit) -> None:
    """Raise :class:`EditError` where a field of an edit holds something of another kind."""
    for name, kind in _fields(type(edit)):
        value = getattr(edit, name)
        if not _is(value, kind):
            wanted = " or ".join(_in_words(kind))
            raise EditError(f"{type(edit).__name__}: {name} is {wanted}, not {value!r}.")


@cache
def _fields(kind: type[Any]) -> tuple[tuple[str, Any], ...]:
    known = getattr(kind, "_fields", ())
    return tuple((name, hint) for name, hint in get_type_hints(kind).items() if name in known)


def _is(value: Any, kind: Any) -> bool:
    base, inner = get_origin(kind) or kind, get_args(kind)
    if kind is Any:
        return True
    if base is Sequence:
        return (
            isinstance(value, Sequence) and not isinstance(value, str | bytes) and all(_is(x, inner[0]) for x in value)
        )
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
