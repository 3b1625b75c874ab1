"""Take steps on a charter's text: only the lines concerned change, everything else stays byte for byte."""

from __future__ import annotations

import json
import re
from bisect import bisect
from collections.abc import Iterable, Mapping
from itertools import pairwise
from typing import Any, NamedTuple

import yaml

from ask_above.change.steps import Drop, Insert, MoveItem, Path, Put, Rename, Step, at, there
from ask_above.errors import AskAboveError, StoreError
from ask_above.files.yaml_text import compose, plain

_PLAIN = re.compile(r"[\w.*/][\w.*/ @+-]*", re.UNICODE)


class AliasError(AskAboveError, ValueError):
    """What a change concerns is shared by an alias."""

    def __str__(self) -> str:
        return str(self.args[0])


class Splice(NamedTuple):
    """A piece of text, from ``start`` on, that is replaced by another."""

    start: int
    old: str
    new: str


def apply(text: str, splice: Splice) -> str:
    """Return the text with one piece replaced."""
    end = splice.start + len(splice.old)
    if text[splice.start : end] != splice.old:
        raise ValueError(splice)
    return text[: splice.start] + splice.new + text[end:]


def as_before(texts: Mapping[str, str], pieces: Iterable[tuple[str, int, str, str]]) -> dict[str, str]:
    """Return texts by file as they were before pieces of them were replaced.

    A file that the charter came to name, or names no longer, is one piece; it is among the texts while it is named.
    Raises :class:`StoreError` where a text is another than the pieces were taken from.
    """
    earlier = dict(texts)
    for name, start, old, new in reversed([*pieces]):
        try:
            text = apply(earlier.pop(name, ""), Splice(start, new, old))
        except ValueError:
            said = f"What {name} held earlier is not known: the journal does not fit it. Ask for a later state."
            raise StoreError(said) from None
        if text:
            earlier[name] = text
    return earlier


def edited(text: str, steps: list[Step], source: SourceText | None = None) -> tuple[str, list[Splice]]:
    """Take steps one after another; return the text afterwards and the pieces that were replaced, in order.

    ``source`` is the text taken apart, where it is already.
    """
    splices: list[Splice] = []
    while steps:
        # read again only where a step may have changed what the next one looks at: reading is what takes long
        apart = (source or SourceText(text)).apart(steps)
        source = None
        for splice in _one_after_another(apart):
            text = apply(text, splice)
            splices.append(splice)
        steps = steps[len(apart) :]
    return text, splices


def _one_after_another(apart: list[list[Splice]]) -> list[Splice]:
    """Return pieces of one text so that each counts on those before it, as those of one step do already."""
    if len(apart) == 1:
        return apart[0]
    splices: list[Splice] = []
    for (splice,) in apart:
        start = splice.start
        for each in splices:
            start += len(each.new) - len(each.old) if each.start < start else 0
        splices.append(splice._replace(start=start))
    return splices


