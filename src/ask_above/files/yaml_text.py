"""Read YAML into plain data with the place of every piece; nothing else touches the parser's nodes.

Every scalar is text; a plain scalar with nothing in it is ``None``. The parser is the C one. What of any file is text,
and what is not, is decided here too.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path as FilePath
from typing import Any, Final, TypeAlias

import yaml

from ask_above.charter.reading.document import Document, Path, Position
from ask_above.errors import Fault, FaultyFilesError
from ask_above.files.writing import contents

try:
    _Loader: Any = yaml.CBaseLoader
except AttributeError:  # a PyYAML built without its C core reads the same, only slower
    _Loader = yaml.BaseLoader


class _TextLoader(_Loader):  # type: ignore[misc]
    """A loader for which every scalar is text, without asking what it might be."""

    _tags: Final = {
        yaml.ScalarNode: "tag:yaml.org,2002:str",
        yaml.SequenceNode: "tag:yaml.org,2002:seq",
        yaml.MappingNode: "tag:yaml.org,2002:map",
    }

    def resolve(self, kind: Any, value: Any, implicit: Any) -> str:  # noqa: ARG002 (the parser's own signature)
        """Return the tag of a node that has none."""
        return self._tags[kind]


_BREAK = re.compile("\r\n|[\r\n\x85\u2028\u2029]")
_FORBIDDEN = re.compile("[^\t\n\r\x20-\x7e\x85\xa0-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
_ODD_SPACE = re.compile("(?:^ *|[:-] *)[\xa0\u1680\u2000-\u200b\u202f\u205f\u3000\ufeff]")
_LEAD = re.compile(r" *(?:- +)*")
_QUOTES = ("'", '"')
_DEEPEST = 240
_MOST_REPEATED = 50_000
"""How many pieces may come from aliases, which let a small file be a large one."""
_LARGEST = 64_000_000

_Node: TypeAlias = Any


def decode(name: str, raw: bytes) -> tuple[str, list[Fault]]:
    """Return a file's text, or the fault that keeps it from being text."""
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        before = raw[: error.start].decode("utf-8", errors="replace")
        lines = _BREAK.split(before)
        what = (
            "The file is UTF-16"
            if raw[:2] in (b"\xff\xfe", b"\xfe\xff")
            else f"byte 0x{raw[error.start]:02x} is not UTF-8"
        )
        message = f"{what}; save the file as UTF-8 in your editor"
        source = lines[-1] if "\x00" not in lines[-1] else ""
        fault = Fault(
            name, len(lines), len(lines[-1]) + 1, "", "not-utf-8", message, "a text file in UTF-8", source=source
        )
        return "", [fault]
    return text, []


def text_of(file: FilePath) -> str:
    """Return the text of a file, its lines ended as here; raises :class:`FaultyFilesError` where it is none."""
    text, faults = decode(file.name, contents(file))
    if faults:
        raise FaultyFilesError(faults)
    return text.replace("\r\n", "\n").replace("\r", "\n")


def read_yaml(name: str, raw: bytes) -> Document:
    """Return the document; where it is no YAML its data is ``None`` and its faults say why."""
    if len(raw) > _LARGEST:
        document = Document(name, None, {}, [])
        message = f"the file has more than {_LARGEST // 1_000_000} MB; no charter is as large"
        document.faults.append(Fault(name, 0, 0, "", "too-large", message, "a smaller file"))
        return document
    text, faults = decode(name, raw)
    document = Document(name, None, {}, _BREAK.split(text))
    document.faults += faults
    if faults or _has_forbidden(document, text):
        return document
    try:
        node = yaml.compose(text, Loader=_TextLoader)
    except yaml.MarkedYAMLError as error:
        if not _opened(document, text):
            _syntax_fault(document, error)
        return document
    except yaml.YAMLError as error:
        document.faults.append(Fault(name, 1, 1, "", "not-yaml", f"this cannot be read as YAML: {error}"))
        return document
    if node is None:
        message = "the file is empty, or holds nothing but comments"
        document.faults.append(Fault(name, 1, 1, "", "empty-file", message, "lines like key: value"))
        return document
    document.data = _Converter(document).convert(node)
    return document


def compose(text: str) -> _Node:
    """Return the parser's nodes of a text that is known to be YAML, for taking it apart."""
    return yaml.compose(text, Loader=_TextLoader)


def scalars(text: str) -> Iterator[Any]:
    """Yield the parser's tokens of the values and names in a text that is known to be YAML."""
    return (token for token in yaml.scan(text, Loader=_TextLoader) if isinstance(token, yaml.ScalarToken))


def plain(node: _Node) -> Any:
    """Return the plain data of nodes."""
    if isinstance(node, yaml.MappingNode):
        return {key.value: plain(value) for key, value in node.value}
    if isinstance(node, yaml.SequenceNode):
        return [plain(each) for each in node.value]
    return None if not node.value and node.style is None else node.value


