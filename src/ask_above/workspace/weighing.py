"""Files and database held against each other: which file is merely old, which was edited by hand, and what counts."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from ask_above.change.draft import RowChange
from ask_above.charter.charter import Charter
from ask_above.charter.names import listed
from ask_above.charter.where import Where
from ask_above.errors import Fault, FaultyFilesError
from ask_above.files.csv_rows import read_rows
from ask_above.files.folder import read_files
from ask_above.files.names import ASSIGNMENTS, MEMBERS
from ask_above.files.register_csv import meant
from ask_above.people.reading import ASSIGNMENT_COLUMNS, MEMBER_COLUMNS, FileRow, FileRows, owner_fault
from ask_above.people.register import Register
from ask_above.people.rows import assignments_of, members_of
from ask_above.store.entries import Entry, Loaded
from ask_above.workspace.by_hand import Edited, RegisterRows, Sheets, edited_rows, rows_now, taken
from ask_above.workspace.on_demand import register_of
from ask_above.workspace.snapshot import Snapshot
from ask_above.workspace.storage import Storage

if TYPE_CHECKING:
    import sqlalchemy as sa


_TABLES = ((MEMBERS, MEMBER_COLUMNS, ("key",)), (ASSIGNMENTS, ASSIGNMENT_COLUMNS, ("member", "rank")))


class Weighing:
    """One reading of a folder and its database; ``made_from`` is the state that the folder's files were made from."""

    def __init__(
        self,
        storage: Storage,
        found: dict[str, bytes | None],
        loaded: Loaded,
        connection: sa.Connection,
        made_from: int,
    ) -> None:
        self.storage, self.found, self.loaded, self.connection = storage, found, loaded, connection
        self.made_from = made_from
        self.old: list[str] = []
        self.faults: list[Fault] = []
        self.notices: list[str] = []

    @cached_property
    def entries(self) -> list[Entry]:
        """The journal, looked at only where something is neither as it is nor as it was."""
        return self.storage.store.entries(connection=self.connection)

    @cached_property
    def changes(self) -> list[Entry]:
        """The journal without the rows of the register, for what is said of files and their texts."""
        return self.storage.store.entries(connection=self.connection, rows=False)

    @cached_property
    def _last(self) -> RegisterRows:
        """The register as the last change left it, row by row."""
        loaded = self.loaded
        return RegisterRows(
            {row["key"]: row for row in loaded.members}, {row["number"]: row for row in loaded.assignments}
        )

    def weigh(self) -> Snapshot:
        """Return the community; raises :class:`FaultyFilesError` with all that is wrong in what was edited by hand."""
        texts = {name: self._text(name) for name in self.loaded.files}
        edited = self._register() if self.storage.keeps_files(self.loaded.size) else None
        self._left_aside()
        if self.faults:
            raise FaultyFilesError(self.faults)
        if not (edited and edited.rows):
            known = self._as_it_was_left(texts) if texts == self.loaded.files else self._read_already(texts)
            if known is not None:
                return self._made(*known, texts, ())
        if self.loaded.people is None:
            self.loaded = self.storage.store.load_on(self.connection)
        rows = self._rows(edited)
        more: dict[str, bytes | None] = {}
        files = read_files(self.storage.fetch(texts, more), self.storage.name, rows)
        for name in files.charter.add_ons:  # an add-on that the charter names since
            if name not in texts:
                texts[name] = (more.get(name) or b"").decode("utf-8")
                self.found[name] = more.get(name)
        texts = {name: texts[name] for name in (self.storage.name, *files.charter.add_ons)}
        return self._made(files.charter, files.register, texts, edited.rows if edited else ())

    def charter_alone(self) -> tuple[Charter, dict[str, str]]:
        """Return the charter as it counts and its texts, without the register; raises :class:`FaultyFilesError`."""
        texts = {name: self._text(name) for name in self.loaded.files}
        if self.faults:
            raise FaultyFilesError(self.faults)
        more: dict[str, bytes | None] = {}
        charter = read_files(
            self.storage.fetch(texts, more), self.storage.name, (FileRows(MEMBERS), FileRows(ASSIGNMENTS))
        ).charter
        texts |= {name: (more.get(name) or b"").decode("utf-8") for name in charter.add_ons if name not in texts}
        return charter, {name: texts[name] for name in (self.storage.name, *charter.add_ons)}

    def _made(self, charter: Charter, register: Register, texts: dict[str, str], rows: Sequence[RowChange]) -> Snapshot:
        behind = self.made_from < self.loaded.last or self.loaded.waits
        notices, old = tuple(self.notices), tuple(self.old)
        return Snapshot(charter, register, texts, self.found, self.loaded, rows, notices, old, behind)

    def _read_already(self, texts: dict[str, str]) -> tuple[Charter, Register] | None:
        """Return the community with a charter that another process has read; ``None`` where all has to be read."""
        charter = self.storage.kept_charter(texts)
        return None if charter is None else self._with_register(charter)

    def _as_it_was_left(self, texts: dict[str, str]) -> tuple[Charter, Register] | None:
        """Return the community as the last change left it; ``None`` where something of it cannot be meant."""
        from ask_above.files.charter_json import key_of, loaded

        kept = self.storage.store.compiled(key_of(texts), self.connection)
        charter = loaded(kept) if kept else None
        try:
            charter = charter or self.storage.charter_of(texts)
        except FaultyFilesError:
            return None
        return self._with_register(charter)

    def _with_register(self, charter: Charter) -> tuple[Charter, Register] | None:
        register = self._quick_register(charter)
        if register is None or owner_fault(charter.owner, register.members):
            return None
        return charter, register

    def _quick_register(self, charter: Charter) -> Register | None:
        name, rows = self.storage.store.name, self.loaded
        if rows.people is None:
            return register_of(self.connection, charter, name, rows.size)
        where = Where(name, 0, 1)
        members = members_of(rows.people, charter, where)
        given = assignments_of(rows.given or (), charter, members or {}, where)
        if members is None or given is None:
            return None
        register = Register(members, (), name)
        register.given_by(given)
        return register

    # -- the charter

    def _text(self, name: str) -> str:
        """Return one of the charter's files as it counts."""
        last, raw = self.loaded.files[name], self.found.get(name)
        if raw == last.encode("utf-8"):
            return last
        known = None if raw is None else self.storage.store.known(name, raw, self.connection)
        if raw is None or known is not None:
            self.old.append(name)
            self._say_old(name, self.made_from if known is None else known)
            return last
        try:
            text = raw.decode("utf-8")
        except UnicodeDecodeError:
            read_files(lambda wanted: raw if wanted == name else None, name)  # says what is wrong with it
            raise
        counted = taken(name, text, last, self.changes, self.made_from)
        if isinstance(counted, Fault):
            self.faults.append(counted)
            return last
        if counted.base < self.loaded.last and counted.text != text:
            self._merged(name, counted.base)
        return counted.text

    def _say_old(self, name: str, number: int) -> None:
        """Say that a file was put back to an earlier state; one that nobody touched is merely not written yet."""
        if number >= self.made_from:
            return
        since = next((each for each in self.changes if each.number > number), None)
        by = f"before change {since.number} ({since.what})" if since else f"at change {number}"
        back = f" To take that back: ask-above undo {since.number}" if since else ""
        self.notices.append(f"{name} is as it was {by}; what the register's database holds counts.{back}")

    def _merged(self, name: str, base: int) -> None:
        since = [f"{each.number}" for each in self.changes if each.number > base]
        many = "change" if len(since) == 1 else "changes"
        self.notices.append(
            f"{name} was edited as it was at change {base}: the edit counts, and so "
            f"{'does' if len(since) == 1 else 'do'} {many} {listed(since[:5])} since."
        )

    # -- the register

    def _register(self) -> Edited | None:
        """Return what was edited by hand in the register's two files, ``None`` where nothing was."""
        sheets = Sheets(*(self._sheet(*each) for each in _TABLES))
        if self.faults or (sheets.members is None and sheets.given is None):
            return None
        edited = edited_rows(sheets, self._last, self.entries, self.made_from, (MEMBERS, ASSIGNMENTS))
        self.faults += edited.faults
        names = listed(name for name, rows in zip((MEMBERS, ASSIGNMENTS), sheets, strict=True) if rows is not None)
        if edited.base < self.loaded.last and edited.far == 0:
            self.old += [name for name, rows in zip((MEMBERS, ASSIGNMENTS), sheets, strict=True) if rows is not None]
            self._say_old(names, edited.base)
        elif edited.base < self.loaded.last and edited.rows:
            self._merged(names, edited.base)
        return edited

    def _sheet(self, name: str, columns: tuple[str, ...], required: tuple[str, ...]) -> Sequence[FileRow] | None:
        """Return the rows of a file that says something else than the register; ``None`` where it does not."""
        raw = self.found.get(name)
        if raw is None:
            self.old.append(name)
            return None
        known = self.storage.store.known(name, raw, self.connection)
        if known is not None:
            if known < self.loaded.last and not self._is_current(name, known):
                self.old.append(name)
                self._say_old(name, known)
            return None
        rows = read_rows(name, raw, columns, required)
        _check_keys(name, rows)
        self.faults += rows.faults
        return list(rows.rows)

    def _is_current(self, name: str, number: int) -> bool:
        """Tell whether no change since a state concerned a file of the register."""
        table = name.partition(".")[0]
        return not any(row.table == table for each in self.entries if each.number > number for row in each.rows)

    def _rows(self, edited: Edited | None) -> tuple[FileRows, FileRows]:
        if edited is None or not edited.rows:
            return self.storage.rows_of(self.loaded)
        members, assignments = FileRows(MEMBERS), FileRows(ASSIGNMENTS)
        people, given = rows_now(self._last, edited)
        members.rows = self._with_lines("members", people)
        assignments.rows = self._with_lines("assignments", given)
        return members, assignments

    def _with_lines(self, table: str, rows: list[FileRow]) -> list[FileRow]:
        """Return rows that know their line in the file, so that what is wrong with one is told with it."""
        name, columns, required = next(each for each in _TABLES if each[0].startswith(table))
        raw = self.found.get(name)
        known: dict[object, FileRow] = {}
        for row in read_rows(name, raw, columns, required).rows if raw else ():
            known.setdefault(_key(table, row), row)
        found = []
        for row in rows:
            there = known.get(_key(table, row)) if not row.line else None
            found.append(row if there is None else FileRow(row.cells, there.line, there.find))
        return found

    def _left_aside(self) -> None:
        """Say of files that do not count how they are merged."""
        folder = self.storage.folder
        there = sorted(each.name for each in folder.glob("*.put-aside*.csv"))
        if not self.storage.keeps_files(self.loaded.size):
            there += [name for name in (MEMBERS, ASSIGNMENTS) if self.found.get(name) is not None]
        for name in there:
            self.notices.append(
                f"{name} does not count, as the register is in {self.storage.store.name}. To merge it: "
                f"ask-above import {name}; else delete it."
            )


def _key(table: str, row: FileRow) -> object:
    if table == "members":
        return row.cells.get("key", "")
    said = meant(table, row.cells)
    return tuple(said.get(column, "") for column in ("member", "rank", "place", "from", "until"))


def _check_keys(name: str, rows: FileRows) -> None:
    """Note every key that stands twice: what is read by key would lose one of them."""
    if name != MEMBERS:
        return
    seen: dict[str, int] = {}
    for row in rows.rows:
        key = row.cells.get("key", "")
        if key in seen:
            message = f"the member '{key}' stands on line {seen[key]} already"
            rows.fault(row, "key", "twice", message, "each member once")
        seen[key] = row.line