class SourceText:
    """A YAML text with the place of every node in it."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.root = compose(text)
        self.data = plain(self.root)
        self.aliased = _aliased(self.root)
        self.newline = "\r\n" if "\r\n" in text else "\n"

    def splices(self, step: Step) -> list[Splice]:
        """Return the pieces to replace for one step; each counts on those before it.

        Raises :class:`AliasError` where what would change is written once and stands in several places.
        """
        self._check_aliases(step.path)
        match step:
            case Put(path, value):
                return [self._put(path, value)]
            case Drop(path):
                return [self._drop(path)]
            case Insert(path, index, value):
                return [self._insert(path, index, value)]
            case MoveItem(path, to, index):
                return self._move(path, to, index)
            case Rename(path, name):
                key, _ = self._entry(path)
                return [self._replace(key.start_mark.index, key.end_mark.index, scalar(name))]
        raise TypeError(step)

    def apart(self, steps: list[Step]) -> list[list[Splice]]:
        """Return the pieces to replace for as many of the first steps as have nothing to do with one another.

        Each step has a mapping or list that it changes: of two that are apart neither holds the other, and their
        pieces of text do not meet. So each finds what it would find after the others.
        """
        pieces: list[list[Splice]] = []
        changed, holding = set[Path](), set[Path]()
        spans: list[tuple[int, int]] = []
        for step in steps:
            # what is moved is looked for in two places; what an alias shares may not be shared after a step
            alone = isinstance(step, MoveItem) or self.aliased
            path = () if alone else self._changes(step)
            above = {path[:depth] for depth in range(len(path) + 1)}
            if pieces and (alone or path in holding or not above.isdisjoint(changed)):
                break
            splices = self.splices(step)
            if alone:
                return [splices]
            span = splices[0].start, splices[0].start + len(splices[0].old)
            n = bisect(spans, span)
            if any(
                one[0] == two[0] or one[1] > two[0]
                for one, two in pairwise((*spans[n - 1 : n], span, *spans[n : n + 1]))
            ):
                break
            pieces.append(splices)
            spans.insert(n, span)
            changed.add(path)
            holding |= above
        return pieces

    def _changes(self, step: Step) -> Path:
        """Return the path of the mapping or list in which a step changes something, or of the value it replaces."""
        path = step.path if isinstance(step, Put | Insert) else step.path[:-1]
        while path and not there(self.data, path):
            path = path[:-1]
        # as in _drop: what would be left empty goes too
        while path and isinstance(step, Drop) and len(at(self.data, path)) == 1:
            path = path[:-1]
        return path

    # -- finding

    def _check_aliases(self, path: Path) -> None:
        node = self.root
        for step in path:
            if id(node) in self.aliased:
                break
            inner = _child(node, step)
            if inner is None:
                return
            node = inner
        if id(node) in self.aliased:
            line = node.start_mark.line + 1
            raise AliasError(f"What stands on line {line} stands in several places by an alias; change it by hand.")

    def _node(self, path: Path) -> Any:
        node = self.root
        for step in path:
            if isinstance(node, yaml.MappingNode):
                node = next(value for key, value in node.value if key.value == step)
            else:
                node = node.value[step]
        return node

    def _entry(self, path: Path) -> tuple[Any, Any]:
        """Return the key and the value of a mapping's entry."""
        mapping = self._node(path[:-1])
        return next((key, value) for key, value in mapping.value if key.value == path[-1])

    def _replace(self, start: int, end: int, new: str) -> Splice:
        return Splice(start, self.text[start:end], new)

    def _end(self, node: Any) -> int:
        """Return where what is written of a node ends; a block's mark stands further down."""
        if isinstance(node, yaml.ScalarNode):
            end = node.end_mark.index
            # a block scalar's mark lies behind the blank lines after it, which belong to nobody
            while node.style in ("|", ">") and end > node.start_mark.index and self.text[end - 1].isspace():
                end -= 1
            return int(end)
        if node.flow_style:
            return int(node.end_mark.index)
        last = node.value[-1]
        return self._end(last[1] if isinstance(last, tuple) else last) or int(node.end_mark.index)

    def _entry_end(self, key: Any, value: Any) -> int:
        """Return where an entry ends; one without a value ends with its colon."""
        if isinstance(value, yaml.ScalarNode) and not value.value and value.style is None:
            return self.text.index(":", key.end_mark.index) + 1
        return self._end(value)

    def _line_start(self, at: int) -> int:
        return self.text.rfind("\n", 0, at) + 1

    def _line_end(self, at: int) -> int:
        """Return the place after the line that holds ``at``, its break included."""
        found = self.text.find("\n", at)
        return len(self.text) if found < 0 else found + 1

    def _indent(self, at: int) -> int:
        return at - self._line_start(at)

    # -- putting

    def _put(self, path: Path, value: Any) -> Splice:
        if isinstance(path[-1], int):
            node = self._node(path)
            return self._replace(node.start_mark.index, self._end(node), flow(value))
        depth = len(path) - 1
        # what is missing on the way is made where the way ends
        while depth and not there(self.data, path[:depth]):
            depth -= 1
        inner = value
        for key in reversed(path[depth + 1 :]):
            inner = {key: inner}
        return self._put_here(path[:depth], str(path[depth]), inner)

    def _put_here(self, path: Path, key: str, value: Any) -> Splice:
        mapping = self._node(path)
        entry = next(((k, v) for k, v in mapping.value if k.value == key), None)
        if entry is not None:
            return self._put_over(*entry, value)
        if mapping.flow_style:
            return self._add_in_flow(mapping, f"{scalar(key)}: {flow(value)}")
        column = self._indent(mapping.value[0][0].start_mark.index)
        return self._add_line(mapping, block_entry(key, value, column, self.newline))

    def _put_over(self, key: Any, value: Any, new: Any) -> Splice:
        if isinstance(value, yaml.SequenceNode) and isinstance(new, list):
            splice = self._list_over(value, new)
            if splice is not None:
                return splice
        start, end = value.start_mark.index, self._end(value)
        if isinstance(value, yaml.ScalarNode) and not value.value and value.style is None:
            at_colon = self._entry_end(key, value)
            return self._replace(at_colon, at_colon, f" {flow(new)}")
        if isinstance(value, yaml.ScalarNode) or value.flow_style:
            return self._replace(start, end, flow(new))
        colon = self.text.index(":", key.end_mark.index) + 1
        return self._replace(colon, end, f" {flow(new)}")

    def _list_over(self, node: Any, new: list[Any]) -> Splice | None:
        """Change a list of words by as little as can be: one word out, or words more at its end."""
        old = [item.value for item in node.value]
        if any(not isinstance(item, yaml.ScalarNode) for item in node.value) or not old or not new:
            return None
        if not all(isinstance(item, str) for item in new):
            return None
        if new[: len(old)] == old and len(new) > len(old):
            more = new[len(old) :]
            if node.flow_style:
                return self._add_in_flow(node, ", ".join(map(scalar, more)))
            column = self._indent(self.text.rindex("-", 0, node.value[0].start_mark.index))
            lines = self.newline.join(f"{' ' * column}- {scalar(item)}" for item in more)
            return self._add_line(node, lines)
        # one word that became another, in its place
        other = [n for n, item in enumerate(new) if len(new) == len(old) and item != old[n]]
        if len(other) == 1:
            word = node.value[other[0]]
            return self._replace(word.start_mark.index, self._end(word), scalar(new[other[0]]))
        gone = [n for n, item in enumerate(old) if item not in new]
        if len(gone) == 1 and new == old[: gone[0]] + old[gone[0] + 1 :]:
            return self._drop_item(node, gone[0])
        return None

    def _add_in_flow(self, node: Any, said: str) -> Splice:
        """Add to a flow mapping or list, after what is in it."""
        if not node.value:
            inside = node.start_mark.index + 1
            return self._replace(inside, inside, said)
        last = node.value[-1]
        end = self._entry_end(*last) if isinstance(last, tuple) else self._end(last)
        return self._replace(end, end, f", {said}")

    def _add_line(self, node: Any, lines: str) -> Splice:
        """Add lines to a block, after the last line of what is in it."""
        last = node.value[-1]
        end = self._line_end(self._entry_end(*last) if isinstance(last, tuple) else self._end(last))
        # the last line of a file may end without a break
        broken = end == 0 or self.text[end - 1] == "\n"
        return self._replace(end, end, f"{lines}{self.newline}" if broken else f"{self.newline}{lines}")

    # -- dropping

    def _drop(self, path: Path) -> Splice:
        # a mapping or list that would be left empty goes with its last entry
        while len(path) > 1 and len(at(self.data, path[:-1])) == 1:
            path = path[:-1]
        parent = self._node(path[:-1])
        if isinstance(parent, yaml.SequenceNode):
            return self._drop_item(parent, int(path[-1]))
        n = next(n for n, (key, _) in enumerate(parent.value) if key.value == path[-1])
        key, value = parent.value[n]
        starts = [each.start_mark.index for each, _ in parent.value]
        ends = [self._entry_end(*each) for each in parent.value]
        if parent.flow_style:
            return self._cut_in_flow(starts, ends, n)
        start = key.start_mark.index
        # - key: value shares its line with the dash, which has to stay
        if self.text[self._line_start(start) : start].strip():  # behind the dash of a list's item
            return self._replace(start, starts[n + 1], "")
        return self._replace(self._line_start(start), self._line_end(self._entry_end(key, value)), "")

    def _drop_item(self, node: Any, n: int) -> Splice:
        if node.flow_style:
            starts = [each.start_mark.index for each in node.value]
            return self._cut_in_flow(starts, [self._end(each) for each in node.value], n)
        start, end = self._item_lines(node, n)
        return self._replace(start, end, "")

    def _cut_in_flow(self, starts: list[int], ends: list[int], n: int) -> Splice:
        if n + 1 < len(starts):
            return self._replace(starts[n], starts[n + 1], "")
        return self._replace(ends[n - 1] if n else starts[n], ends[n], "")

    def _item_lines(self, node: Any, n: int, *, comments: bool = False) -> tuple[int, int]:
        """Return where the lines of a block list's item begin and end; with ``comments`` those right above it too."""
        item = node.value[n]
        start = self._line_start(self.text.rindex("-", 0, item.start_mark.index + 1))
        # comments right above an item are about it, and move with it; above the first they are about the list
        while comments and n and start:
            above = self._line_start(start - 1)
            if not self.text[above:start].lstrip(" ").startswith("#"):
                break
            start = above
        return start, self._line_end(self._end(item))

    # -- inserting and moving

    def _insert(self, path: Path, index: int, value: Any) -> Splice:
        if not there(self.data, path):
            return self._put(path, [value])
        node = self._node(path)
        if node.flow_style:
            if index >= len(node.value):
                return self._add_in_flow(node, flow(value))
            start = node.value[index].start_mark.index
            return self._replace(start, start, f"{flow(value)}, ")
        column = self._indent(self.text.rindex("-", 0, node.value[0].start_mark.index + 1))
        return self._insert_lines(node, index, block_item(value, column, self.newline))

    def _insert_lines(self, node: Any, index: int, lines: str) -> Splice:
        if index >= len(node.value):
            return self._add_line(node, lines.removesuffix(self.newline))
        start, _ = self._item_lines(node, index, comments=True)
        return self._replace(start, start, lines if lines.endswith(self.newline) else f"{lines}{self.newline}")

    def _move(self, path: Path, to: Path, index: int) -> list[Splice]:
        if (*to, index) == path:
            return []
        source = self._node(path[:-1])
        value = at(self.data, path)
        in_block = not source.flow_style and (not there(self.data, to) or not self._node(to).flow_style)
        # an item within brackets has no lines of its own to carry along
        if not in_block:
            return self._move_as_data(path, to, index, value)
        n = int(path[-1])
        start, end = self._item_lines(source, n, comments=True)
        lines = self.text[start:end]
        lines = lines if lines.endswith("\n") else f"{lines}{self.newline}"
        column = self._indent(self.text.rindex("-", 0, source.value[n].start_mark.index + 1))
        if path[:-1] == to:
            rest = [item for k, item in enumerate(source.value) if k != n]
            target = source.value.index(rest[index]) if index < len(rest) else len(source.value)
            put = self._insert_lines(source, target, lines)
        elif there(self.data, to):
            node = self._node(to)
            there_column = self._indent(self.text.rindex("-", 0, node.value[0].start_mark.index + 1))
            put = self._insert_lines(node, index, shifted(lines, there_column - column))
        else:
            mapping = self._node(to[:-1])
            if mapping.flow_style:
                return self._move_as_data(path, to, index, value)
            key_column = self._indent(mapping.value[0][0].start_mark.index)
            moved = shifted(lines, key_column + 2 - column)
            put = self._add_line(
                mapping, f"{' ' * key_column}{to[-1]}:{self.newline}{moved}".removesuffix(self.newline)
            )
        return self._cut_and_put(path, self._replace(start, end, ""), put)

    def _cut_and_put(self, path: Path, cut: Splice, put: Splice) -> list[Splice]:
        """Return both pieces so that the second counts on the first; a list that is left empty goes."""
        alone = len(at(self.data, path[:-1])) == 1
        if alone:
            cut = self._drop(path)
        # from the back to the front, so that neither moves the other
        if put.start >= cut.start + len(cut.old):
            return [put, cut]
        return [put, cut._replace(start=cut.start + len(put.new) - len(put.old))]

    def _move_as_data(self, path: Path, to: Path, index: int, value: Any) -> list[Splice]:
        """Move an item that is written in one line by writing it anew."""
        put = self._insert(to, index if path[:-1] != to or index <= int(path[-1]) else index + 1, value)
        return self._cut_and_put(path, self._drop(path), put)


