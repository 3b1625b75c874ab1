"""A community's home for whoever stays, such as a service: it goes on from what it knows, and writes files in time.

A change leaves a state that is known without reading it again. The files beside the database are old for a moment: any
other opening knows that, takes the database, and writes them. So do this home's own, once in a while and at its end.
"""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress
from time import monotonic
from typing import TYPE_CHECKING

from ask_above.errors import AskAboveError
from ask_above.files.writing import FileBatch, batch
from ask_above.people.register import Register
from ask_above.store.entries import Entry
from ask_above.workspace.home import Home
from ask_above.workspace.location import FolderMark
from ask_above.workspace.storage import Planned, Snapshot, keep_ready, ready_for

if TYPE_CHECKING:
    from pathlib import Path

    from ask_above.store.database import Transaction

_LONGEST = 10.0
"""How many seconds a database may take to connect, and for a statement, before the last good state goes on."""
_EVERY = 1.0
"""At most once in so many seconds the files beside the database are written."""


class LastingHome(Home):
    """A home that is kept; whoever uses it from several threads lets them take turns."""

    def __init__(self, folder: Path, name: str, register: str | None = None) -> None:
        super().__init__(folder, name, register, on_demand=True)
        self.location.limit = _LONGEST
        self.went_on = self._went_on
        self._late = self._leaves_late = False
        self._known: Snapshot | None = None
        self._wrote_at = -_EVERY
        self._new: dict[str, bytes] = {}

    def read(self, *, take: Iterable[str] = ()) -> Snapshot:
        """Return the community as it is now; where anything has happened that is not known, files are not late."""
        known = self._last
        snapshot = super().read(take=take)
        if known is None or snapshot is not known[1]:
            self._late = False
        return snapshot

    def go_on_from(self, snapshot: Snapshot, register: Register) -> Snapshot:
        """Take a register that is the same as a snapshot's, and in memory, for it: nothing of it is read again."""
        known = snapshot._replace(register=register)
        if self._last is not None and self._last[1] is snapshot:
            self._last, self._known = (self._last[0], known), known
            if self._reading is not None:
                self._reading.close()
                self._reading = None
        return known

    def _went_on(self, entry: Entry, planned: Planned) -> Snapshot | None:
        """Return what a change has left without reading it again; ``None`` where it has to be read."""
        before, texts, register = planned.before, planned.texts, planned.register
        loaded = before.loaded
        if before is not self._known or loaded is None or self.told or entry.kind == "forget" or before.is_edited:
            return None
        if {*texts} != {self.name, *planned.charter.add_ons}:
            return None  # a file came or went, which is read
        self._names = tuple(texts)
        contents = self._found()
        wanted = {**before.found, **self._new, **{name: text.encode("utf-8") for name, text in texts.items()}}
        if any(contents[name] != wanted.get(name) for name in contents):
            return None  # somebody edited one of them by hand meanwhile
        left = loaded._replace(
            people=None,
            given=None,
            size=len(register.members),
            version=loaded.version + 1,
            last=entry.number,
            files=texts,
            letters=(),
            waits=False,
        )
        snapshot = Snapshot(planned.charter, register, texts, contents, left, notices=before.notices)
        self._last, self._known = ((contents, left.version), snapshot), snapshot
        self._late = self._leaves_late
        return snapshot

    def _prepare_kept(
        self, connection: Transaction, number: int, before: Snapshot, register: Register, files: FileBatch
    ) -> None:
        """Prepare the register's files and the folder's mark, or leave that for later."""
        self._new = {}
        size = before.loaded.size if before.loaded else 0
        aside = before.loaded is not None and before.loaded.aside
        kept, keeps = (self.location.keeps_files(count, aside=aside) for count in (size, len(register.members)))
        self._leaves_late = before is self._known and kept == keeps and monotonic() - self._wrote_at < _EVERY
        if self._leaves_late:
            return
        self._wrote_at = monotonic()
        super()._prepare_kept(connection, number, before, register, files)

    def _note(
        self, connection: Transaction, mark: FolderMark, name: str, content: bytes, found: bytes | None, number: int
    ) -> None:
        self._new[name] = content
        super()._note(connection, mark, name, content, found, number)

    def write_late(self, *, at_once: bool = False) -> None:
        """Write the files that changes have left old, where it is time for that; ``at_once`` whether it is or not.

        Where anything else has happened meanwhile, whoever reads that writes them.
        """
        if not self._late or self._last is None or (not at_once and monotonic() - self._wrote_at < _EVERY):
            return
        self._wrote_at = monotonic()
        with suppress(AskAboveError, OSError), self.locked(wait=0), batch() as files:
            (contents, version), snapshot = self._last
            loaded = snapshot.loaded
            if loaded is None or self._found() != contents:
                return
            with self.store.writing() as connection:
                if self.store.version_on(connection) != version:
                    return
                self._new = {}
                super()._prepare_kept(connection, loaded.last, snapshot, snapshot.register, files)
            files.place()
            self._letters_written()
            self._late = False
            now = {**contents, **self._new}
            known = snapshot._replace(found=now)
            self._last, self._known = ((now, version), known), known
            names = ready_for(self, snapshot)
            if names is not None:
                keep_ready(self, known, names)
