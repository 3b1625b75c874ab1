"""Mutations of the demo's files, of their bytes and of the charter's tree; questions and command lines of any words."""

from __future__ import annotations

import inspect
from collections.abc import Iterator
from pathlib import Path
from random import Random
from typing import Any

import click
import yaml

import ask_above
from ask_above import Community, FaultyFilesError
from ask_above.cli.main import main
from ask_above.files.folder import read_files
from standard import as_yaml

FOLDER = Path(ask_above.__file__).parent / "demo" / "wren-valley"
SEEDS = {path.name: path.read_bytes() for path in sorted(FOLDER.iterdir())}
SPICE = [
    b"\t", b": ", b"- ", b"[", b"}", b'"', b"'", b"#", b"&a ", b"*a", b"*", b"\n", b"\r", b"\x00", b"\xff",
    b"\xc3\xa9", b"|\n", b"%", b"? ", b"!!x ",
]  # fmt: skip
VALUES: list[Any] = [
    "",
    "x",
    "no",
    "*",
    "post.*",
    "member+",
    [],
    {},
    ["x"],
    {"x": "y"},
    "1e9",
    "\u2028",
    "@a",
    "every",
    None,
]


def mutate(rng: Random, files: dict[str, bytes]) -> dict[str, bytes]:
    """Return the files with one of them changed a little."""
    changed = dict(files)
    name = rng.choice(list(files))
    if name == "charter.yaml" and rng.random() < 0.6:
        data = yaml.load(files[name], Loader=yaml.CBaseLoader)  # noqa: S506 (every scalar as text)
        for _ in range(rng.randint(1, 3)):
            _mutate_tree(rng, data)
        changed[name] = as_yaml(data).encode()
        return changed
    raw = bytearray(files[name])
    for _ in range(rng.randint(1, 4)):
        at = rng.randrange(len(raw) + 1)
        match rng.randrange(4):
            case 0:
                raw[at : at + rng.randint(0, 8)] = rng.choice(SPICE)
            case 1:
                del raw[at : at + rng.randint(1, 30)]
            case 2:
                raw[at:at] = raw[max(0, at - rng.randint(1, 40)) : at]
            case _:
                raw[at : at + 1] = bytes([rng.randrange(256)])
    changed[name] = bytes(raw)
    return changed


def _mutate_tree(rng: Random, data: Any) -> None:
    while isinstance(data, dict | list) and data:
        keys = list(data) if isinstance(data, dict) else range(len(data))
        key = rng.choice(list(keys))
        if not isinstance(data[key], dict | list) or not data[key] or rng.random() < 0.2:
            if rng.random() < 0.3:
                del data[key]
            else:
                data[key] = rng.choice(VALUES)
            return
        data = data[key]


def try_to_open(files: dict[str, bytes]) -> bool:
    """Open a community and ask it everything once; tell whether it could be read."""
    try:
        community = Community(*read_files(files.get, "charter.yaml"))
    except FaultyFilesError as error:
        for fault in error.faults:
            assert fault.message, fault
            assert fault.line >= 1, fault
            assert str(fault).count("\n") < 9, fault
        return False
    place = list(community.charter.places)[-1]
    community.grid(at=place)
    for each in community.unmet():
        assert str(each)
    for member in list(community.register.members)[:3]:
        for capability in community.charter.catalogue.keys[:5]:
            assert community.may(member, capability, at=place).reason
    return True


WORDS = ["", " ", "rank:", "rank:x", "@", "visitor", "*", "a\nb", "é" * 300, "site", "rank:warden", "dara", "owner"]
WORDS += ["../..", "reading.*", "reading.post", "notices", "now", "2026-13-45", "2026-12-01", "-1", "0", "1e9", "wiki"]
WORDS += ["landowners", "title=X", "limit=x", "=", "{", "{a: b}", "rules.timezone=x", "in", "by", "until", "-", "--"]
WORDS += [
    "surveyor", "tomas", "1", "members.csv", "x.html", "git:x", "yes", "html", "json", "ada@wren.example", "'", "%s",
]  # fmt: skip


def questions(rng: Random, community: Community) -> Iterator[tuple[str, dict[str, Any]]]:
    """Yield methods that answer, with any words for what they ask about."""
    answering = [
        (name, inspect.signature(getattr(community, name)))
        for name, _ in inspect.getmembers(type(community), inspect.isfunction)
        if not name.startswith("_") and name not in NO_QUESTIONS
    ]
    while True:
        name, signature = rng.choice(answering)
        asked = {}
        for each in signature.parameters.values():
            needed = each.default is each.empty and each.kind not in (each.VAR_POSITIONAL, each.VAR_KEYWORD)
            if needed or (rng.random() < 0.4 and any(word in str(each.annotation) for word in ("str", "Who", "When"))):
                many = any(kind in str(each.annotation) for kind in ("Iterable", "Sequence"))
                asked[each.name] = [rng.choice(WORDS)] if many else rng.choice(WORDS)
        yield name, asked


NO_QUESTIONS = ["plan", "may_many", "export_people", "audit", "kept_in", "open", "after", "of", "again", "from_texts"]
NO_QUESTIONS += ["demo", "impact", "shared_accounts", "table_blocks"]
"""Methods that want more than words."""


def command_lines(rng: Random) -> Iterator[list[str]]:
    """Yield lines of commands and options that there are, with any words for what they want."""
    known = [(path, command) for path, command in _commands(main, []) if path[0] not in ("serve", "demo", "help")]
    while True:
        path, command = rng.choice(known)
        line = list(path)
        for each in command.params:
            if isinstance(each, click.Argument):
                line += [rng.choice(WORDS) for _ in range(each.nargs if each.nargs > 0 else rng.randint(0, 3))]
            elif rng.random() < 0.2 and each.name not in ("community", "register"):
                choices = list(each.type.choices) if isinstance(each.type, click.Choice) else WORDS
                line += [each.opts[-1], *([] if getattr(each, "is_flag", False) else [str(rng.choice(choices))])]
        yield [*line, *(["--yes"] if rng.random() < 0.3 else [])]


def _commands(command: click.Command, path: list[str]) -> Iterator[tuple[list[str], click.Command]]:
    context = click.Context(command)
    for name in command.list_commands(context) if isinstance(command, click.Group) else ():
        inner = command.get_command(context, name) if isinstance(command, click.Group) else None
        if inner is not None:
            yield from _commands(inner, [*path, name])
    if path and not (isinstance(command, click.Group) and not command.invoke_without_command):
        yield path, command
