"""What stands in a folder's files, held against what was last written there: it counts exactly as it stands.

A file that holds what was last written into it is no edit; where the database has gone on since, it is written anew.
Anything else is an edit by hand. In a database of several folders an edit of an older state waits until somebody says
what becomes of it.
"""

from __future__ import annotations

import shlex
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple

from ask_above.change.draft import RowChange
from ask_above.charter.charter import Charter
from ask_above.charter.where import Where
from ask_above.errors import Fault, FaultyFilesError
from ask_above.files.csv_rows import read_rows
from ask_above.files.folder import read_files
from ask_above.files.register_csv import meant
from ask_above.files.writing import ASSIGNMENTS, MEMBERS
from ask_above.files.yaml_text import read_yaml
from ask_above.people.reading import ASSIGNMENT_COLUMNS, MEMBER_COLUMNS, FileRow, FileRows, owner_fault
from ask_above.people.register import OUT, Register
from ask_above.people.rows import assignments_of, members_of
from ask_above.store.entries import Entry, FileRecord, Loaded, digest
from ask_above.workspace.location import TABLES, Location
from ask_above.workspace.on_demand import register_of
from ask_above.workspace.storage import Snapshot, now, were_edited
from ask_above.workspace.undone import undone_by

if TYPE_CHECKING:
    from ask_above.store.database import Transaction
    from ask_above.store.entries import Claims

Cells = Mapping[str, str]


class Edited(NamedTuple):
    """What was edited by hand in the register: the rows that change, and where each stands."""

    rows: list[RowChange]
    lines: dict[int, FileRow]