def _has_forbidden(document: Document, text: str) -> bool:
    match = _FORBIDDEN.search(text)
    if match:
        before = _BREAK.split(text[: match.start()])
        source = _FORBIDDEN.sub("\ufffd", document.lines[len(before) - 1])
        message = f"the control character {ord(match.group()):#06x} cannot stand in a YAML file; delete it"
        spot = (len(before), len(before[-1]) + 1)
        document.faults.append(
            Fault(document.name, *spot, "", "control-character", message, "plain text", source=source)
        )
    return match is not None


class _Marks(Mapping[Path, Position]):
    """Where each piece stands, worked out from the parser's nodes only when somebody asks."""

    def __init__(self) -> None:
        self.nodes: dict[Path, tuple[_Node, _Node]] = {}

    def __getitem__(self, path: Path) -> Position:
        node, key = self.nodes[path]
        start, before = node.start_mark, (key or node).start_mark
        quoted = getattr(node, "style", None) in _QUOTES
        return Position(start.line + 1, start.column + 1, before.line + 1, before.column + 1, quoted)

    def __iter__(self) -> Iterator[Path]:
        return iter(self.nodes)

    def __len__(self) -> int:
        return len(self.nodes)


class _Converter:
    """Turns nodes into plain data, and notes where each piece stands."""

    def __init__(self, document: Document) -> None:
        self.document = document
        self.marks = _Marks()
        self.nodes = self.marks.nodes
        document.marks = self.marks
        self.open: set[int] = set()
        self.seen: set[int] = set()
        self.repeated = 0
        self.is_too_much = False

    def convert(self, node: _Node) -> Any:
        """Return the data of the root."""
        return self._data(node, (), None)

    def _data(self, node: _Node, path: Path, key: _Node) -> Any:
        self.nodes[path] = (node, key)
        # an alias is the same node again; a few lines could stand for millions of them
        if id(node) in self.seen:
            self.repeated += 1
        else:
            self.seen.add(id(node))
        if node.tag not in _PLAIN_TAGS:
            tag = node.tag.replace("tag:yaml.org,2002:", "!!")
            message = f"the tag {tag} is not part of this format; take it away"
            self.document.fault(path, "tag", message, expected="the value alone")
        if isinstance(node, yaml.ScalarNode):
            if node.style in _QUOTES and (message := _takes_in(self.document.lines, node)):
                self.document.fault(path, "swallowed", message, expected="a quote that is closed in its line")
            return node.value or (None if node.style not in (*_QUOTES, "|", ">") else "")
        if self._too_much(node, path):
            return None
        self.open.add(id(node))
        data = self._list(node, path) if isinstance(node, yaml.SequenceNode) else self._mapping(node, path)
        self.open.discard(id(node))
        return data

    def _too_much(self, node: _Node, path: Path) -> bool:
        if id(node) in self.open:
            self.document.fault(path, "alias-loop", "this alias contains itself", expected="the value, written out")
        elif len(self.open) >= _DEEPEST:
            self.document.fault(path, "too-deep", f"this is nested deeper than {_DEEPEST} levels", expected="less")
        elif self.repeated > _MOST_REPEATED:
            if not self.is_too_much:
                message = f"aliases repeat more than {_MOST_REPEATED:,} pieces"
                self.document.fault(path, "too-much", message, expected="them written out, or fewer")
            self.is_too_much = True
        else:
            return False
        return True

    def _list(self, node: _Node, path: Path) -> list[Any]:
        return [self._data(each, (*path, n), None) for n, each in enumerate(node.value)]

    def _mapping(self, node: _Node, path: Path) -> dict[str, Any]:
        data: dict[str, Any] = {}
        for key, value in node.value:
            name = key.value
            if not isinstance(key, yaml.ScalarNode):
                self._fault_at(key, path, "bad-key", "a list or mapping cannot be a key", "text before the colon")
            elif name in data:
                first = self.marks[(*path, name)]
                message = f"'{name}' stands twice here; the first is on line {first.key_line}"
                self._fault_at(key, (*path, name), "twice", message, "each key once")
            else:
                data[name] = self._data(value, (*path, name), key)
        return data

    def _fault_at(self, node: _Node, path: Path, code: str, message: str, expected: str) -> None:
        line, column = node.start_mark.line + 1, node.start_mark.column + 1
        document = self.document
        source = document.lines[line - 1] if line <= len(document.lines) else ""
        spelled = " › ".join(str(step) for step in path)
        document.faults.append(Fault(document.name, line, column, spelled, code, message, expected, source=source))


_PLAIN_TAGS = frozenset(f"tag:yaml.org,2002:{kind}" for kind in ("str", "map", "seq"))