def _aliased(root: Any) -> set[int]:
    """Return the ids of the nodes that stand in more than one place."""
    seen: set[int] = set()
    twice: set[int] = set()
    todo = [root]
    while todo:
        node = todo.pop()
        if id(node) in seen:
            twice.add(id(node))
            continue
        seen.add(id(node))
        if isinstance(node, yaml.MappingNode):
            todo += [each for pair in node.value for each in pair]
        elif isinstance(node, yaml.SequenceNode):
            todo += node.value
    return twice


def _child(node: Any, step: str | int) -> Any:
    if isinstance(node, yaml.MappingNode):
        return next((value for key, value in node.value if key.value == step), None)
    if isinstance(node, yaml.SequenceNode) and isinstance(step, int) and step < len(node.value):
        return node.value[step]
    return None


def scalar(text: str) -> str:
    """Write one text as YAML: as it is where that says the same, else in double quotes.

    >>> scalar("post.write"), scalar("12:30"), scalar("*"), scalar("#1f6f8b"), scalar("a, b")
    ('post.write', '"12:30"', '"*"', '"#1f6f8b"', '"a, b"')
    """
    good = _PLAIN.fullmatch(text) and not text.endswith(" ") and not text.startswith(("*", "-", ".", "@", "+"))
    return text if good else json.dumps(text, ensure_ascii=False)