class Reading:
    """One reading of a folder and its database; ``take`` names files that count whatever speaks against them."""

    def __init__(
        self,
        location: Location,
        found: dict[str, bytes | None],
        loaded: Loaded,
        connection: Transaction,
        take: frozenset[str] = frozenset(),
    ) -> None:
        self.location, self.found, self.loaded, self.connection, self.take = location, found, loaded, connection, take
        self.records = location.records(connection, loaded, settling=bool(take))
        self.old: list[str] = []
        self.held: list[str] = []
        self.faults: list[Fault] = []
        self.notices: list[str] = []

    def snapshot(self) -> Snapshot:
        """Return the community; raises :class:`FaultyFilesError` with all that is wrong in what was edited by hand."""
        texts = {name: self._text(name) for name in self.loaded.files}
        edited = self._register()
        self._tell_aside()
        if self.faults:
            raise FaultyFilesError(self.faults)
        if not edited.rows:
            known = self._as_it_was_left(texts) if texts == self.loaded.files else self._read_already(texts)
            if known is not None:
                return self._made(*known, texts, ())
        if self.loaded.people is None:
            self.loaded = self.location.store.load_on(self.connection)
        more: dict[str, bytes | None] = {}
        files = read_files(self.location.fetch(texts, more), self.location.name, self._rows(edited))
        for name in files.charter.add_ons:  # an add-on that the charter names since
            if name not in texts:
                texts[name] = (more.get(name) or b"").decode("utf-8")
                self.found[name] = more.get(name)
        texts = {name: texts[name] for name in (self.location.name, *files.charter.add_ons)}
        return self._made(files.charter, files.register, texts, edited.rows)

    def charter_alone(self) -> tuple[Charter, dict[str, str]]:
        """Return the charter as it counts and its texts, without the register; raises :class:`FaultyFilesError`."""
        texts = {name: self._text(name) for name in self.loaded.files}
        if self.faults:
            raise FaultyFilesError(self.faults)
        more: dict[str, bytes | None] = {}
        charter = read_files(
            self.location.fetch(texts, more), self.location.name, (FileRows(MEMBERS), FileRows(ASSIGNMENTS))
        ).charter
        texts |= {name: (more.get(name) or b"").decode("utf-8") for name in charter.add_ons if name not in texts}
        return charter, {name: texts[name] for name in (self.location.name, *charter.add_ons)}

    def _made(self, charter: Charter, register: Register, texts: dict[str, str], rows: Sequence[RowChange]) -> Snapshot:
        kept = [*self.loaded.files, *(self._kept_files)]
        records = [record for name, record in self.records.items() if name in kept]
        late = any(record.number < self.loaded.last or not record.placed for record in records)
        new = not self.records and not self.location.is_own
        behind = bool(self.old) or self.loaded.waits or new or (late and not self.held)
        made = Snapshot(
            charter, register, texts, self.found, self.loaded, rows, (), tuple(self.old), behind, tuple(self.held)
        )
        told, waiting = undone_by(made, self.location.store, self.connection)
        notices = (*self.notices, *told)
        return made._replace(notices=notices, waiting=waiting, undone=tuple(told), records=self.records)

    def _read_already(self, texts: dict[str, str]) -> tuple[Charter, Register] | None:
        """Return the community with a charter that another process has read; ``None`` where all has to be read."""
        charter = self.location.kept_charter(texts)
        return None if charter is None else self._with_register(charter)

    def _as_it_was_left(self, texts: dict[str, str]) -> tuple[Charter, Register] | None:
        """Return the community as the last change left it; ``None`` where something of it cannot be read."""
        from ask_above.files.charter_json import key_of, loaded

        kept = self.location.store.compiled(key_of(texts), self.connection)
        charter = loaded(kept) if kept else None
        try:
            charter = charter or self.location.charter_of(texts)
        except FaultyFilesError:
            return None
        return self._with_register(charter)

    def _with_register(self, charter: Charter) -> tuple[Charter, Register] | None:
        register = self._quick_register(charter)
        if register is None or owner_fault(charter.owner, register.members):
            return None
        return charter, register

    def _quick_register(self, charter: Charter) -> Register | None:
        name, rows = self.location.store.name, self.loaded
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
        last, raw, record = self.loaded.files[name], self.found.get(name), self.records.get(name)
        if raw == last.encode("utf-8"):
            return last
        if raw is None or (name not in self.take and record is not None and record.is_what_was_written(raw)):
            self.old.append(name)
            return last
        if self._stands_on_older(name, record):
            self.held.append(name)
            self._tell_held(name, record)
            return last
        if record is None and not self.take:
            self.notices.append(f"This folder is new to {self.location.store.name}; {name} counts as an edit by hand.")
        try:
            text = raw.decode("utf-8")
        except UnicodeDecodeError:
            read_files(lambda wanted: raw if wanted == name else None, name)  # says what is wrong with it
            raise
        self._check_ranks(name, last, text)
        return text

    def _stands_on_older(self, name: str, record: FileRecord | None) -> bool:
        """Whether a file was edited on a state that another folder has changed since."""
        if self.location.is_own or record is None or name in self.take:
            return False
        return record.digest != digest(self.loaded.files[name].encode("utf-8"))

    def _tell_held(self, name: str, record: FileRecord | None) -> None:
        made_on = record.number if record else 0
        self.notices.append(
            f"{name} was edited at change {made_on}, and {self.location.store.name} is at change {self.loaded.last}. "
            "The edit does not count. To see what it would change: ask-above journal --edits. To make it a change as "
            f"it stands: ask-above journal --take {shlex.quote(name)}. To write the newest in its place: "
            "ask-above undo --edits"
        )

    def _check_ranks(self, name: str, last: str, text: str) -> None:
        """Note a charter that lost most of its ranks: half a file may be all that an editor wrote."""
        if name != self.location.name or name in self.take or "ranks" not in last:
            return
        before, after = _rank_keys(last), _rank_keys(text)
        if after is not None and before is not None and 2 * len(before - after) > len(before):
            lost = f"{len(before - after)} of {len(before)} ranks are gone"
            self.faults.append(self._unconfirmed(name, lost))

    @staticmethod
    def _unconfirmed(name: str, lost: str) -> Fault:
        expected = f"the rest of the file. If this is meant: ask-above journal --take {shlex.quote(name)}"
        return Fault(name, 1, 1, "", "lost-most", f"{lost} since the last change", expected)

    # -- the register

    @cached_property
    def _kept_files(self) -> tuple[str, ...]:
        """The register's two files, where they are kept true beside the database."""
        return (MEMBERS, ASSIGNMENTS) if self.location.keeps_files(self.loaded.size, aside=self.loaded.aside) else ()

    def _register(self) -> Edited:
        """Return what was edited by hand in the register's two files."""
        if not self._kept_files:
            return Edited([], {})
        sheets = {table: self._sheet(table) for table in TABLES}
        if self.faults or not any(sheet is not None for sheet in sheets.values()):
            return Edited([], {})
        if self.loaded.people is None:
            self.loaded = self.location.store.load_on(self.connection)
        edited = Edited([], {})
        if sheets["members"] is not None:
            self._check_forgotten(sheets["members"])
            self._take_members(sheets["members"], edited)
        if sheets["assignments"] is not None:
            self._take_assignments(sheets["assignments"], edited)
        return edited

    def _sheet(self, table: str) -> Sequence[FileRow] | None:
        """Return the rows of a file that was edited by hand; ``None`` where it was not."""
        name, columns, required = TABLES[table]
        raw, record = self.found.get(name), self.records.get(name)
        if raw is None:
            self.old.append(name)
            return None
        if name not in self.take and record is not None and record.is_what_was_written(raw):
            if record.number < self.loaded.last or not record.placed or record.digest != digest(raw):
                self.old.append(name)
            return None
        if not raw.strip() and name not in self.take:
            self.faults.append(self._unconfirmed(name, "the file is empty: all of its rows are gone"))
            return None
        rows = read_rows(name, raw, columns, required)
        if table == "members":
            _check_keys(rows)
        self.faults += rows.faults
        return list(rows.rows)

    @cached_property
    def _known_members(self) -> dict[str, Cells]:
        return {row["key"]: row for row in self.loaded.members}

    @cached_property
    def _known_assignments(self) -> dict[str, Cells]:
        return {row["number"]: row for row in self.loaded.assignments}

    def _check_lost(self, table: str, before: Iterable[object], after: Iterable[object]) -> None:
        """Note a file that lost more than half of its rows."""
        name = TABLES[table][0]
        had = Counter([*before])
        lost = (had - Counter([*after])).total()
        if name not in self.take and 2 * lost > had.total():
            self.faults.append(self._unconfirmed(name, f"{lost:,} of {had.total():,} rows are gone"))

    def _check_forgotten(self, sheet: Sequence[FileRow]) -> None:
        from ask_above.store.strangers import digests_of

        for row in sheet if self.loaded.forgotten else ():
            if not self.loaded.forgotten.isdisjoint(digests_of(self.loaded.id, row.cells)):
                line, at, source = row.find("key")
                message = "this is a row of somebody who was forgotten"
                fault = Fault(MEMBERS, line or row.line, at, "key", "forgotten", message, "no such row", source=source)
                self.faults.append(fault)

    def _take_members(self, sheet: Sequence[FileRow], to: Edited) -> None:
        columns = _columns(sheet, MEMBER_COLUMNS)
        wanted = {row.cells.get("key", ""): row for row in sheet}
        self._check_lost("members", self._known_members, wanted)
        for key in dict.fromkeys((*wanted, *self._known_members)):
            row, known = wanted.get(key), self._known_members.get(key)
            cells = None if row is None else _some("members", row.cells, columns)
            if cells == (None if known is None else _some("members", known, columns)):
                continue
            after = None if cells is None else _after(known, dict(zip(columns, cells, strict=True)))
            if row is not None and known and after and known.get("id") and after["id"] != known["id"]:
                self.faults.append(_other_id(row, key, known["id"]))
            self._add(RowChange("members", key, known, after), row, to)

    def _take_assignments(self, sheet: Sequence[FileRow], to: Edited) -> None:
        columns = _columns(sheet, ASSIGNMENT_COLUMNS)
        free: dict[tuple[str, ...], list[str]] = {}
        for number, cells in self._known_assignments.items():
            free.setdefault(_some("assignments", cells, columns), []).append(number)
        added = []
        for row in sheet:
            same = free.get(_some("assignments", row.cells, columns))
            if same:
                same.pop(0)
            else:
                added.append(row)
        self._check_lost("assignments", map(_spot, self._known_assignments.values()), (_spot(r.cells) for r in sheet))
        for number in (number for numbers in free.values() for number in numbers):
            self._add(RowChange("assignments", number, self._known_assignments[number], None), None, to)
        for row in added:
            full = {**dict.fromkeys(ASSIGNMENT_COLUMNS, ""), **meant("assignments", row.cells)}
            self._add(RowChange("assignments", "0", None, full), row, to)

    def _add(self, change: RowChange, row: FileRow | None, to: Edited) -> None:
        """Add a row that was edited, less what something outside holds: that is not taken from a file."""
        allowed = self._outside.allowed(change)
        if allowed is not change:
            self.notices.append(self._outside.said(change))
        if allowed is None:
            return
        if row is not None:
            to.lines[len(to.rows)] = row
        to.rows.append(allowed)

    @cached_property
    def _outside(self) -> Outside:
        from ask_above.store.keys import read_claims_on

        return Outside({claims.source: claims for claims in read_claims_on(self.connection)})

    def _rows(self, edited: Edited) -> tuple[FileRows, FileRows]:
        """Return the rows of the register with what was edited; those that stand in a file know their line."""
        if not edited.rows:
            return self.location.rows_of(self.loaded)
        people = {key: FileRow(cells, 0) for key, cells in self._known_members.items()}
        given = {number: FileRow(cells, 0) for number, cells in self._known_assignments.items()}
        for n, change in enumerate(edited.rows):
            at = edited.lines.get(n)
            key = change.key if change.table == "members" or change.after is None else f"new-{n}"
            table = people if change.table == "members" else given
            if change.after is None:
                table.pop(key, None)
            else:
                table[key] = FileRow(change.after, 0) if at is None else FileRow(change.after, at.line, at.finder)
        return self._with_lines("members", people.values()), self._with_lines("assignments", given.values())

    def _with_lines(self, table: str, rows: Iterable[FileRow]) -> FileRows:
        """Return rows that know their line in the file, so that what is wrong with one is told with it."""
        name, columns, required = TABLES[table]
        raw, known = self.found.get(name), dict[object, FileRow]()
        for row in read_rows(name, raw, columns, required).rows if raw else ():
            known.setdefault(_identity(table, row.cells), row)
        file_rows = FileRows(name)
        there = ((row, None if row.line else known.get(_identity(table, row.cells))) for row in rows)
        file_rows.rows = [row if at is None else FileRow(row.cells, at.line, at.finder) for row, at in there]
        return file_rows

    def _tell_aside(self) -> None:
        """Say of files that do not count how they are merged."""
        there = sorted(file.name for file in self.location.folder.glob("*.put-aside*.csv"))
        if not self._kept_files:
            there += [name for name in (MEMBERS, ASSIGNMENTS) if self.found.get(name) is not None]
        self.notices += (
            f"{name} does not count, as the register is in {self.location.store.name}. To merge it: "
            f"ask-above import {shlex.quote(name)}; else delete it."
            for name in there
        )


