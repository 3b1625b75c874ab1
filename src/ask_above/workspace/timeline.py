"""The states that a community went through, made of the journal from the last one back to the first."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from ask_above.ask.audit.states import StateAt, States
from ask_above.change.registering import changed
from ask_above.charter.moments import Instant, instant
from ask_above.decide.names import Names
from ask_above.files.splice import Splice, apply
from ask_above.store.entries import Entry
from ask_above.workspace.storage import Storage, opened


def states_of(home: Storage) -> States:
    """Return every state of a community's journal; without one that of now alone.

    What a change left stays so until the next; an edit by hand counts from the moment it was journalled, which is that
    of the next change.
    """
    snapshot = home.read()
    names = opened(home, snapshot)
    if snapshot.loaded is None:
        return States([StateAt(0, 0, "", names)])
    return States([*reversed([*_back(home, names)])])


def _back(home: Storage, names: Names) -> Iterator[StateAt]:
    """Yield the states from now back to the first that the journal knows."""
    snapshot = home.read()
    last = snapshot.loaded.last if snapshot.loaded else 0
    entries = [each for each in home.entries() if each.number <= last]
    texts = {**snapshot.texts, **(snapshot.loaded.files if snapshot.loaded else {})}
    charter, register = names.charter, names.register
    if snapshot.is_edited:  # what was edited by hand since counts now, and was not there before
        yield StateAt(last, names.moment(), "edited by hand", names)
        charter, register = home.at(snapshot, texts)
        names = names.after(charter=charter, register=register)
    for entry in reversed(entries):
        yield StateAt(entry.number, took_effect(entry), entry.what, names)
        if entry.kind == "import" and entry.number == 1:
            return
        for file, start, old, new in reversed(entry.splices):
            texts[file] = apply(texts.get(file, ""), Splice(start, new, old))
        rows = [row.back for row in reversed(entry.rows)]
        if entry.splices:
            charter = home.charter_of(texts)
        if rows:
            register = changed(register, rows, charter.zone)
        if entry.splices or rows:
            names = names.after(charter=charter, register=register)


def took_effect(entry: Entry) -> Instant:
    """Return when a change took effect; of an entry that knows the second alone that is its end."""
    at = datetime.fromisoformat(entry.at)
    return instant(at if "." in entry.at else at.replace(microsecond=999_999))
