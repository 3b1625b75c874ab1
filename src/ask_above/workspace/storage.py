"""Where a community is kept, as far as planning, making and undoing a change, the journal and an audit know it.

A folder with its database is one such storage (:class:`~ask_above.workspace.home.Home`), memory is another
(:class:`~ask_above.workspace.memory.MemoryStorage`); whoever keeps communities elsewhere writes a third.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from datetime import tzinfo
from pathlib import Path
from typing import Any, NamedTuple, Protocol

from ask_above.change.draft import RowChange, given, member_row
from ask_above.change.registering import changed
from ask_above.charter.charter import Charter
from ask_above.charter.names import how_many, listed
from ask_above.charter.where import NOTHING
from ask_above.decide.decider import Decider
from ask_above.decide.names import Names
from ask_above.errors import AskAboveError
from ask_above.people.register import Register
from ask_above.store.entries import Claims, Entry, FileRecord, Loaded


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
        """The charter's files that were edited by hand since the last change, with their texts before and after.

        A file that it names only before or only after has no text on the other side.
        """
        known = self.loaded.files if self.loaded else {}
        named = dict.fromkeys((*self.texts, *known)) if known else ()
        sides = {name: (known.get(name, ""), self.texts.get(name, "")) for name in named}
        return {name: texts for name, texts in sides.items() if texts[0] != texts[1]}

    @property
    def edited_files(self) -> list[str]:
        """The files that were edited by hand since the last change, by name."""
        tables = sorted({row.table for row in self.rows}, reverse=True)
        return [*(name for name, (_, new) in self.by_hand.items() if new), *(f"{table}.csv" for table in tables)]

    @property
    def is_edited(self) -> bool:
        """Whether files were edited by hand since the last change."""
        return bool(self.rows or self.by_hand)


class ChangedMeanwhileError(AskAboveError, RuntimeError):
    """Somebody else changed the community since the plan was made; nothing was done."""


class BusyError(AskAboveError, TimeoutError):
    """Somebody else is changing the community, and has been for long."""


class Remembered(NamedTuple):
    """What is kept of a member beside the register's row.

    ``notes`` are all that were set: when, by whom, the text. ``given`` are all assignments there ever were: rank,
    place, from, until, by, why, how it ended. ``letters`` wait in the outbox, by file name.
    """

    notes: Sequence[tuple[str, ...]] = ()
    given: Sequence[tuple[str, ...]] = ()
    letters: Sequence[str] = ()


class Planned(NamedTuple):
    """A change as it was planned on ``before``: its entry, and charter, register and the charter's texts after it.

    ``letters`` are decided with it, as pairs of a file's name and its text. ``by_hand`` is the entry for what was
    edited by hand since the last change: it comes first, and is all there is without an ``entry``.
    """

    entry: Entry | None
    before: Snapshot
    charter: Charter
    register: Register
    texts: Mapping[str, str]
    letters: Sequence[tuple[str, str]] = ()
    by_hand: Entry | None = None


WentOn = Callable[[Entry, Planned], Snapshot | None]
"""What a storage that stays open does after a change: takes the entry that was made and what was planned, and returns
the state that this leaves; ``None`` where it has to be read."""


class Storage(Protocol):
    """Where a community is kept.

    ``folder`` is where its files lie, ``None`` where there are none; ``name`` the charter's file. ``kept`` holds what
    was made ready of the snapshot read last. ``told`` says what the last change did besides, in sentences.
    """

    @property
    def folder(self) -> Path | None:
        """Where its files lie."""

    name: str
    kept: dict[str, Any]
    told: list[str]
    went_on: WentOn | None

    def read(self) -> Snapshot:
        """Return the community as it is now: the very same snapshot where nothing has changed."""

    def locked(self) -> AbstractContextManager[None]:
        """Keep others from changing it meanwhile; raises :class:`BusyError` where they take too long."""

    def change(self, planned: Planned) -> Entry:
        """Make a change as it was planned, whole or not at all; returns its entry with its number.

        Raises :class:`ChangedMeanwhileError` where the community is no longer as it was planned on.
        """

    def charter_of(self, texts: Mapping[str, str]) -> Charter:
        """Read the charter alone, with other texts of its files; raises where they cannot be meant."""

    def entries(self, *, since: int = 0) -> list[Entry]:
        """Return the journal's entries after one, oldest first; none before the first change."""

    def claims(self) -> list[Claims]:
        """Return what directories claim of members who come from them (rule 9.15)."""

    def claim(self, claims: Claims) -> None:
        """Keep what a directory claims from now on; nothing of anything takes it out."""

    def remembered(self, member: str) -> Remembered:
        """Return what is kept of a member beside their row."""

    def file(self, name: str) -> bytes | None:
        """Return what a file beside the charter holds, ``None`` where there is none."""


