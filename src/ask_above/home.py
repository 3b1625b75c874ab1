"""A community's home: its folder and the database of its register, read and changed as one.

A change is decided in the database first, in one transaction with the journal's entry and the texts that the files are
to have; then the files are written, and then the decision is struck off. Whoever opens the home in between finishes it.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from difflib import SequenceMatcher
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from ask_above.charter.charter import Charter
from ask_above.errors import AskAboveError
from ask_above.files.folder import ASSIGNMENTS, MEMBERS, Fetch, read_files
from ask_above.files.opening import CHARTER, REGISTER
from ask_above.files.uncollected import uncollected
from ask_above.files.writing import read_text, write_whole
from ask_above.people.reading import Row, Rows
from ask_above.people.register import Register

if TYPE_CHECKING:
    from ask_above.store.database import Entry, Intent, Loaded, Store

LOCK = ".ask-above.lock"
OUTBOX = "outbox"
_WAIT = 30


class ChangedMeanwhileError(AskAboveError, RuntimeError):
    """Somebody else changed the community since the plan was made; nothing was done."""

    def __str__(self) -> str:
        return str(self.args[0])


class BusyError(AskAboveError, TimeoutError):
    """Somebody else is changing the community, and has been for long."""

    def __str__(self) -> str:
        return str(self.args[0])


class Snapshot(NamedTuple):
    """A community as its home holds it at one moment; ``loaded`` is ``None`` while CSV files hold the register.

    ``texts`` are the charter's files as they count: what was decided and not yet written counts already.
    """

    charter: Charter
    register: Register
    texts: Mapping[str, str]
    loaded: Loaded | None

    @property
    def version(self) -> int:
        """How many changes there have been."""
        return self.loaded.version if self.loaded else 0

    @property
    def by_hand(self) -> dict[str, tuple[str, str]]:
        """The files that were edited by hand since the last change, with their texts before and after."""
        known = self.loaded.files if self.loaded else {}
        return {name: (known[name], text) for name, text in self.texts.items() if name in known and known[name] != text}


class Home:
    """A folder with a charter, and the database of its register."""

    def __init__(self, folder: Path, name: str = CHARTER, register: str | None = None) -> None:
        self.folder, self.name, self.register = folder, name, register
        self._store: Store | None = None
        self._made = False
        self._last: tuple[object, Snapshot] | None = None
        self.kept: dict[str, Any] = {}

    @property
    def store(self) -> Store:
        """The database; it may have no tables yet."""
        if self._store is None:
            from ask_above.store.database import Store

            self._store = Store(self.register) if self.register else Store.in_file((self.folder / REGISTER).resolve())
        return self._store

    def holds_register(self) -> bool:
        """Tell whether the database holds the register; until then CSV files do."""
        if not self.register and not (self.folder / REGISTER).exists():
            return False
        self._made = self._made or self.store.is_made()
        return self._made

    # -- reading

    def read(self) -> Snapshot:
        """Return the community as it is now; what was left unfinished is finished where that can be done.

        Where nothing has changed since it was last read, that is the very same snapshot.
        """
        with uncollected():
            state = self._state()
            if self._last is not None and state is not None and self._last[0] == state:
                return self._last[1]
            snapshot = self._read_settled()
            self._last = None if state is None else (self._state(), snapshot)
            return snapshot

    def _state(self) -> object | None:
        """Return what tells one state from every other: the files' texts, and how many changes there have been.

        ``None`` where something was left unfinished.
        """
        texts = self._texts()
        if not self.holds_register():
            rows = [(self.folder / name) for name in (MEMBERS, ASSIGNMENTS)]
            return texts, tuple(file.read_bytes() if file.exists() else None for file in rows)
        version, unfinished = self.store.version()
        return None if unfinished else (texts, version)

    def _read_settled(self) -> Snapshot:
        if not self.holds_register():
            return self._read(None)
        for _ in range(3):
            loaded = self.store.load()
            if loaded.intent is not None:
                self._try_to_finish()
                loaded = self.store.load()
            snapshot = self._read(loaded)
            if self.store.load().version == loaded.version if snapshot.by_hand else True:
                break  # a file that differs was edited by hand, and not by a change made in between
        return snapshot

    def _read(self, loaded: Loaded | None) -> Snapshot:
        texts = self._texts()
        intent = loaded.intent if loaded else None
        for name, (old, new) in (intent.files if intent else {}).items():
            if texts.get(name) == old:
                texts[name] = new
        rows = None if loaded is None else self._rows(loaded)
        files = read_files(self._fetch(texts), self.name, rows)
        return Snapshot(files.charter, files.register, texts, loaded)

    def at(
        self, snapshot: Snapshot, texts: Mapping[str, str], rows: tuple[Rows, Rows] | None = None
    ) -> tuple[Charter, Register]:
        """Read the community with other texts of its files; raises where they cannot be meant."""
        if rows is None and snapshot.loaded is not None:
            rows = self._rows(snapshot.loaded)
        files = read_files(self._fetch(texts), self.name, rows)
        return files.charter, files.register

    def charter_of(self, texts: Mapping[str, str]) -> Charter:
        """Read the charter alone, with other texts of its files."""
        return read_files(self._fetch(texts), self.name, (Rows(MEMBERS), Rows(ASSIGNMENTS))).charter

    def _rows(self, loaded: Loaded) -> tuple[Rows, Rows]:
        members, assignments = Rows(self.store.name), Rows(self.store.name)
        members.rows = [Row(cells, 0) for cells in loaded.members]
        assignments.rows = [Row(cells, 0) for cells in loaded.assignments]
        return members, assignments

    def _texts(self) -> dict[str, str]:
        """Return the charter's text and those of the files that it may name beside it."""
        found = {}
        for file in sorted(self.folder.glob("*.yaml")):
            try:
                text = read_text(file)
            except (UnicodeDecodeError, OSError):
                continue  # reading the charter says what is wrong with a file that it names
            if text is not None:
                found[file.name] = text
        if self.name not in found and (self.folder / self.name).exists():
            text = read_text(self.folder / self.name)
            found[self.name] = text or ""
        return found

    def _fetch(self, texts: Mapping[str, str]) -> Fetch:
        def fetch(name: str) -> bytes | None:
            if name in texts:
                return texts[name].encode("utf-8")
            file = self.folder / name
            return file.read_bytes() if file.exists() else None

        return fetch

    # -- changing

    @contextmanager
    def locked(self) -> Iterator[None]:
        """Keep others from changing the community meanwhile; waits for those who are at it.

        Whoever holds it may take it again: what is read, planned and made within is made on what was read.
        """
        from filelock import FileLock, Timeout

        try:
            with FileLock((self.folder / LOCK).resolve(), timeout=_WAIT, is_singleton=True):
                yield
        except Timeout:
            raise BusyError(
                f"Somebody else has been changing {self.folder.name} for {_WAIT} seconds; try again."
            ) from None

    def adopt(self) -> None:
        """Take the register over from the CSV files into the database; call it locked, and once."""
        from ask_above.change.draft import RowChange, assignment_row, member_row
        from ask_above.store.database import Entry, Store

        snapshot = self._read(None)
        rows = [
            RowChange("members", key, None, member_row(member)) for key, member in snapshot.register.members.items()
        ]
        rows += [RowChange("assignments", "0", None, assignment_row(each)) for each in snapshot.register.assignments]
        entry = Entry(
            0, now(), "", "import", f"take over {len(snapshot.register.members)} members from CSV files", rows=rows
        )
        if self.register:
            self.store.make()
            with self.store.writing() as connection:
                self.store.write(connection, entry, snapshot.texts)
            return
        spare = self.folder / f".{REGISTER}.{os.getpid()}"
        spare.unlink(missing_ok=True)
        store = Store.in_file(spare.resolve())
        store.make()
        with store.writing() as connection:
            store.write(connection, entry, snapshot.texts)
        store.engine.dispose()
        spare.replace(self.folder / REGISTER)
        for rest in self.folder.glob(f"{spare.name}-*"):
            rest.unlink()
        self._store = None

    def change(
        self,
        entry: Entry,
        before: Snapshot,
        texts: Mapping[str, str],
        letters: Sequence[tuple[str, str]] = (),
        by_hand: Sequence[Entry] = (),
    ) -> Entry:
        """Make a change that was planned on ``before``: journal, rows and files together.

        ``by_hand`` are the entries for what was edited by hand since the last change; they come first.

        Call it locked. Raises :class:`ChangedMeanwhileError` where the community is no longer as it was planned on;
        where a file cannot be written the change is taken back, and the ``OSError`` is raised.
        """
        with self.store.writing() as connection:
            if self.store.version_on(connection) != before.version or self._texts() != before.texts:
                raise ChangedMeanwhileError(
                    "Somebody else changed the community meanwhile; nothing was done. Look again."
                )
            for hand in by_hand:
                self.store.write(connection, hand, before.texts)
            made = self.store.write(connection, entry, texts, letters, before.texts)
        changed = {n: (before.texts[n], t) for n, t in texts.items() if before.texts.get(n) != t}
        try:
            self._write_files(changed, letters)
        except OSError:
            with self.store.writing() as connection:
                self.store.take_back(connection, made, before.texts)
            raise
        if changed or letters:
            self._strike_off(made.number)
        return made

    def _write_files(self, files: Mapping[str, tuple[str, str]], letters: Sequence[tuple[str, str]]) -> None:
        for name, (_, new) in files.items():
            write_whole(self.folder / name, new)
        for name, text in letters:
            (self.folder / OUTBOX).mkdir(exist_ok=True)
            write_whole(self.folder / OUTBOX / name, text)

    def _strike_off(self, number: int) -> None:
        """Note that what was decided has been written; where that fails, the next opening does it."""
        with suppress(OSError), self.store.writing() as connection:
            self.store.done(connection, number)

    def finish(self) -> None:
        """Finish what an earlier run decided and did not write; call it locked.

        A file that was edited by hand in between is kept beside the one that is written, so that nothing is lost.
        """
        intent: Intent | None = self.store.unfinished()
        while intent is not None:
            texts = self._texts()
            for name, (old, new) in intent.files.items():
                if texts.get(name) not in (old, new, None):
                    write_whole(self.folder / f"{name}.by-hand-{intent.journal}", texts[name])
            self._write_files(intent.files, intent.letters)
            with self.store.writing() as connection:
                self.store.done(connection, intent.journal)
            intent = self.store.unfinished()

    def _try_to_finish(self) -> None:
        """Finish what was left; where somebody is at it or the folder cannot be written, it counts all the same."""
        try:
            with self.locked():
                self.finish()
        except (BusyError, OSError):
            return


