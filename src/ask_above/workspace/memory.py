"""A community kept in memory: what a folder and its database do, without either."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from threading import RLock
from typing import Any
from uuid import uuid4

from ask_above.change.draft import RowChange, assignment_row, member_row
from ask_above.change.registering import changed
from ask_above.charter.charter import Charter
from ask_above.files.folder import read_files, read_texts
from ask_above.files.writing import ASSIGNMENTS, CHARTER, MEMBERS
from ask_above.people.reading import FileRows
from ask_above.people.register import Register
from ask_above.store.entries import Claims, Entry, Loaded
from ask_above.store.strangers import Person, row_without, stranger_after
from ask_above.workspace.forgetting import journal_without
from ask_above.workspace.storage import (
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


class MemoryStorage:
    """A community kept in memory, from texts by file name: for tests, and for sites that keep files elsewhere.

    ``letters`` are those that changes have written, by file name. Whoever is told of a change keeps what they want of
    it: :meth:`files` gives the charter's files as they are now, :meth:`entries` the journal.
    """

    folder = None
    name = CHARTER

    def __init__(self, texts: Mapping[str, str]) -> None:
        charter, register = read_texts(texts)
        mine = {name: texts[name] for name in (self.name, *charter.add_ons)}
        self.kept: dict[str, Any] = {}
        self.told: list[str] = []
        self.went_on: WentOn | None = self._went_on
        self.letters: dict[str, str] = {}
        self._beside = {name: text for name, text in texts.items() if name not in mine}
        self._snapshot = Snapshot(charter, register, mine, {}, None)
        self._journal: list[Entry] = []
        self._claims: dict[str, Claims] = {}
        self._lock = RLock()

    def __getstate__(self) -> dict[str, Any]:
        # another process has a copy of its own: nothing that was made ready goes along, and no lock
        return {**self.__dict__, "kept": {}, "_lock": None}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state, _lock=RLock())

    def read(self) -> Snapshot:
        """Return the community as it is now: the very same snapshot where nothing has changed."""
        return self._snapshot

    @contextmanager
    def locked(self) -> Iterator[None]:
        """Keep others from changing it meanwhile."""
        with self._lock:
            yield

    def files(self) -> dict[str, str]:
        """Return the charter's files as they are now."""
        return {**self._snapshot.texts}

    def charter_of(self, texts: Mapping[str, str]) -> Charter:
        """Read the charter alone, with other texts of its files."""
        rows, held = (FileRows(MEMBERS), FileRows(ASSIGNMENTS)), {**self._beside, **texts}
        return read_files(lambda name: held[name].encode() if name in held else None, self.name, rows).charter

    def entries(self, *, since: int = 0) -> list[Entry]:
        """Return the journal's entries after one, oldest first."""
        return self._journal[since:]

    def claims(self) -> list[Claims]:
        """Return what directories claim of members who come from them (rule 9.15)."""
        return [self._claims[source] for source in sorted(self._claims)]

    def claim(self, claims: Claims) -> None:
        """Keep what a directory claims from now on; nothing of anything takes it out."""
        self._claims.pop(claims.source, None)
        if claims.fields or claims.groups:
            self._claims[claims.source] = claims

    def file(self, name: str) -> bytes | None:
        """Return what a file beside the charter holds, ``None`` where there is none."""
        return self._beside[name].encode() if name in self._beside else None

    def remembered(self, member: str) -> Remembered:
        """Return what is kept of a member beside their row."""
        notes: list[tuple[str, ...]] = []
        given: dict[str, tuple[str, ...]] = {}
        for entry in self._journal:
            for row in entry.rows:
                before, after = row.before or {}, row.after or {}
                if row.table == "members" and row.key == member:
                    note = after.get("note", "")
                    notes += [(entry.at, entry.who, note)] if note and note != before.get("note", "") else []
                elif row.table == "assignments" and (before or after)["member"] == member:
                    cells = after or before
                    ended = "" if row.after else f"unassigned by change {entry.number}"
                    given[row.key] = (*(cells.get(name, "") for name in _GIVEN), ended)
        return Remembered(notes, [given[number] for number in sorted(given, key=int)], self._letters_to(member))

    def _letters_to(self, member: str) -> list[str]:
        return sorted(name for name in self.letters if name.endswith(f"-{member}.eml"))

    def change(self, planned: Planned) -> Entry:
        """Make a change as it was planned, whole or not at all; returns its entry with its number."""
        entry, before, texts = planned.entry, planned.before, planned.texts
        with self._lock:
            # by identity, as a folder compares bytes and a version: a plan holds for the state it was made on
            if entry is None or before is not self._snapshot:
                raise meanwhile()
            charter, register, journal = planned.charter, before.register, [*self._journal]
            if before.loaded is None:
                first = _written(journal, taking_over(register))
                register = changed(Register(source=register.source), first.rows, charter.zone)
                entry = entry._replace(rows=numbered(entry.rows, first.rows))
            files = {
                name: texts[name] if name in texts else self._beside[name] for name in (self.name, *charter.add_ons)
            }
            made = _written(journal, with_named(entry._replace(at=now()), before.texts, files))
            register = changed(register, made.rows, charter.zone)
            kept, sentences = self.letters | dict(planned.letters), list[str]()
            if made.kind == "forget":  # after the entry is written, so that the entry itself is gone over as well
                person = self._person(made, before, journal)
                register, kept = self._without(person, register, kept, charter)
                journal = journal_without(journal, before.texts, person)
                sentences = [person.said]
            number, key = made.number, before.loaded.id if before.loaded else uuid4().hex
            left = Loaded(None, None, len(register.members), key, number, number, files, (), waits=False)
            # all of it is ready: from here on nothing can go wrong
            self._journal, self.letters, self.told = journal, kept, sentences
            self._beside |= {name: text for name, text in before.texts.items() if name not in files}
            self._snapshot = Snapshot(charter, register, files, {}, left)
            return made

    def _went_on(self, entry: Entry, planned: Planned) -> Snapshot | None:
        """Take what the plan has made ready for what a change has left, where it is the same."""
        if entry.kind == "forget" or planned.before.loaded is None:
            return None
        self._snapshot = self._snapshot._replace(charter=planned.charter, register=planned.register)
        return self._snapshot

    @staticmethod
    def _person(made: Entry, before: Snapshot, journal: Sequence[Entry]) -> Person:
        """Return who is forgotten by an entry, and who stands for them from now on."""
        gone = before.register.members[made.rows[0].key]
        return Person.of(member_row(gone), journal, before.register.members, stranger_after(before.register.members))

    @staticmethod
    def _without(
        person: Person, register: Register, letters: dict[str, str], charter: Charter
    ) -> tuple[Register, dict[str, str]]:
        """Return register and letters in which a stranger stands for somebody (rule 9.14)."""
        from ask_above.files.mail import reworded

        rows = [RowChange("members", key, None, member_row(member)) for key, member in register.members.items()]
        rows += [RowChange("assignments", str(a.number), None, assignment_row(a)) for a in register.assignments]
        left = changed(Register(source=register.source), [row_without(row, person) for row in rows], charter.zone)
        mine = [name for name, text in letters.items() if person.is_meant_by(name, text.encode())]
        kept = {n: reworded(text.encode(), person.without).decode() for n, text in letters.items() if n not in mine}
        return left, kept


def _written(journal: list[Entry], entry: Entry) -> Entry:
    """Write an entry at the end of a journal; what it assigns anew gets a number that none ever had."""
    numbers = (int(row.key) for each in journal for row in each.rows if row.table == "assignments")
    given, rows = max(numbers, default=0), list[RowChange]()
    for row in entry.rows:
        if row.table == "assignments" and row.before is None and row.key == "0":
            given += 1
            rows.append(row._replace(key=str(given)))
        else:
            rows.append(row)
    made = entry._replace(number=len(journal) + 1, rows=rows)
    if made.undoes is not None:
        journal[made.undoes - 1] = journal[made.undoes - 1]._replace(undone_by=made.number)
    journal.append(made)
    return made


_GIVEN = ("rank", "place", "from", "until", "by", "why")