class Outside:
    """What directories and provisioning hold, which no file changes (rule 9.15); ``claims`` by their names."""

    def __init__(self, claims: Mapping[str, Claims]) -> None:
        self.claims = claims

    def allowed(self, change: RowChange) -> RowChange | None:
        """Return what may be taken of a row that was edited: the very same where all of it may."""
        before, after = change.before, change.after
        if before is None:
            return change
        if change.table == "assignments":
            return None if before.get("source") else change
        claims = self.claims.get(before.get("external_id", "").partition(":")[0])
        if claims is None or ":" not in before.get("external_id", ""):
            return change
        if after is None:
            return None
        kept = {**after, **{name: before.get(name, "") for name in claims.fields}}
        mine, theirs = (cells.get("groups", "").split(";") for cells in (after, before))
        groups = [group for group in mine if group and group not in claims.groups]
        kept["groups"] = ";".join([*groups, *(group for group in theirs if group in claims.groups)])
        if kept == after:
            return change
        return None if kept == before else change._replace(after=kept)

    @staticmethod
    def said(change: RowChange) -> str:
        """Say what was not taken."""
        cells = change.before or {}
        if change.table == "assignments":
            source = cells.get("source", "")
            return f"{ASSIGNMENTS}: {cells['rank']} of {cells['member']} comes from {source}; the edit does not count."
        source = cells.get("external_id", "").partition(":")[0]
        return f"{MEMBERS}: what {source} says of {change.key} comes from there; the edit does not count."


