"""Where a community lies: its folder, the mark it keeps, the database beside it, and how a piece of either is read."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from ask_above.charter.charter import Charter
from ask_above.errors import StoreError
from ask_above.files.folder import Fetch, read_files
from ask_above.files.writing import ASSIGNMENTS, CHARTER, MARK, MEMBERS, REGISTER, is_inside, read_bytes
from ask_above.people.reading import ASSIGNMENT_COLUMNS, MEMBER_COLUMNS, FileRow, FileRows
from ask_above.store.entries import Loaded

if TYPE_CHECKING:
    from ask_above.store.database import Store, Transaction
    from ask_above.store.entries import FileRecord

TABLES = {
    "members": (MEMBERS, MEMBER_COLUMNS, ("key",)),
    "assignments": (ASSIGNMENTS, ASSIGNMENT_COLUMNS, ("member", "rank")),
}
"""The register's two files: the table, its file, the columns, those that have to be there."""
MOST_IN_FILES = 2_000
"""With more members than these the register is in the database alone: nobody edits so many lines by hand."""
_WAYS = (
    "Put a copy of it back, or start anew from members.csv and assignments.csv, without the journal so far: "
    "ask-above import --anew"
)


class FolderMark(NamedTuple):
    """``register`` is what messages call the database, ``id`` its own, ``folder`` this folder's.

    ``state`` is the number of a change, which folders of before remembered.
    """

    register: str
    id: str
    folder: str = ""
    state: int | None = None

    @property
    def content(self) -> bytes:
        """What the file holds."""
        import json

        said = {name: value for name, value in self._asdict().items() if value not in ("", None)}
        return (json.dumps(said, indent=2) + "\n").encode("utf-8")

    def key_in(self, folder: Path) -> str:
        """Return what a database of several folders knows this one by: two that were copied lie in different places."""
        import hashlib

        return hashlib.sha256(f"{self.folder}\n{folder.resolve()}".encode()).hexdigest()


def read_mark(folder: Path) -> FolderMark | None:
    """Return what a folder remembers, ``None`` where it never had a database; raises for what cannot be read."""
    raw = read_bytes(folder / MARK)
    if raw is None:
        return None
    try:
        import json

        said = json.loads(raw)
        state = int(said["state"]) if "state" in said else None
        return FolderMark(str(said["register"]), str(said["id"]), str(said.get("folder", "")), state)
    except (ValueError, KeyError, TypeError):
        raise StoreError(
            f"{MARK} does not say which database this folder belongs to. Restore it from a copy, or delete it: then "
            "the folder's own database, or the named one, is used."
        ) from None


