"""A community's folder: find its files, read them together, report every fault of all of them at once."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import NamedTuple

from ask_above.charter.charter import Charter
from ask_above.charter.names import listed
from ask_above.charter.reading.document import Document
from ask_above.charter.reading.whole import Read, add_on_files, read_charter
from ask_above.collecting import without_collecting
from ask_above.errors import Fault, FaultyFilesError, MissingFileError
from ask_above.files.csv_rows import read_rows
from ask_above.files.writing import ASSIGNMENTS, CHARTER, MEMBERS, contents
from ask_above.files.yaml_text import read_yaml
from ask_above.people.reading import ASSIGNMENT_COLUMNS, MEMBER_COLUMNS, FileRows, owner_fault, read_register
from ask_above.people.register import Register

Fetch = Callable[[str], bytes | None]
"""Returns a file's bytes, ``None`` where there is none; raises ``OSError`` where it cannot be read."""


class Files(NamedTuple):
    """What a community's files say."""

    charter: Charter
    register: Register


def read_folder(folder: Path, name: str = CHARTER) -> Files:
    """Read a community's folder; ``name`` is its charter's.

    Raises :class:`FaultyFilesError` where anything is wrong.
    """
    return read_files(lambda wanted: contents(folder / wanted) if (folder / wanted).exists() else None, name)


def read_texts(texts: Mapping[str, str]) -> Files:
    """Read a community from texts by file name, as if they stood in a folder."""
    if CHARTER not in texts:
        raise MissingFileError(f"There is no {CHARTER} among the texts: {listed(texts) or 'there are none'}.")
    return read_files(lambda name: texts[name].encode() if name in texts else None, CHARTER)


_NOT_READ = frozenset({"missing-add-on", "bad-add-on", "unreadable"})
_BROUGHT = frozenset({"unknown-capability", "unknown-kind", "expectation"})
"""Faults of what names capabilities: what an add-on that is not read would have brought is not missed as well."""


@without_collecting()
def read_files(fetch: Fetch, name: str, register_rows: tuple[FileRows, FileRows] | None = None) -> Files:
    """Read the charter called ``name``, its add-ons and the register; raise with all that is wrong in any of them.

    ``register_rows`` are the members and assignments, where they come from elsewhere than the two files.
    """
    faults: list[Fault] = []
    raw = fetched(fetch, name, faults)
    document, add_ons, read = _charter(fetch, name, raw)
    if register_rows is None:
        members = _rows(fetch, MEMBERS, MEMBER_COLUMNS, ("key",), faults)
        assignments = _rows(fetch, ASSIGNMENTS, ASSIGNMENT_COLUMNS, ("member", "rank"), faults)
    else:
        members, assignments = register_rows
    register = read_register(members, assignments, read.names if read else None, name)
    wrong = owner_fault(read.charter.owner if read else None, register.members)
    if wrong and not any(source.faults for source in (members, assignments) if source):
        document = document if document.data is not None else read_yaml(name, raw or b"")
        document.fault(("owner",), "owner", wrong, expected="a member who is active, or no owner")
    for source in (document, *add_ons, members, assignments):
        faults += source.faults if source else []
    if any(each.data is None for each in add_ons) or any(each.code in _NOT_READ for each in document.faults):
        faults = [each for each in faults if each.file != name or each.code not in _BROUGHT]
    if faults or read is None:
        raise FaultyFilesError(_in_order(faults))
    return Files(read.charter, register)


class _Sources(NamedTuple):
    """What was read of a charter, and its files taken apart, for their faults; not again where it had none before."""

    document: Document
    add_ons: list[Document]
    read: Read | None


_LAST: deque[tuple[tuple[str, bytes | None], dict[str, bytes | None], Read]] = deque(maxlen=2)
"""The charters read last, without a fault, each with every byte that it was made from: a change reads two of them again
and again. Any number of threads may look and add."""


def _charter(fetch: Fetch, name: str, raw: bytes | None) -> _Sources:
    """Return a charter and its add-ons; one whose files hold the very same as before is not read again."""
    beside: dict[str, bytes | None] = {}

    def noted(wanted: str) -> bytes | None:
        beside[wanted] = fetch(wanted)
        return beside[wanted]

    for main, others, known in tuple(_LAST):
        if main == (name, raw) and all(fetched(fetch, other, []) == held for other, held in others.items()):
            return _Sources(Document(name, None), [], known)
    document = read_yaml(name, raw or b"") if raw is not None else Document(name, None)
    add_ons = [] if document.data is None else _add_ons(document, noted, name)
    read = read_charter(document, add_ons) if document.data is not None else None
    if read is not None and not any(each.faults for each in (document, *add_ons)):
        _LAST.append(((name, raw), beside, read))
    return _Sources(document, add_ons, read)


def _in_order(faults: list[Fault]) -> list[Fault]:
    """Return the faults file by file, each in the order of its lines."""
    files = list(dict.fromkeys(fault.file for fault in faults))
    return sorted(faults, key=lambda fault: (files.index(fault.file), fault.line, fault.column))


def fetched(fetch: Fetch, name: str, faults: list[Fault]) -> bytes | None:
    """Return what a file holds; ``None`` where there is none, and with a fault where it cannot be read."""
    try:
        return fetch(name)
    except OSError as error:
        message = f"the file cannot be read: {error.strerror or error}"
        faults.append(Fault(name, 0, 0, "", "unreadable", message, "a file that you may read"))
        return None


def _rows(
    fetch: Fetch, name: str, columns: tuple[str, ...], required: tuple[str, ...], faults: list[Fault]
) -> FileRows | None:
    raw = fetched(fetch, name, faults)
    return None if raw is None else read_rows(name, raw, columns, required)


def _add_ons(charter: Document, fetch: Fetch, name: str) -> list[Document]:
    documents: list[Document] = []
    for n, file in add_on_files(charter):
        path = ("add-ons", n)
        if "/" in file or "\\" in file or file in ("", ".", "..") or file == name or "\x00" in file:
            message = f"'{file}' is no add-on file beside the charter"
            charter.fault(path, "bad-add-on", message, expected="the name of a file in the same folder")
        elif file in [document.name for document in documents]:
            charter.fault(path, "twice", f"the add-on file '{file}' is named twice", expected="each file once")
        else:
            known = len(charter.faults)
            raw = fetched(fetch, file, charter.faults)
            if raw is None and len(charter.faults) == known:
                message = f"there is no file '{file}' beside {name}"
                charter.fault(path, "missing-add-on", message, expected="a file in the same folder")
            elif raw is not None:
                documents.append(read_yaml(file, raw))
    return [document for document in documents if document.data is not None or document.faults]