def _rank_keys(text: str) -> set[str] | None:
    """Return the keys of a charter's ranks; ``None`` where it cannot be read, which is told elsewhere."""
    data: Any = read_yaml("", text.encode("utf-8")).data
    if not isinstance(data, dict):
        return None
    return {str(rank.get("key")) for rank in data.get("ranks") or () if isinstance(rank, dict)}


def _columns(rows: Sequence[FileRow], known: Sequence[str]) -> list[str]:
    """Return the columns that a file has."""
    return [column for column in known if any(column in row.cells for row in rows)]


def _some(table: str, cells: Cells, columns: Sequence[str]) -> tuple[str, ...]:
    found = meant(table, {column: cells.get(column, "") for column in columns})
    return tuple(found[column] for column in columns)


def _spot(cells: Cells) -> tuple[str, ...]:
    found = meant("assignments", cells)
    return tuple(found.get(column, "") for column in ("member", "rank", "place"))


def _identity(table: str, cells: Cells) -> object:
    if table == "members":
        return cells.get("key", "")
    found = meant(table, cells)
    return tuple(found.get(column, "") for column in ("member", "rank", "place", "from", "until"))


def _after(before: Cells | None, cells: Cells) -> dict[str, str]:
    """Return a member's row with what a file says of it; the status before a lock is remembered (rule 4.7)."""
    after = {**dict.fromkeys(MEMBER_COLUMNS, ""), "kind": "person", "status": "active", **(before or {}), **cells}
    was, old = (before or {}).get("was", ""), (before or {}).get("status", "")
    if after["was"] == was and after["status"] != old:
        after["was"] = (old if old not in OUT else was) if after["status"] in OUT else ""
    return after