class Location:
    """A folder with a charter of this name, and the register's database: the one that a URL names, else its own."""

    def __init__(self, folder: Path, name: str = CHARTER, register: str | None = None) -> None:
        self.folder, self.name, self.register = folder, name, register
        self.limit: float | None = None
        self.opened: Store | None = None
        self.read_already: tuple[str, bytes] | None = None
        self.made = False

    @property
    def store(self) -> Store:
        """The database; it may have no tables yet."""
        if self.opened is None:
            from ask_above.store.database import Store

            self.opened = Store(self.register, limit=self.limit) if self.register else Store.in_file(self._own)
        return self.opened

    @property
    def called(self) -> str:
        """What messages call the database, while it is in the making too."""
        from ask_above.store.database import Store

        return Store(self.register).name if self.register else REGISTER

    @property
    def file(self) -> Path | None:
        """The SQLite file that holds the register, the folder's own or a named one; ``None`` for a server."""
        return self.store.file if self.register else self._own

    @cached_property
    def _own(self) -> Path:
        return (self.folder / REGISTER).resolve()

    @property
    def is_own(self) -> bool:
        """Whether the database is the folder's own, and no other folder's."""
        return not self.register

    def records(self, connection: Transaction, loaded: Loaded, *, settling: bool = False) -> dict[str, FileRecord]:
        """Return what was last written into each of the folder's files.

        Raises ``StoreError`` where that is newer than the database, which was restored from a copy then, unless
        somebody is ``settling`` that.
        """
        from ask_above.store.entries import FileRecord, digest
        from ask_above.store.rows import read_records

        mark = read_mark(self.folder)
        file_records = read_records(connection, self.folder_key(mark))
        state = mark.state if mark else None
        if state is not None and self.is_own:  # a folder of before, with files of this state
            file_records = {
                name: record._replace(placed=state >= record.number) for name, record in file_records.items()
            }
        elif state is not None and not file_records and state <= loaded.last:
            texts = self._texts_at(state, loaded, connection)
            file_records = {name: FileRecord(digest(text.encode("utf-8")), "", state) for name, text in texts.items()}
        newest = max((record.number for record in file_records.values()), default=state or 0)
        if max(newest, state or 0) > loaded.last:
            if not settling:
                raise StoreError(_restored(self.called, max(newest, state or 0), loaded.last))
            return {}
        return file_records

    def _texts_at(self, state: int, loaded: Loaded, connection: Transaction) -> dict[str, str]:
        """Return what the charter's files held at a state, by taking back what the journal did since."""
        from ask_above.files.splice import as_before

        texts = dict(loaded.files)
        for entry in reversed(self.store.entries(since=state, connection=connection, rows=False)):
            # an older journal may not know what a file held while the charter did not name it
            texts = as_before(texts, [piece for piece in entry.splices if piece[0] in texts])
        return texts

    def folder_key(self, mark: FolderMark | None) -> str:
        """Return what the database knows this folder by."""
        return "" if self.is_own or mark is None else mark.key_in(self.folder)

    def holds_register(self) -> bool:
        """Whether the database holds the register; until the first change CSV files do.

        Raises ``StoreError`` where a database was there and is gone, is empty, or is that of another community.
        """
        file = self.file
        if file is not None and not file.exists():
            if (mark := read_mark(self.folder)) is not None:
                raise StoreError(_gone(mark))
            return False
        if self.made:
            return True
        mark = read_mark(self.folder)
        if not self.store.bring_up_to_date():
            if not self.register:
                raise StoreError(f"{REGISTER} is empty. {_WAYS}")
            if mark is not None:
                raise StoreError(f"{self.store.name} holds no register, and this folder's is {mark.register}. {_WAYS}")
            return False
        self.made = True
        return True

    def check_mark(self, mark: FolderMark | None, loaded: Loaded) -> None:
        """Raise ``StoreError`` where the database is another folder's, or names files that are none of this one's."""
        if mark is not None and loaded.id and mark.id != loaded.id:
            raise StoreError(
                f"{self.store.name} is the register of another folder; this folder's is {mark.register}, with another "
                f"id. {_WAYS}"
            )
        for name in (*loaded.files, *(name for name, _ in loaded.letters)):
            if not is_inside(name):
                raise StoreError(
                    f"{self.store.name} names a file outside its folder, {name!r}; it is not to be trusted."
                )

    # -- pieces

    def keeps_files(self, size: int, *, aside: bool = False) -> bool:
        """Whether the register's two files are kept true beside the database; ``aside``: they were put aside."""
        return self.is_own and size <= MOST_IN_FILES and not aside

    def charter_of(self, texts: Mapping[str, str]) -> Charter:
        """Read the charter alone, with other texts of its files."""
        return read_files(self.fetch(texts), self.name, (FileRows(MEMBERS), FileRows(ASSIGNMENTS))).charter

    def kept_charter(self, texts: Mapping[str, str]) -> Charter | None:
        """Return the charter of these texts where it was read already, by another process."""
        from ask_above.files.charter_json import key_of, loaded

        if self.read_already is None or self.read_already[0] != key_of(texts):
            return None
        return loaded(self.read_already[1])

    def rows_of(self, loaded: Loaded) -> tuple[FileRows, FileRows]:
        """Return the register's rows as the database holds them."""
        members, assignments = FileRows(self.store.name), FileRows(self.store.name)
        members.rows = [FileRow(cells, 0) for cells in loaded.members]
        assignments.rows = [FileRow(cells, 0) for cells in loaded.assignments]
        return members, assignments

    def fetch(self, texts: Mapping[str, str], found: dict[str, bytes | None] | None = None) -> Fetch:
        """Return what gives a file's bytes: from texts, else from the folder, which is noted in ``found``."""

        def fetched(name: str) -> bytes | None:
            if name in texts:
                return texts[name].encode("utf-8")
            raw = read_bytes(self.folder / name)
            if found is not None:
                found[name] = raw
            return raw

        return fetched


def _restored(called: str, written: int, last: int) -> str:
    return (
        f"The folder's files were written at change {written}, and {called} is at change {last}: it was restored from "
        "a copy. To let the files count as they stand: ask-above journal --take charter.yaml. To write the database's "
        "state in their place: ask-above undo --edits"
    )


def _gone(mark: FolderMark) -> str:
    if mark.register == REGISTER:
        return f"{REGISTER} is gone, and this folder has had one. {_WAYS}"
    return (
        f"This folder's register is in {mark.register}; name it with --register URL, or in ASK_ABOVE_REGISTER. "
        "To start anew from members.csv and assignments.csv, without it: ask-above import --anew"
    )
