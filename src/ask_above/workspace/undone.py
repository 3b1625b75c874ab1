"""Which changes an edit by hand takes back: it counts all the same, and is told until it is acknowledged."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from ask_above.change.draft import RowChange
from ask_above.change.facts import Fact, Turned, facts, undoes_rows
from ask_above.errors import StoreError
from ask_above.files.splice import as_before
from ask_above.files.writing import ASSIGNMENTS, MEMBERS
from ask_above.files.yaml_text import read_yaml

if TYPE_CHECKING:
    from ask_above.store.database import Store, Transaction
    from ask_above.store.entries import Entry
    from ask_above.workspace.storage import Snapshot

_MAY_BE_UNDONE = ("change", "undo")


def undone_by(snapshot: Snapshot, store: Store, connection: Transaction) -> tuple[list[str], tuple[int, ...]]:
    """Return sentences on the changes that edits by hand undo, and the numbers of those that no entry notes yet.

    Entries of edits that undo a change are told until they are acknowledged, or undone themselves.
    """
    loaded = snapshot.loaded
    edited = bool(snapshot.by_hand or snapshot.rows)
    if loaded is None or not (edited or loaded.unseen):
        return [], ()
    entries = store.entries(since=0 if loaded.unseen else 1, connection=connection)
    known = {entry.number: entry for entry in entries}
    sentences = [
        _sentence(_files(known[number]), [known[n] for n in known[number].reverts if n in known])
        for number in loaded.unseen
        if number in known
    ]
    if not edited:
        return sentences, ()
    waiting: list[int] = []
    for name, (old, new) in snapshot.by_hand.items():
        # a file that comes or goes is named by the charter, whose own words say what that undoes
        undone = _in_charter(name, old, new, entries) if old and new else []
        sentences += [_sentence(name, undone)] if undone else []
        waiting += [entry.number for entry in undone]
    for name, rows in _by_file(snapshot.rows).items():
        later = set[tuple[str, ...]]()
        undone = [each for each in reversed(entries) if undoes_rows(each.rows, rows, later) and _may_be(each)]
        sentences += [_sentence(name, undone)] if undone else []
        waiting += [entry.number for entry in undone]
    return sentences, tuple(dict.fromkeys(waiting))


def _may_be(entry: Entry) -> bool:
    return entry.kind in _MAY_BE_UNDONE and entry.undone_by is None


def _by_file(rows: Sequence[RowChange]) -> dict[str, list[RowChange]]:
    found: dict[str, list[RowChange]] = {}
    for row in rows:
        found.setdefault(MEMBERS if row.table == "members" else ASSIGNMENTS, []).append(row)
    return found


def _in_charter(name: str, now: str, then: str, entries: Sequence[Entry]) -> list[Entry]:
    """Return the changes of a file that an edit of it takes back, the latest first; what holds no more is no part."""
    here, there = _facts(name, now), _facts(name, then)
    words = {str(fact[-1] if fact[0] != "has" else fact[1][-1]).strip('"') for fact in here ^ there}
    undone, text, turned = [], now, Turned(set(here - there), set(there - here))
    for entry in reversed(entries):
        after, pieces = text, [piece for piece in entry.splices if piece[0] == name]
        try:
            text = as_before({name: text}, pieces).get(name, "")
        except StoreError:  # what a file held before it was out of the charter for a while
            break
        touches = any(word in old or word in new for word in words for _, _, old, new in pieces)
        if touches and turned.undoes(_facts(name, text), _facts(name, after)) and _may_be(entry):
            undone.append(entry)
    return undone


def _facts(name: str, text: str) -> frozenset[Fact]:
    data: Any = read_yaml(name, text.encode("utf-8")).data
    return facts(data)


def _files(entry: Entry) -> str:
    names = dict.fromkeys(file for file, *_ in entry.splices)
    names |= dict.fromkeys(_by_file(entry.rows))
    return " and ".join(names)


def _sentence(files: str, undone: Sequence[Entry]) -> str:
    """Say which changes are undone, such as ``charter.yaml undoes change 3: grant kit.lend to Board host``."""
    changes = "; ".join(
        f"change {entry.number}: {entry.what} ({_by(entry)}, {ago(datetime.fromisoformat(entry.at))})"
        for entry in undone
    )
    return f"{files} undoes {changes}"


def ago(then: datetime) -> str:
    """Say how long ago a moment was; the day, where that was not today.

    >>> from datetime import timedelta
    >>> [ago(datetime.now(UTC) - timedelta(minutes=n)) for n in (0, 1, 59, 60, 125)]
    ['just now', '1 minute ago', '59 minutes ago', '1 hour ago', '2 hours ago']
    """
    minutes = int((datetime.now(UTC) - then).total_seconds()) // 60
    for size, unit in ((60 * 24, ""), (60, "hour"), (1, "minute")):
        count = minutes // size
        if count >= 1:
            return f"{count} {unit}{'' if count == 1 else 's'} ago" if unit else f"{then:%-d %b %Y}"
    return "just now"


def _by(entry: Entry) -> str:
    return entry.name or entry.who or "maintainer"