_INDENT = "indented differently from"
_SAID = (
    ("found character that cannot start any token", "a value cannot start with {char}; put it in quotes"),
    ("mapping values are not allowed", "a second ': ' in a line, or a wrong indent; quote the text, or line it up"),
    ("block sequence entries are not allowed", "a '- ' cannot stand here; put the list on its own lines"),
    ("could not find expected ':'", "a line without a colon; write key: value, or line it up with its text"),
    ("did not find expected ',' or ']'", "a list that opens with [ is not closed; the ] is missing, or a comma"),
    ("did not find expected ',' or '}'", "a mapping that opens with {{ is not closed; the }} is missing, or a comma"),
    ("found unexpected end of stream", "a quote is opened and never closed"),
    ("found unexpected ':'", "a blank is missing after this colon, or the value after it"),
    ("unknown escape", "a \\ inside double quotes means something else; use single quotes"),
    ("another document", "a line '---' starts a second document; a charter is one"),
    ("did not find expected key", f"this line is {_INDENT} the ones it belongs to; line it up"),
    ("did not find expected '-'", f"this line is {_INDENT} the list it belongs to; line it up"),
    ("undefined alias", 'a * before a word is an alias in YAML; put it in quotes, such as "*"'),
    ("nesting depth", "this is nested far too deep"),
)  # fmt: skip
"""What the parser says, and what that means for whoever wrote the file."""


def _takes_in(lines: Sequence[str], quoted: Any) -> str:
    """Say that a quote takes in lines that are indented no deeper than what it belongs to; else empty.

    Such lines are no part of a value in YAML 1.2, but the parser takes them in: a quote that somebody forgot to close
    swallows the fields that follow.
    """
    first, last = quoted.start_mark.line, quoted.end_mark.line
    lead = _LEAD.match(lines[first])
    if first == last or lead is None:
        return ""
    # what a list holds belongs to the dash before it
    depth = lead.end() if quoted.start_mark.column > lead.end() else lines[first].rfind("-", 0, lead.end())
    if all(len(line) - len(line.lstrip()) > depth for line in lines[first + 1 : last + 1] if line.strip()):
        return ""
    return f"the quote that opens here takes in the lines down to line {last + 1}; close it, or indent them"


def _opened(document: Document, text: str) -> bool:
    """Note the first quote that takes in what it should not, in what the parser could not read."""
    with suppress(yaml.YAMLError):
        for token in yaml.scan(text, Loader=_TextLoader):
            quoted = isinstance(token, yaml.ScalarToken) and token.style in _QUOTES
            if quoted and (message := _takes_in(document.lines, token)):
                _add(document, token.start_mark.line + 1, token.start_mark.column + 1, "swallowed", message)
                return True
    return False


def _syntax_fault(document: Document, error: yaml.MarkedYAMLError) -> None:
    """Say in plain words what the parser stumbled over, and where."""
    problem, context = str(error.problem or ""), str(error.context or "")
    mark = error.problem_mark or error.context_mark
    line, column = (mark.line + 1, mark.column + 1) if mark else (1, 1)
    tabs = [n for n, text in enumerate(document.lines, 1) if "\t" in text[: len(text) - len(text.lstrip())]]
    if tabs and ("tab" in problem or "cannot start any token" in problem or "indent" in problem + context):
        for n in tabs:
            _add(
                document, n, document.lines[n - 1].index("\t") + 1, "tab", "a tab indents this line; YAML wants spaces"
            )
        return
    if "alias" in context or "anchor" in context:
        start = error.context_mark or mark
        line, column = (start.line + 1, start.column + 1) if start else (line, column)
    if "alias" in context:
        message = 'a * at the start of a word is an alias in YAML; put it in quotes, such as "*"'
    elif "anchor" in context:
        message = "a & at the start of a word is an anchor in YAML; put it in quotes"
    else:
        message = next((said for sign, said in _SAID if sign in problem), f"this cannot be read as YAML: {problem}")
    # pasted from a page or a letter, a space may look like one and be none
    odd = [(n, match) for n in (line - 1, line) if (match := _ODD_SPACE.search("".join(document.lines[n - 1 : n])))]
    if odd:
        (line, match), *_ = odd
        message = "a space that YAML does not know stands here (a no-break or a wide one); type a plain one"
        _add(document, line, match.end(), "not-yaml", message)
        return
    # where a colon is missing the parser only notices on the next line; its context is the line that lacks it
    if any(sign in message for sign in ("opened and never closed", "is not closed", "without a colon")):
        start = error.context_mark or mark
        line, column = (start.line + 1, start.column + 1) if start else (line, column)
    source = document.lines[line - 1] if line <= len(document.lines) else ""
    char = source[column - 1 : column]
    _add(document, line, column, "not-yaml", message.format(char=f"'{char}'"))


def _add(document: Document, line: int, column: int, code: str, message: str) -> None:
    if line > len(document.lines):
        line, column = len(document.lines), len(document.lines[-1]) + 1
    source = document.lines[line - 1]
    document.faults.append(Fault(document.name, line, column, "", code, message, source=source))