def opened(home: Storage, snapshot: Snapshot) -> Names:
    """Return the names of a snapshot's community; the same ones for the same snapshot: it is made ready once."""
    known = ready_for(home, snapshot)
    if known is None:
        known = Names(Decider(snapshot.charter, snapshot.register))
        keep_ready(home, snapshot, known)
    return known


def ready_for(home: Storage, snapshot: Snapshot) -> Names | None:
    """Return what was made ready for a snapshot, ``None`` where that is another one."""
    of, names = home.kept.get("ready", (None, None))
    return names if of is snapshot else None


def keep_ready(home: Storage, snapshot: Snapshot, names: Names) -> None:
    """Keep what was made ready together with what it is of: whoever reads one reads the other."""
    home.kept["ready"] = (snapshot, names)


def were_edited(snapshot: Snapshot) -> str:
    """Say which files were edited by hand since the last change."""
    files = snapshot.edited_files
    return f"{listed(files)} {'was' if len(files) == 1 else 'were'} edited by hand"


def as_last_left(home: Storage, snapshot: Snapshot) -> tuple[Charter, Register]:
    """Return charter and register as the last change left them; raises where that charter cannot be meant."""
    charter = home.charter_of(snapshot.loaded.files if snapshot.loaded else snapshot.texts)
    return charter, register_as_left(snapshot, charter.zone)


def register_as_left(snapshot: Snapshot, zone: tzinfo) -> Register:
    """Return the register as the last change left it, without what was edited by hand since."""
    return changed(snapshot.register, [row.back for row in reversed(snapshot.rows)], zone)


def meanwhile() -> ChangedMeanwhileError:
    """Return what is raised where a plan no longer holds."""
    return ChangedMeanwhileError("Somebody else changed the community meanwhile; nothing was done. Look again.")


def taking_over(register: Register) -> Entry:
    """Return the journal's first entry: the register as files had it."""
    rows = [RowChange("members", key, None, member_row(member)) for key, member in register.members.items()]
    rows += map(given, register.assignments)
    many = how_many(len(register.members), "member")
    return Entry(0, now(), "", "import", f"take over {many} from CSV files", rows=rows)


def with_named(entry: Entry, before: Mapping[str, str], after: Mapping[str, str]) -> Entry:
    """Return an entry that also says what the files held that the charter came to name, or names no longer."""
    pieces = [(name, 0, text, "") for name, text in before.items() if name not in after]
    pieces += [(name, 0, "", text) for name, text in after.items() if name not in before]
    return entry._replace(splices=[*entry.splices, *pieces]) if pieces else entry


def numbered(rows: Iterable[RowChange], made: Sequence[RowChange]) -> list[RowChange]:
    """Return rows with the numbers of assignments that had none when the rows were worked out, and have one now."""
    rows = list(rows)
    whose = {(row.before or {})["member"] for row in rows if row.table == "assignments" and row.before is not None}
    # by all their cells: until it is written an assignment has nothing else to be found by
    known: dict[tuple[tuple[str, str], ...], list[str]] = {}
    for row in made:  # of very many that were taken over those of a few members are looked at
        if row.table == "assignments" and row.before is None and row.after and row.after["member"] in whose:
            known.setdefault(_cells(row.after), []).append(row.key)
    row_changes = []
    for row in rows:
        if row.table == "assignments" and row.key == "0" and row.before is not None:
            numbers = known.get(_cells(row.before))
            row_changes.append(row._replace(key=numbers.pop(0)) if numbers else row)
        else:
            row_changes.append(row)
    return row_changes


def _cells(cells: Mapping[str, str]) -> tuple[tuple[str, str], ...]:
    from ask_above.files.register_csv import meant

    return tuple(sorted((column, cell) for column, cell in meant("assignments", cells).items() if cell))


def now() -> str:
    """Return this moment as the journal writes it: in UTC, to the microsecond."""
    from datetime import UTC, datetime

    return datetime.now(UTC).isoformat(timespec="microseconds")