def flow(value: Any) -> str:
    """Write a value in one line."""
    if isinstance(value, dict):
        return "{" + ", ".join(f"{scalar(str(key))}: {flow(each)}" for key, each in value.items()) + "}"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(map(flow, value)) + "]"
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None else scalar(str(value))


def block_entry(key: str, value: Any, column: int, newline: str) -> str:
    """Write a mapping's entry: in one line, or where it holds mappings in a block, one of them in a line."""
    pad = " " * column
    if isinstance(value, dict) and any(isinstance(each, dict) for each in value.values()):
        inner = [f"{pad}  {scalar(str(k))}: {flow(v)}" for k, v in value.items()]
        return newline.join([f"{pad}{scalar(key)}:", *inner])
    if isinstance(value, list) and value and all(isinstance(each, dict) for each in value):
        inner = [block_item(each, column + 2, newline).rstrip("\r\n") for each in value]
        return newline.join([f"{pad}{scalar(key)}:", *inner])
    return f"{pad}{scalar(key)}: {flow(value)}".rstrip()


def block_item(value: Any, column: int, newline: str) -> str:
    """Write a list's item in lines, each entry of a mapping in a line of its own."""
    pad = " " * column
    if not isinstance(value, dict) or not value:
        return f"{pad}- {flow(value)}{newline}"
    lines = [f"{scalar(str(key))}: {flow(each)}".rstrip() for key, each in value.items()]
    return f"{pad}- {f'{newline}{pad}  '.join(lines)}{newline}"


def shifted(lines: str, by: int) -> str:
    """Move lines to the right, or to the left."""
    if by >= 0:
        return re.sub(r"(?m)^(?=.*\S)", " " * by, lines)
    return re.sub(rf"(?m)^ {{1,{-by}}}", "", lines)