def _check_keys(rows: FileRows) -> None:
    """Note every key that stands twice: what is read by key would lose one of them."""
    seen: dict[str, int] = {}
    for row in rows.rows:
        key = row.cells.get("key", "")
        if key in seen:
            message = f"the member '{key}' stands on line {seen[key]} already"
            rows.fault(row, "key", "twice", message, "each member once")
        seen[key] = row.line


def _other_id(row: FileRow, key: str, known: str) -> Fault:
    line, at, source = row.find("id")
    return Fault(MEMBERS, line, at, key, "other-id", "the id of a member never changes", known, source=source)


def entry_by_hand(snapshot: Snapshot, what: Sequence[str], effect: Sequence[str]) -> Entry:
    """Return the journal's entry for files edited by hand: what differs, in words and as pieces, and its effect.

    It is one, whichever files were edited: between them there may be no state that could be read.
    """
    from ask_above.files.merging import differing

    pieces = [piece for name, (old, new) in snapshot.by_hand.items() for piece in differing(name, old, new)]
    said = f"{were_edited(snapshot)}: {'; '.join(what)}" if what else were_edited(snapshot)
    return Entry(
        0, now(), "", "hand", said, effect=effect, splices=pieces, rows=list(snapshot.rows), reverts=snapshot.waiting
    )
