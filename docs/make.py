"""Write the references that follow from the program itself; a test holds the files to what this makes.

    python docs/make.py

The format of a charter from its model, the commands from their own help, the Python names from their docstrings.
"""

from __future__ import annotations

import ast
import inspect
import io
import os
import re
import runpy
import sys
from collections.abc import Iterator
from contextlib import chdir, redirect_stdout
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from unittest.mock import patch

import click

import ask_above
from ask_above import change
from ask_above.charter.names import listed
from ask_above.charter.reading import form
from ask_above.charter.reading import shapes as s
from ask_above.cli.main import PROGRAMS, SECTIONS, main
from ask_above.show import figures

DOCS = Path(__file__).parent
_MOST = 36
"""How many lines of what an example prints are shown."""

BEGIN, END = "<!-- what follows is made by docs/make.py from the model -->", "<!-- to here -->"

# -- the format


def format_reference() -> str:
    """Return the tables of every mapping that a charter is made of."""
    parts: list[str] = []
    seen: set[int] = set()
    waiting: list[tuple[str, s.Record]] = [("The charter", form.CHARTER)]
    while waiting:
        title, record = waiting.pop(0)
        if id(record) in seen:
            continue
        seen.add(id(record))
        parts += [f"## {title}", "", *_table(record), ""]
        inside = [each for field in record.fields.values() for each in _records(field.shape)]
        waiting = [*((_title(each.noun), each) for each in inside), *waiting]
    parts += ["## An add-on", "", "A file of its own, named under `add-ons`.", "", *_table(form.ADD_ON), ""]
    return "\n".join(parts)


def _title(noun: str) -> str:
    if noun.startswith("rules"):
        return noun[:1].upper() + noun[1:]
    return noun if noun[:1].isupper() else f"{noun[:1].upper()}{noun[1:]}"


def _table(record: s.Record) -> list[str]:
    rows = ["| key | what it says | what stands there |", "| --- | --- | --- |"]
    for key, field in record.fields.items():
        needed = " **(needed)**" if field.required else ""
        rows.append(f"| `{key}`{needed} | {field.about} | {_stands(field.shape)} |")
    if record.short:
        rows += ["", f"Where only `{record.short}` is to be said, it may stand alone: a text in place of the mapping."]
    return rows


def _records(shape: s.Shape) -> Iterator[s.Record]:
    if isinstance(shape, s.Record):
        yield shape
    elif isinstance(shape, s.ListOf | s.OneOrMore):
        yield from _records(shape.item)
    elif isinstance(shape, s.Mapped):
        yield from _records(shape.value)


def _stands(shape: s.Shape) -> str:
    """Say a shape in words."""
    if isinstance(shape, s.Choice):
        return listed((f"`{option}`" for option in shape.options), "or")
    if isinstance(shape, s.Key):
        return "a key" if shape.of == "kind" else f"the key of a {shape.of}"
    if isinstance(shape, s.Record):
        return f"[{shape.noun}](#{_title(shape.noun).lower().replace(' ', '-').replace('.', '')})"
    if isinstance(shape, s.OneOrMore):
        return f"{_stands(shape.item)}, or a list of such"
    if isinstance(shape, s.ListOf):
        what = "of texts" if isinstance(shape.item, s.TextField) else f"of such: {_stands(shape.item)}"
        return f"a list {what}{', at least one' if shape.least else ''}"
    if isinstance(shape, s.Mapped):
        names = "name" if shape.keys is None else shape.keys.of + (", or a rank and `+`" if shape.ranges else "")
        return f"{names} → {_stands(shape.value)}"
    if isinstance(shape, s.Later):
        return "[a place](#a-place)"
    named: dict[type, str] = {s.TextField: "text", s.YesNo: "`true` or `false`", s.Whole: "a whole number"}
    named |= {s.Zone: "the name of a time zone, such as `Europe/London`", s.CapabilityKey: "a capability's full name"}
    return named[type(shape)]


# -- the commands


def commands() -> str:
    """Return the help of every command, as it is shown."""
    parts = ["# The commands", "", "Each command's own help, as `--help` shows it. Made by `docs/make.py`.", ""]
    parts += ["```", help_of(main, None, "ask-above"), "```", ""]
    context = click.Context(main, info_name="ask-above", **main.context_settings)
    for heading, names in {**SECTIONS, "Programs": PROGRAMS}.items():
        parts += [f"## {heading}", ""]
        for name in (each for line in names for each in line.split(", ")):
            command = main.get_command(context, name)
            if command is None:
                raise LookupError(name)
            parts += [f"### {name}", "", "```", help_of(command, context, name), "```", ""]
            inside = click.Context(command, info_name=name, parent=context)
            for sub, each in (command.commands if isinstance(command, click.Group) else {}).items():
                parts += [f"#### {name} {sub}", "", "```", help_of(each, inside, sub), "```", ""]
    return "\n".join(parts)


def help_of(command: click.Command, parent: click.Context | None, name: str) -> str:
    """Return what ``--help`` shows in eighty columns, two of them left free."""
    settings: dict[str, Any] = {**command.context_settings, "terminal_width": 78}
    return command.get_help(click.Context(command, info_name=name, parent=parent, **settings)).rstrip()


