"""A community as its folder and its database hold it at one moment."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from ask_above.change.draft import RowChange
from ask_above.charter.charter import Charter
from ask_above.charter.where import NOTHING
from ask_above.people.register import Register
from ask_above.store.entries import FileRecord, Loaded


class Snapshot(NamedTuple):
    """A community at one moment; ``loaded`` is ``None`` while CSV files hold the register.

    ``texts`` are the charter's files as they count, ``found`` what the folder's files hold, by name. ``rows`` are what
    was edited by hand in the register since the last change. ``notices`` say what whoever opens it has to know. ``old``
    are the files that hold what they held at an earlier state, or nothing; ``behind``: something that was decided has
    not been written into this folder yet. ``held`` are files that were edited on an older state of a database of
    several folders: nothing of them counts. ``waiting`` are the changes that edits by hand undo, which no entry notes
    yet; ``undone`` says it in sentences, with those that are noted and not acknowledged. ``records`` are what was last
    written into each file.
    """

    charter: Charter
    register: Register
    texts: Mapping[str, str]
    found: Mapping[str, bytes | None]
    loaded: Loaded | None
    rows: Sequence[RowChange] = ()
    notices: tuple[str, ...] = ()
    old: tuple[str, ...] = ()
    behind: bool = False
    held: tuple[str, ...] = ()
    waiting: tuple[int, ...] = ()
    undone: tuple[str, ...] = ()
    records: Mapping[str, FileRecord] = NOTHING

    @property
    def version(self) -> int:
        """How many changes there have been."""
        return self.loaded.version if self.loaded else 0

    @property
    def by_hand(self) -> dict[str, tuple[str, str]]:
        """The charter's files that were edited by hand since the last change, with their texts before and after."""
        known = self.loaded.files if self.loaded else {}
        return {
            name: (known.get(name, ""), text) for name, text in self.texts.items() if known and known.get(name) != text
        }

    @property
    def is_edited(self) -> bool:
        """Whether files were edited by hand since the last change."""
        return bool(self.rows or self.by_hand)
