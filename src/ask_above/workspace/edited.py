"""What was edited by hand, written into the journal: at the opening where others read it there, or when somebody says.

Light at import: every opening comes by here, and few find anything to write.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from typing import TYPE_CHECKING

from ask_above.change.draft import EditError
from ask_above.charter.names import listed
from ask_above.errors import AskAboveError
from ask_above.workspace.home import Home
from ask_above.workspace.storage import Snapshot

if TYPE_CHECKING:
    from ask_above.store.entries import Entry


def recorded(home: Home) -> Snapshot:
    """Return the community; in a database of several folders edits by hand are recorded first, for the others.

    Where nothing may be written they are recorded by the next who can.
    """
    snapshot = home.read()
    if home.location.is_own or snapshot.loaded is None or not snapshot.is_edited:
        return snapshot
    with suppress(AskAboveError, OSError), home.locked(wait=0):
        snapshot = home.read()
        if snapshot.is_edited:  # else somebody was faster
            _record(home, snapshot)
    return home.read()


def take_edits(home: Home, names: Sequence[str]) -> list[Entry]:
    """Make files that were edited by hand a change, as they stand; returns the journal's entries.

    Raises :class:`EditError` where they hold what the last change left, and :class:`FaultyFilesError`.
    """
    with home.locked():
        snapshot = home.read(take=names)
        if snapshot.loaded is None or not snapshot.is_edited:
            raise EditError(f"{listed(names)}: nothing was edited by hand.")
        last = snapshot.loaded.last
        _record(home, snapshot)
        return home.entries(since=last)


def acknowledge(home: Home, number: int | None = None) -> list[int]:
    """Note that edits by hand which undo a change are known: one, or all; returns the numbers of their entries.

    Edits that no entry notes yet are recorded first. Raises :class:`EditError` where there is nothing of that kind.
    """
    with home.locked():
        snapshot = home.read()
        if snapshot.waiting and number is None:
            _record(home, snapshot)
            snapshot = home.read()
        unseen = snapshot.loaded.unseen if snapshot.loaded else ()
        numbers = [each for each in unseen if number in (None, each)]
        if not numbers:
            which = "No edit by hand" if number is None else f"Entry {number} is no edit by hand that"
            raise EditError(f"{which} undoes a change and waits for that.")
        with home.store.writing() as connection:
            home.store.acknowledge(connection, numbers)
        home.forget_what_was_read()
    return numbers


def _record(home: Home, snapshot: Snapshot) -> None:
    """Write what was edited by hand into the journal, and nothing else."""
    from ask_above.workspace.plans import Plan
    from ask_above.workspace.storage import opened

    made = Plan(home, snapshot, (), by="", why="", at=opened(home, snapshot).moment())
    home.change(made.planned(None))