def entries_by_hand(snapshot: Snapshot, what: Sequence[str], effect: Sequence[str]) -> list[Entry]:
    """Return the journal's entries for files edited by hand; the first says in words what differs, and its effect."""
    from ask_above.store.database import Entry

    found = []
    for n, (name, (old, new)) in enumerate(snapshot.by_hand.items()):
        said = f": {'; '.join(what)}" if what and n == 0 else ""
        pieces = list(differing(name, old, new))
        told = list(effect) if n == 0 else []
        found.append(Entry(0, now(), "", "hand", f"{name} was edited by hand{said}", effect=told, splices=pieces))
    return found


def differing(name: str, old: str, new: str) -> Iterator[tuple[str, int, str, str]]:
    """Yield the pieces in which two texts differ, line by line; each counts on those before it."""
    before, after = old.splitlines(keepends=True), new.splitlines(keepends=True)
    at, shift = 0, 0
    for tag, i, j, k, m in SequenceMatcher(None, before, after, autojunk=False).get_opcodes():
        removed, added = "".join(before[i:j]), "".join(after[k:m])
        if tag != "equal":
            yield name, at + shift, removed, added
            shift += len(added) - len(removed)
        at += len(removed)


def now() -> str:
    """Return this moment as the journal writes it: in UTC, to the second."""
    from datetime import UTC, datetime

    return datetime.now(UTC).isoformat(timespec="seconds")
