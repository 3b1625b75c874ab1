"""Where a service has its community from, and how it notices that there is another state."""

from __future__ import annotations

import hashlib
from abc import ABC, abstractmethod
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from ask_above.change.registering import changed
from ask_above.community import Community
from ask_above.files.folder import read_files
from ask_above.files.names import CHARTER
from ask_above.files.opening import located
from ask_above.workspace.home import BusyError, Home
from ask_above.workspace.lasting import LastingHome
from ask_above.workspace.plans import go_on

if TYPE_CHECKING:
    from ask_above.store.database import Store
    from ask_above.store.entries import Entry, Loaded
    from ask_above.workspace.snapshot import Snapshot


_TRIES = 20


class State(NamedTuple):
    """A community as it was read at one moment.

    ``number`` is that of the last change in the journal, with a mark behind it where files were edited by hand since.
    ``sound`` tells whether it is what the journal's last change left, so that the next change can be taken from there.
    """

    community: Community
    number: str
    last: int
    sound: bool


class Source(ABC):
    """Reads a community, and reads it again where there is something new."""

    home: LastingHome | None = None
    """The folder that changes are made in, where there is one."""

    @abstractmethod
    def first(self) -> State:
        """Read the community whole."""

    @abstractmethod
    def newer(self, known: State) -> State | None:
        """Return the state of now where that is another one; ``None`` where nothing has changed."""

    def settle(self, *, at_once: bool = False) -> None:
        """Write what changes made from here have left to be written, where it is time for that."""
        if self.home is not None:
            self.home.write_late(at_once=at_once)

    @property
    @abstractmethod
    def store(self) -> Store | None:
        """The database; ``None`` while files hold the register."""

    def entries(self, since: int) -> list[Entry]:
        """Return the changes after one."""
        return [] if self.store is None else self.store.entries(since=since)


class Fixed(Source):
    """A community in memory, which stays as it is."""

    def __init__(self, community: Community) -> None:
        self.community = community

    def first(self) -> State:
        """Return it."""
        return State(self.community, "0", 0, sound=False)

    def newer(self, known: State) -> State | None:
        """Return nothing: it does not change."""

    @property
    def store(self) -> Store | None:
        """There is none."""
        return None


class Folder(Source):
    """A community's folder, with its own database or another."""

    def __init__(self, path: str | Path, register: str | None = None) -> None:
        self.path, self.register = path, register
        where, name = located(path)
        # to see whether anything is new no row of a large register is read
        self.home: LastingHome = LastingHome(where, name, register)
        self._seen: Snapshot | None = None

    def first(self) -> State:
        """Read the folder whole."""
        return self._whole(self.home.read())

    def newer(self, known: State) -> State | None:
        """Read the folder where anything in it has changed: a change by command is taken from the journal."""
        snapshot = self.home.read()
        if snapshot is self._seen:
            return None
        names = self.home.kept.get("names") if self.home.kept.get("snapshot") is snapshot else None
        if names is not None:  # a change of our own: what it left is known already
            self._seen = snapshot
            return self._state(Community.of(names), snapshot)
        community = self._after(known, snapshot)
        return self._whole(snapshot) if community is None else self._taken(community, snapshot)

    def _whole(self, snapshot: Snapshot) -> State:
        """Read all of a snapshot's register; while others change it at once, what they leave."""
        for _ in range(_TRIES):
            if snapshot.loaded is None or snapshot.loaded.people is not None:
                return self._taken(Community(snapshot.charter, snapshot.register), snapshot)
            whole = Home(self.home.folder, self.home.name, self.register).read()
            if (whole.version, whole.texts) == (snapshot.version, snapshot.texts):
                return self._taken(Community(whole.charter, whole.register), snapshot)
            snapshot = self.home.read()
        raise BusyError("The community has been changed all the time while it was read; try again.")

    def _taken(self, community: Community, snapshot: Snapshot) -> State:
        """Answer from a community, and let what is changed from here go on from it where it is what the snapshot is."""
        state = self._state(community, snapshot)
        if state.sound and len(community.register.members) == len(snapshot.register.members):
            snapshot = go_on(self.home, snapshot, community.names)
        self._seen = snapshot
        return state

    def _after(self, known: State, snapshot: Snapshot) -> Community | None:
        """Return the community after the changes of the journal, where these are all that has happened."""
        loaded = snapshot.loaded
        if loaded is None or not known.sound or snapshot.by_hand or snapshot.rows or loaded.last <= known.last:
            return None
        return after_entries(known.community, self.entries(known.last), loaded, snapshot.charter)

    @staticmethod
    def _state(community: Community, snapshot: Snapshot) -> State:
        loaded = snapshot.loaded
        last = loaded.last if loaded else 0
        edited = bool(snapshot.by_hand or snapshot.rows)
        number = str(last)
        if edited or loaded is None:
            whole = hashlib.sha256(repr(sorted(snapshot.found.items())).encode())
            number = f"{last}-{whole.hexdigest()[:8]}"
        return State(community, number, last, sound=loaded is not None and not edited)

    @property
    def store(self) -> Store | None:
        """The database; ``None`` while files hold the register."""
        return self.home.store if self.home.storage.holds_register() else None


class Database(Source):
    """A database that holds all of it, the charter's files too: for machines that share nothing else."""

    def __init__(self, register: str) -> None:
        from ask_above.store.database import Store

        self._store = Store(register)
        self._version = -1

    @property
    def store(self) -> Store:
        """The database."""
        return self._store

    def first(self) -> State:
        """Read the database whole."""
        with self._store.reading() as connection:
            loaded = self._store.load_on(connection)
        return self._whole(loaded)

    def newer(self, known: State) -> State | None:
        """Read the database where it counts another number of changes."""
        with self._store.reading() as connection:
            if self._store.version_on(connection) == self._version:
                return None
            loaded = self._store.load_on(connection, register=False)
        entries = self.entries(known.last)
        if entries and loaded.last > known.last:
            same = not any(entry.splices for entry in entries)
            charter = known.community.charter if same else read_files(_texts(loaded), _name(loaded), ((), ())).charter  # type: ignore[arg-type]
            community = after_entries(known.community, entries, loaded, charter)
            if community is not None:
                self._version = loaded.version
                return State(community, str(loaded.last), loaded.last, sound=True)
        return self.first()

    def _whole(self, loaded: Loaded) -> State:
        from ask_above.people.reading import FileRow, FileRows

        members, assignments = FileRows(self._store.name), FileRows(self._store.name)
        members.rows = [FileRow(cells, 0) for cells in loaded.members]
        assignments.rows = [FileRow(cells, 0) for cells in loaded.assignments]
        files = read_files(_texts(loaded), _name(loaded), (members, assignments))
        self._version = loaded.version
        return State(Community(files.charter, files.register), str(loaded.last), loaded.last, sound=True)


def after_entries(community: Community, entries: list[Entry], loaded: Loaded, charter: Any) -> Community | None:
    """Return the community after changes of the journal; ``None`` where one of them is more than rows and files."""
    if any(entry.kind in ("forget", "import") for entry in entries) or not entries or entries[-1].number != loaded.last:
        return None
    register = community.register
    for entry in entries:
        register = changed(register, entry.rows, charter.zone)
    if len(register.members) != loaded.size:
        return None
    same = not any(entry.splices for entry in entries)
    return community.after(charter=community.charter if same else charter, register=register)


def _texts(loaded: Loaded) -> Any:
    return lambda name: loaded.files[name].encode("utf-8") if name in loaded.files else None


def _name(loaded: Loaded) -> str:
    return CHARTER if CHARTER in loaded.files else next(iter(loaded.files))
