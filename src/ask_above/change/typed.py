"""The command that makes an edit, ready to be typed."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Mapping
from typing import Any

from ask_above.change.draft import Edit
from ask_above.change.people import Assign, MemberSet, MemberStatus, Unassign
from ask_above.change.places import Say, SetGate, SetLike
from ask_above.change.ranks import Grant, RankAdd, RankMove, RankSet, Withhold
from ask_above.change.whole import CharterAdd, CharterRemove, CharterSet
from ask_above.charter.names import SITE

_STATUS = {"locked": "lock", "retired": "retire", "active": "restore"}


def typed(edit: Edit) -> str:
    """Return the command for an edit.

    >>> typed(Grant("host", ["kit.lend"]))
    'ask-above rank grant host kit.lend'
    """
    return " ".join(["ask-above", *map(shlex.quote, _words(edit))])


def _words(edit: Edit) -> list[str]:
    match edit:
        case Grant(rank, names):
            return ["rank", "grant", rank, *names]
        case Withhold(rank, names):
            return ["rank", "withhold", rank, *names]
        case RankAdd(key, fields, above, below):
            spot = ["--above", above] if above else ["--below", below] if below else []
            return ["rank", "add", key, *(f"{name}={_field(value)}" for name, value in fields.items()), *spot]
        case RankMove(key, above, below):
            return ["rank", "move", key, *(["--above", above] if above else ["--below", below or ""])]
        case RankSet(key, fields):
            return ["rank", "set", key, *(f"{name}={_field(value)}" for name, value in fields.items())]
        case Assign(member, rank, place):
            return ["assign", rank, member, *_at(place)]
        case Unassign(member, rank, place):
            return ["unassign", rank, member, *_at(place)]
        case MemberSet(key, fields):
            return ["member", "set", key, *(w for name, value in fields.items() for w in (f"--{name}", value))]
        case MemberStatus(key, status, _):
            return ["member", _STATUS[status], key]
        case _:
            return _of_places(edit)


def _of_places(edit: Edit) -> list[str]:
    match edit:
        case Say(place, of, word, names, member):
            command = ["place", "except" if member else "override", place, of]
            how = "leave" if word == "clear" else word
            return [*command, *([f"--{how}", ",".join(names)] if names else ["--clear"])]
        case SetGate(place, gate):
            return ["place", "gate", place, *(_gate(gate) or ["--clear"])]
        case SetLike(place, sets):
            return ["place", "like", place, *sets]
        case CharterSet(path, value):
            return ["charter", "set", path, _field(value)]
        case CharterAdd(path, value):
            return ["charter", "add", path, _field(value)]
        case CharterRemove(path, value):
            return ["charter", "remove", path, *([] if value is None else [_field(value)])]
        case _:
            raise TypeError(f"{type(edit).__name__} has no command of its own")


def _at(place: str) -> list[str]:
    return [] if place == SITE else ["--at", place]


def _gate(gate: Mapping[str, Any]) -> list[str]:
    found = [w for word in ("any", "all", "none") if gate.get(word) for w in (f"--{word}", ",".join(gate[word]))]
    return [*found, *(["--teaser"] if gate.get("teaser") else [])]


def _field(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, Mapping):
        ((way, names),) = value.items()
        return f"{way}:{','.join(names)}"
    if isinstance(value, str):
        return value
    return ",".join(map(str, value)) if isinstance(value, Iterable) else str(value)