# -- Python


def python_reference() -> str:
    """Return the public names with what their docstrings say."""
    parts = ["# From Python", "", "Every public name, from its own docstring. Made by `docs/make.py`.", ""]
    community = ask_above.Community
    parts += ["## Community", "", *_doc(community)]
    for name, member in sorted(inspect.getmembers(community), key=lambda each: _line(each[1])):
        if not name.startswith("_") and inspect.getdoc(member):
            parts += [f"### {_signature(name, member)}", "", *_doc(member)]
    parts += ["## Figures", "", "`from ask_above.show import figures`", ""]
    for name in figures.__all__:
        parts += [f"### {_signature(f'figures.{name}', getattr(figures, name))}", "", *_doc(getattr(figures, name))]
    parts += ["## Changes", "", "`from ask_above.change import Assign, ...`, for `Community.plan`.", ""]
    for name in change.__all__:
        each = getattr(change, name)
        if inspect.isclass(each) and hasattr(each, "on") and each is not change.Edit:
            parts += [f"### {_signature(name, each)}", "", *_doc(each)]
    parts += ["## What is given back, and what is raised", ""]
    for name in ask_above.__all__:
        each = getattr(ask_above, name)
        if name not in ("Community", "VISITOR"):
            parts += [f"### {name}", "", *_doc(each)]
        if each is ask_above.Storage:
            for method, function in sorted(inspect.getmembers(each, inspect.isfunction), key=lambda one: _line(one[1])):
                parts += [f"#### {_signature(method, function)}", "", *_doc(function)] if method[0] != "_" else []
    return "\n".join(parts)


def _line(member: Any) -> tuple[str, int]:
    """Return where something stands, for an order like the files'."""
    function = inspect.unwrap(getattr(member, "fget", None) or getattr(member, "__func__", member))
    code = getattr(function, "__code__", None)
    return (code.co_filename.rpartition("/")[2], code.co_firstlineno) if code else ("", 0)


def _signature(name: str, member: Any) -> str:
    if isinstance(member, property):
        return f"`{name}`"
    text = re.sub(r"<function .*?>", "...", str(inspect.signature(member)))
    text = re.sub(r"ForwardRef\('([^']*)'\)", r"\1", text)
    text = re.sub(r"(: |-> )'([^']*)'", r"\1\2", re.sub(r"\((self|cls)(, )?", "(", text))
    return f"`{name}{text}`"


def _doc(member: Any) -> list[str]:
    """Return a docstring as Markdown: examples in a block, references as plain names."""
    found, inside = [], False
    for line in (inspect.getdoc(member) or "").splitlines():
        starts = line.startswith(">>>")
        if starts and not inside:
            found.append("```python")
            inside = True
        if inside and not line.strip():
            found.append("```")
            inside = False
        plain = re.sub(r":[a-z]+:`~?([^`]*)`", lambda m: f"`{m[1].rpartition('.')[2]}`", line)
        found.append(line if inside else plain.replace("``", "`"))
    return [*found, *(["```"] if inside else []), ""]


# -- the examples


def printed(script: Path) -> str:
    """Return what a script prints, run in a folder of its own."""
    out, path, words = io.StringIO(), [*sys.path], [*sys.argv]
    sys.path.insert(0, str(script.parent))
    sys.argv[:] = [str(script)]  # nobody gives it any words of their own
    try:
        # as wide as into a pipe, whatever terminal this is made in
        wide = patch.dict(os.environ, {"COLUMNS": "100"})
        with TemporaryDirectory() as folder, chdir(folder), redirect_stdout(out), wide:
            runpy.run_path(str(script), run_name="__main__")
    finally:
        sys.path[:], sys.argv[:] = path, words
    return out.getvalue()


def examples() -> str:
    """Return every example with what it prints; of long ones the first lines."""
    parts = ["# Examples", "", "Scripts that run anywhere, each a job from start to end. Made by `docs/make.py`.", ""]
    for script in sorted((DOCS.parent / "examples").glob("*.py")):
        title, _, rest = (ast.get_docstring(ast.parse(script.read_text("utf-8"))) or "").partition("\n\n")
        lines = printed(script).splitlines()
        shown = lines if len(lines) <= _MOST else [*lines[:_MOST], f"... and {len(lines) - _MOST} lines more"]
        parts += [f"## [{script.name}](../examples/{script.name})", "", title, "", " ".join(rest.split()), ""]
        parts += ["```", *shown, "```", ""]
    return "\n".join(parts)


# -- all of it


def charter_format() -> str:
    """Return the page of the format, its tables made anew."""
    before, _, rest = (DOCS / "charter-format.md").read_text("utf-8").partition(BEGIN)
    return f"{before}{BEGIN}\n\n{format_reference()}\n{END}{rest.partition(END)[2]}"


FILES = {
    "charter-format.md": charter_format,
    "commands.md": commands,
    "python.md": python_reference,
    "examples.md": examples,
}
"""Every file that is made, and what makes it."""

if __name__ == "__main__":
    for name, make in FILES.items():
        (DOCS / name).write_text(make(), "utf-8")
