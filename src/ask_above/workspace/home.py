"""A community's home: its folder and the database of its register, read and changed as one.

Reading takes the files first and then the database, as of one moment, and writes nothing: a file that holds what was
last written into it counts as the database has it, one that was edited by hand counts as it stands.

A change prepares every file beside its place, decides in the database in one transaction, and then puts the files in
their places. Whoever is stopped in between leaves files that are old, which the next change writes.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any
from uuid import uuid4

from ask_above.change.draft import EditError, RowChange, assignment_row, member_row
from ask_above.charter.charter import Charter
from ask_above.charter.names import listed
from ask_above.collecting import without_collecting
from ask_above.errors import AskAboveError, FaultyFilesError
from ask_above.files.folder import read_files
from ask_above.files.register_csv import written
from ask_above.files.writing import (
    ASSIGNMENTS,
    CHARTER,
    LOCK,
    MARK,
    MEMBERS,
    OUTBOX,
    PRIVATE,
    PUBLIC,
    FileBatch,
    batch,
    clear_spares,
    put_new,
    read_bytes,
    set_aside,
    write_bytes,
)
from ask_above.people.register import Register
from ask_above.store.entries import Claims, Entry, Loaded
from ask_above.workspace.location import MOST_IN_FILES, TABLES, FolderMark, Location, read_mark
from ask_above.workspace.storage import (
    BusyError,
    Planned,
    Remembered,
    Snapshot,
    WentOn,
    meanwhile,
    now,
    numbered,
    taking_over,
    with_named,
)

if TYPE_CHECKING:
    from ask_above.store.database import Store, Transaction
    from ask_above.store.strangers import Person

_WAIT = 30
_TABLES = tuple((name, table) for table, (name, *_) in TABLES.items())

WAY_BACK = "To go back to the files as the last change left them: ask-above undo --edits"


class Home:
    """A folder with a charter, and the database of its register.

    ``on_demand``: of a large register a member's rows are read when they are asked about.
    """

    def __init__(
        self, folder: Path, name: str = CHARTER, register: str | None = None, *, on_demand: bool = False
    ) -> None:
        self.location = Location(folder, name, register)
        self.folder, self.name, self.register, self.on_demand = folder, name, register, on_demand
        self._last: tuple[tuple[dict[str, bytes | None], int | None], Snapshot] | None = None
        self._names: tuple[str, ...] = ()
        self._reading: ExitStack | None = None
        self._sets_aside = False
        self._taking: frozenset[str] = frozenset()
        self._forgets: Person | None = None
        self.kept: dict[str, Any] = {}
        self.went_on: WentOn | None = None
        self.told: list[str] = []

    @property
    def store(self) -> Store:
        """The database; it may have no tables yet."""
        return self.location.store

    # -- reading

    def read(self, *, take: Iterable[str] = ()) -> Snapshot:
        """Return the community as it is now; nothing is written.

        Where nothing has changed since it was last read, that is the very same snapshot. The files in ``take`` count
        as they stand, whatever speaks against them.
        """
        self._taking = frozenset(take)
        snapshot = None if self.location.holds_register() else self._read_before_the_first_change()
        if snapshot is None:
            try:
                snapshot = self._read_both()
            except FaultyFilesError as error:
                error.way_back = WAY_BACK
                raise
        if snapshot.behind and not self._taking and self._finish():
            self._last = None
            snapshot = self._read_both()
        self._names = tuple(snapshot.texts)
        here = {name: snapshot.found.get(name) for name in self._every(())}
        version = snapshot.loaded.version if snapshot.loaded else None
        self._last = None if self._taking else ((here, version), snapshot)
        return snapshot

    def forget_what_was_read(self) -> None:
        """Let the next reading read all of it again."""
        self._last = None

    def keep_files_again(self) -> None:
        """Write the register's two files where they were put aside, and keep them from now on.

        Raises ``EditError`` where they are kept already, and where there are too many members for that.
        """
        known = self.read().loaded
        if known is None or self.location.keeps_files(known.size, aside=known.aside):
            raise EditError(f"A community is read from the files in {self.folder.name}; name another folder.")
        with self.locked(), batch() as files:
            loaded = self.store.load()
            if not self.location.keeps_files(loaded.size):
                most = f"with at most {MOST_IN_FILES:,} members, and a database of the folder's own"
                raise EditError(f"Files are kept beside the register {most}; name another folder.")
            contents = self._found(tuple(loaded.files))
            kept = self._newest(loaded._replace(aside=False), contents)
            newest = {name: kept[name] for name, _ in _TABLES}
            for name, content in newest.items():
                files.prepare(self.folder / name, content, PRIVATE)
            with self.store.writing() as connection:
                self.store.set_state(connection, "aside", value=False)
            self._write_and_note(loaded, newest, contents, files)
        self._last = None

    def drop_edits(self) -> list[tuple[str, str]]:
        """Write what the last change left into the files; what was edited by hand stays beside them.

        Returns the names of each file and of what it held. Raises ``EditError`` where no change has been made yet.
        """
        if not self.location.holds_register():
            raise EditError("Nothing was changed by command yet, so no earlier state of the files is known.")
        put: list[tuple[str, str]] = []
        with self.locked(), batch() as files:
            there = frozenset(file.name for file in self.folder.iterdir())
            loaded = self.store.load()
            contents = self._found(tuple(loaded.files))
            for name, content in self._newest(loaded, contents).items():
                if contents[name] == content:
                    continue
                aside = set_aside(name, there)
                if contents[name] is not None:
                    files.prepare(self.folder / aside, contents[name] or b"")
                files.prepare(self.folder / name, content)
                put.append((name, aside if contents[name] is not None else ""))
            self._write_and_note(loaded, self._newest(loaded, contents), contents, files)
        self._last = None
        return put

    def _newest(self, loaded: Loaded, found: Mapping[str, bytes | None]) -> dict[str, bytes]:
        """Return what each file holds that is kept in this folder, as the last change left it."""
        newest = {name: text.encode("utf-8") for name, text in loaded.files.items()}
        if self.location.keeps_files(loaded.size, aside=loaded.aside):
            rows = {"members": loaded.members, "assignments": loaded.assignments}
            newest |= {name: written(table, found.get(name), rows[table]) for name, table in _TABLES}
        return newest

    def _finish(self) -> bool:
        """Write what was decided and has not been written into this folder; tells whether anything was.

        Nobody waits for that: where somebody is at it, or nothing may be written, it counts as it was decided.
        """
        with suppress(AskAboveError, OSError), self.locked(wait=0):
            snapshot = self._read_both()
            loaded = snapshot.loaded
            if loaded is None or not snapshot.behind:
                return True
            edited = {*snapshot.by_hand, *snapshot.held, *(TABLES[row.table][0] for row in snapshot.rows)}
            newest = {name: raw for name, raw in self._newest(loaded, snapshot.found).items() if name not in edited}
            with batch() as files:
                for name in snapshot.old:
                    if name in newest:
                        files.prepare(self.folder / name, newest[name], PRIVATE if name in dict(_TABLES) else PUBLIC)
                self._prepare_letters(loaded.letters, files)
                self._write_and_note(loaded, newest, snapshot.found, files)
            return True
        return False

    def _write_and_note(
        self, loaded: Loaded, newest: Mapping[str, bytes], found: Mapping[str, bytes | None], files: FileBatch
    ) -> None:
        """Put prepared files in their places, and note before and after it what they hold."""
        mark = self._mark(loaded.id)
        files.prepare(self.folder / MARK, mark.content)
        with self.store.writing() as connection:
            for name, content in newest.items():
                self._note(connection, mark, name, content, found.get(name), loaded.last)
        files.place()
        self._letters_written()

    def _prepare_letters(self, letters: Sequence[tuple[str, str]], files: FileBatch) -> None:
        for name, text in letters:
            (self.folder / OUTBOX).mkdir(exist_ok=True, mode=0o700)
            files.prepare(self.folder / OUTBOX / name, text.encode("utf-8"), PRIVATE)

    def _mark(self, key: str) -> FolderMark:
        """Return what the folder is to remember; which folder it is stays as it was."""
        known = read_mark(self.folder)
        folder = known.folder if known is not None and known.folder else uuid4().hex
        return FolderMark(self.location.called, key, folder)

    def _note(
        self, connection: Transaction, mark: FolderMark, name: str, content: bytes, found: bytes | None, number: int
    ) -> None:
        """Note what is about to be written into a file, and what it holds now."""
        from ask_above.store.entries import FileRecord, digest
        from ask_above.store.rows import write_record

        new = digest(content)
        before = new if found == content else "" if found is None else digest(found)
        record = FileRecord(new, before, number, placed=False)
        write_record(connection, self.location.folder_key(mark), name, record)

    def _read_both(self) -> Snapshot:
        """Read files first and then the database: what a command wrote into a file is then in the database too."""
        from ask_above.workspace.by_hand import Reading

        names: tuple[str, ...] = ()
        while True:
            contents = self._found(names)
            if self._last is not None and not self._taking:
                with self.store.reading() as looking:
                    if self._last[0] == (contents, self.store.version_on(looking)):
                        return self._last[1]
            with ExitStack() as stack:
                connection = stack.enter_context(self.store.reading(own=self.on_demand))
                lazy = self.on_demand and not self.location.keeps_files(self.store.size_on(connection))
                loaded = self.store.load_on(connection, register=not lazy)
                if set(loaded.files) <= contents.keys():
                    self.location.check_mark(read_mark(self.folder), loaded)
                    try:
                        snapshot = Reading(self.location, {**contents}, loaded, connection, self._taking).snapshot()
                    except AskAboveError:
                        if self._found(names) == contents:
                            raise
                        continue
                    # what a command puts in its place between the two readings looks like an edit by hand
                    if (snapshot.is_edited or snapshot.held) and self._found(names) != contents:
                        continue
                    if lazy:  # what it still reads is as of the same moment
                        from ask_above.workspace.on_demand import hold_open

                        self._reading = stack.pop_all()
                        hold_open(snapshot.register, self._reading)
                    return snapshot
            names = tuple(loaded.files)

    def _every(self, names: Sequence[str]) -> dict[str, None]:
        return dict.fromkeys((self.name, *self._names, *names, MEMBERS, ASSIGNMENTS))

    def _found(self, names: Sequence[str] = ()) -> dict[str, bytes | None]:
        """Return what the folder's files hold: the charter, those named beside it, the register's two."""
        return {name: read_bytes(self.folder / name) for name in self._every(names)}

    def read_charter(self) -> tuple[Charter, dict[str, str]]:
        """Return the charter as it counts now, and its texts, without the register, which the database holds."""
        from ask_above.workspace.by_hand import Reading

        names: tuple[str, ...] = ()
        while True:
            contents = self._found(names)
            with self.store.reading() as connection:
                loaded = self.store.load_on(connection, register=False)
                if set(loaded.files) <= contents.keys():
                    read = Reading(self.location, {**contents}, loaded, connection).charter_alone()
                    if self._found(names) == contents:
                        return read
            names = tuple(loaded.files)

    def texts_found(self) -> dict[str, bytes | None]:
        """Return what the charter's files hold now."""
        return {name: read_bytes(self.folder / name) for name in dict.fromkeys((self.name, *self._names))}

    def _read_before_the_first_change(self) -> Snapshot | None:
        """Return what the files say; ``None`` where somebody made the first change while they were read."""
        try:
            snapshot = self._read_files()
        except (AskAboveError, OSError):
            if self.location.holds_register():
                return None
            raise
        return None if self.location.holds_register() else snapshot

    def _read_files(self) -> Snapshot:
        """Read the community while files hold all of it."""
        if self._last is not None and self._last[0] == (self._found(), None):
            return self._last[1]
        contents: dict[str, bytes | None] = {}

        def fetch(name: str) -> bytes | None:
            contents[name] = read_bytes(self.folder / name)
            return contents[name]

        files = read_files(fetch, self.name)
        return Snapshot(
            files.charter, files.register, _texts(contents, (self.name, *files.charter.add_ons)), contents, None
        )

    def charter_of(self, texts: Mapping[str, str]) -> Charter:
        """Read the charter alone, with other texts of its files."""
        return self.location.charter_of(texts)

    def entries(self, *, since: int = 0) -> list[Entry]:
        """Return the journal's entries after one, oldest first; none before the first change by command."""
        return self.store.entries(since=since) if self.location.holds_register() else []

    def claims(self) -> list[Claims]:
        """Return what directories claim of members who come from them (rule 9.15)."""
        from ask_above.store.keys import read_claims

        return read_claims(self.store) if self.location.holds_register() else []

    def claim(self, claims: Claims) -> None:
        """Keep what a directory claims from now on; nothing of anything takes it out."""
        from ask_above.store.keys import write_claims

        if self.location.holds_register() and claims not in self.claims():
            write_claims(self.store, claims)

    def remembered(self, member: str) -> Remembered:
        """Return what is kept of a member beside their row."""
        outbox, stored = self.folder / OUTBOX, self.location.holds_register()
        return Remembered(
            self.store.notes_of(member) if stored else (),
            self.store.given_to(member) if stored else (),
            sorted(path.name for path in outbox.glob(f"*-{member}.eml")) if outbox.is_dir() else (),
        )

    def file(self, name: str) -> bytes | None:
        """Return what a file beside the charter holds, ``None`` where there is none."""
        return read_bytes(self.folder / name)

    # -- changing

    @contextmanager
    def locked(self, *, wait: float = _WAIT) -> Iterator[None]:
        """Keep others from changing the community meanwhile; waits so many seconds for those who are at it.

        Whoever holds it may take it again: what is read, planned and made within is made on what was read.
        """
        from filelock import FileLock, Timeout

        try:
            # one lock for a folder in a process, whoever waits for it and however long
            with FileLock((self.folder / LOCK).resolve(), is_singleton=True).acquire(timeout=wait):
                yield
        except Timeout:
            raise BusyError(
                f"Somebody else has been changing {self.folder.name} for {_WAIT} seconds; try again."
            ) from None

    @without_collecting()
    def change(self, planned: Planned) -> Entry:
        """Make a change as it was planned: journal, rows, files and letters together or not at all.

        The first change takes the register over from the CSV files, in the same transaction.

        Call it locked. Raises :class:`ChangedMeanwhileError` where the community is no longer as it was planned on, and
        ``OSError`` where something cannot be written: then nothing has changed.
        """
        self.told, self._sets_aside, self._forgets = [], False, None
        before = planned.before
        for folder in (self.folder, self.folder / OUTBOX):
            clear_spares(folder)
        with batch() as files:
            if before.loaded is None and self.location.file is not None and planned.entry is not None:
                return self._first(self.location.file, planned, files)
            # the lock of the folder keeps out who uses it, the transaction who uses the same database elsewhere
            with self.store.writing() as connection:
                if before.loaded is None:
                    if self.store.schema_on(connection) is not None:
                        raise meanwhile()
                    self._check_files(before)
                    self.store.make_on(connection)
                elif self.store.version_on(connection) != before.version:
                    raise meanwhile()
                else:
                    self._check_files(before)
                made = self._decide(connection, planned, files)
            self._put(files, made)
            return made

    def _first(self, file: Path, planned: Planned, files: FileBatch) -> Entry:
        """Make the first change into a new file: beside its place, whole on the disk, then put there."""
        from ask_above.store.database import Store

        # beside its place, so that it gets there by one rename and is never seen half
        spare = file.parent / f".ask-above-{os.getpid()}.part"
        try:
            self._check_files(planned.before)
            store = Store.in_file(spare, make=True)
            self.location.opened = store
            with store.writing() as connection:
                store.make_on(connection)
                made = self._decide(connection, planned, files)
            store.engine.dispose()
            self.location.opened = None
            with spare.open("rb") as made_anew:
                # else the rename may be on the disk before what it names
                os.fsync(made_anew.fileno())
            self._put_new(spare, file)
        except BaseException:
            self.location.opened = None
            for rest in file.parent.glob(f"{spare.name}*"):
                with suppress(OSError):
                    rest.unlink()
            raise
        # it only lets readers and a writer work at once; the change has been made already
        with suppress(AskAboveError):
            self.store.settle()
        self._put(files, made)
        return made

    @staticmethod
    def _put_new(spare: Path, file: Path) -> None:
        """Put a database in its place; raises where somebody else made the first change meanwhile."""
        try:
            put_new(spare, file)
        except FileExistsError:
            raise meanwhile() from None

    def _check_files(self, before: Snapshot) -> None:
        """Raise where a file is no longer as it was planned on, or somebody made the first change."""
        file = self.location.file
        taken_over = before.loaded is None and file is not None and file.exists()
        if taken_over or any(read_bytes(self.folder / name) != raw for name, raw in before.found.items()):
            raise meanwhile()

    def _decide(self, connection: Transaction, planned: Planned, files: FileBatch) -> Entry:
        """Write all of a change into the database, and prepare its files; not yet for good."""
        from ask_above.files.charter_json import dumped, key_of
        from ask_above.store.keys import keep_group_numbers

        store, entry, before, texts = self.store, planned.entry, planned.before, planned.texts
        made: list[RowChange] = []
        if before.loaded is None:
            first = store.write(connection, taking_over(before.register), before.texts)
            made += first.rows
        changed = planned.by_hand
        if changed is not None:
            changed = store.write(connection, changed._replace(at=now()), before.texts)
            made += changed.rows
        charter, register = planned.charter, planned.register
        kept = {
            name: texts[name] if name in texts else _text(self.folder / name) for name in (self.name, *charter.add_ons)
        }
        if entry is not None:
            same = before.loaded is not None and before.loaded.files == kept and changed is None
            entry = with_named(entry._replace(at=now(), rows=numbered(entry.rows, made)), before.texts, kept)
            changed = store.write(connection, entry, kept, planned.letters, same_files=same)
        if changed is None:  # edits by hand were to be recorded, and there are none
            raise meanwhile()
        # after the entry is written, so that the entry itself is gone over as well
        if changed.kind == "forget":
            changed, register = self._forgotten(connection, changed, before, charter)
        self._prepare(connection, changed.number, planned._replace(texts=kept, register=register), files)
        key = key_of(kept)
        if not store.has_compiled(key, connection):
            store.keep_compiled(connection, key, dumped(charter))
            kinds = {"group": charter.groups, "rank": charter.ranks}
            keep_group_numbers(connection, {f"{kind}:{name}" for kind, names in kinds.items() for name in names})
        return changed

    def _forgotten(
        self, connection: Transaction, entry: Entry, before: Snapshot, after: Charter
    ) -> tuple[Entry, Register]:
        """Let a stranger stand for a member in the database; returns the entry and the register with the stranger."""
        from ask_above.store.forgetting import forget, stranger_of
        from ask_above.store.keys import read_tokens_on
        from ask_above.store.strangers import Person, digests_of
        from ask_above.workspace.forgetting import journal_without
        from ask_above.workspace.on_demand import read_register_on

        store, key = self.store, entry.rows[0].key
        gone = before.register.members[key]
        entries = store.entries(connection=connection)
        person = Person.of(member_row(gone), entries, before.register.members, stranger_of(connection))
        gone_by = digests_of(store.id_on(connection), member_row(gone))
        store.set_state(connection, "forgotten", sorted({*(store.state_on(connection, "forgotten") or ()), *gone_by}))
        acting = [token.name for token in read_tokens_on(connection) if token.member in person.keys]
        forget(connection, person, journal_without(entries, before.texts, person))
        self.told.append(person.said)
        if acting:
            tokens, are = ("The token", "is") if len(acting) == 1 else ("The tokens", "are")
            self.told.append(f"{tokens} {listed(acting)}, which acted as them, {are} taken back.")
        self._forgets = person
        return entry, read_register_on(connection, after, store.name)

    def _erase(self, person: Person) -> None:
        """Take letters to somebody who was forgotten out of the outbox, and them out of others'; say what is left."""
        from ask_above.files.mail import SENT, letters_in, reworded
        from ask_above.files.signins import SIGNINS

        if self._reading is not None:  # nobody may be reading while the file is written anew
            self._reading.close()
            self._reading = None
        self.store.purge()
        outbox = self.folder / OUTBOX
        for letter in (*letters_in(outbox), *letters_in(outbox / SENT)):
            raw = letter.read_bytes()
            if person.is_meant_by(letter.name, raw):
                letter.unlink()
            elif (left := reworded(raw, person.without)) != raw:
                write_bytes(letter, left, PRIVATE)
        copies = (*self.folder.glob("*.put-aside*.csv"), *self.folder.glob("register.before-*.db"))
        if copies:
            names = ", ".join(sorted(copy.name for copy in copies))
            self.told.append(f"Copies of earlier states may name them still: {names}. Delete them, and your backups.")
        sign_ins = read_bytes(self.folder / SIGNINS) or b""
        if person.key_words.search(sign_ins.decode("utf-8", "replace")):
            self.told.append(f"{SIGNINS} names them still: it is the site's, and nothing here writes it.")

    def _prepare(self, connection: Transaction, number: int, planned: Planned, files: FileBatch) -> None:
        """Prepare what the files hold after a change, and note it under the change's number."""
        mark, before = self._mark(self.store.id_on(connection)), planned.before
        for name, text in planned.texts.items():
            content, here = text.encode("utf-8"), before.found.get(name)
            if name in before.held:  # an edit of an older state stays where it is until somebody settles it
                self._carry(connection, mark, name, before)
                continue
            if here != content:
                files.prepare(self.folder / name, content)
            self._note(connection, mark, name, content, here, number)
        self._prepare_letters(self.store.letters_on(connection), files)
        self._prepare_kept(connection, number, before, planned.register, files)
        if read_bytes(self.folder / MARK) != mark.content:
            files.prepare(self.folder / MARK, mark.content)
        if files.is_empty:
            self._note_placed(connection, mark)

    def _carry(self, connection: Transaction, mark: FolderMark, name: str, before: Snapshot) -> None:
        """Keep what is noted of a file, under what the folder is known by now."""
        from ask_above.store.rows import write_record

        if name in before.records:
            write_record(connection, self.location.folder_key(mark), name, before.records[name])

    def _prepare_kept(
        self, connection: Transaction, number: int, before: Snapshot, register: Register, files: FileBatch
    ) -> None:
        """Prepare the register's two files, or put aside those that are there where none are kept."""
        aside = before.loaded is not None and before.loaded.aside
        if not self.location.keeps_files(len(register.members), aside=aside):
            self._set_aside(before, register)
            if self.location.is_own and not aside:
                self.store.set_state(connection, "aside", value=True)
            return
        mark = FolderMark("", "")  # only a folder's own database has these files
        rows = {
            "members": [member_row(member) for member in register.members.values()],
            "assignments": [assignment_row(given) for given in register.assignments],
        }
        for name, table in _TABLES:
            here = before.found.get(name)
            content = written(table, here, rows[table])
            if here != content:
                files.prepare(self.folder / name, content, PRIVATE)
            self._note(connection, mark, name, content, here, number)

    def _set_aside(self, before: Snapshot, register: Register) -> None:
        """Say what becomes of the register's files where none are kept beside the database; it is done at the end."""
        there = [name for name, _ in _TABLES if before.found.get(name) is not None]
        if not there:
            return
        self._sets_aside = True
        size = "" if self.register else f", with more than {MOST_IN_FILES:,} members ({len(register.members):,}),"
        where = self.location.called
        self.told.append(
            f"{' and '.join(there)} put aside, as the register{size} is in {where} alone now; "
            "ask-above export DIR writes such files."
        )

    def _put(self, files: FileBatch, entry: Entry) -> None:
        """Put the files in their places; what cannot be put there now counts all the same, and is written next time."""
        try:
            if not files.is_empty or self._forgets is not None:
                files.place()
                self._letters_written()
            if self._sets_aside:
                self._put_aside()
        except OSError as error:
            self.told.append(
                f"Change {entry.number} is made, and {Path(error.filename or 'a file').name} could not be written "
                f"({error.strerror or error}); the next change writes it."
            )

    def _put_aside(self) -> None:
        for name, _ in _TABLES:
            if (self.folder / name).exists():
                taken = frozenset(path.name for path in self.folder.iterdir())
                (self.folder / name).rename(self.folder / set_aside(name, taken))

    def _letters_written(self) -> None:
        """Note that files and letters are in their places; where that fails, the next change writes them again."""
        # only now that it is decided and written: what is erased here cannot be brought back
        if self._forgets is not None:
            try:
                self._erase(self._forgets)
            except OSError as error:
                self.told.append(f"Copies of what was taken out may be left ({error}); they go when nobody reads it.")
        with suppress(OSError, AskAboveError), self.store.writing() as connection:
            self._note_placed(connection, read_mark(self.folder))

    def _note_placed(self, connection: Transaction, mark: FolderMark | None) -> None:
        from ask_above.store.rows import note_placed

        self.store.done(connection)
        note_placed(connection, self.location.folder_key(mark))


def _texts(found: Mapping[str, bytes | None], names: Sequence[str]) -> dict[str, str]:
    return {name: (found.get(name) or b"").decode("utf-8") for name in names}


def _text(file: Path) -> str:
    return (read_bytes(file) or b"").decode("utf-8")
