"""Where a service has its community from, and how it notices that there is another state."""

from __future__ import annotations

import asyncio
import hashlib
from abc import ABC, abstractmethod
from collections.abc import Callable, Container
from contextlib import suppress
from pathlib import Path
from time import monotonic
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from ask_above.change.draft import EditError
from ask_above.change.registering import changed
from ask_above.community import Community
from ask_above.errors import MissingFileError
from ask_above.files.charter_json import key_of
from ask_above.files.charter_json import loaded as charter_of
from ask_above.files.folder import read_files
from ask_above.files.writing import ASSIGNMENTS, CHARTER, MEMBERS, located
from ask_above.serve.reading import BrokenError, read_elsewhere
from ask_above.workspace.home import Home
from ask_above.workspace.lasting import LastingHome
from ask_above.workspace.plans import check_register, go_on
from ask_above.workspace.storage import BusyError, ready_for

if TYPE_CHECKING:
    from ask_above.charter.charter import Charter
    from ask_above.people.reading import FileRows
    from ask_above.store.database import Store
    from ask_above.store.entries import Entry, Loaded
    from ask_above.workspace.storage import Snapshot


Wake = Callable[[], None]

_AGAIN: Final = 5.0
"""After how many seconds what could not be watched is tried again."""
_STEP: Final = 50
_TRIES = 20
_LONGEST = 10.0
"""How many seconds a database may take to connect, and for a statement."""
_LONG = 1.0
"""A charter that takes longer to read than so many seconds is read in a process of its own."""
_FIRST = 0.2
"""After how many seconds it is looked whether there is a database yet."""


async def watch_files(folder: Path, names: Callable[[], Container[str]], wake: Wake) -> None:
    """Wake whenever one of these files of a folder is written; for ever, or not at all without the package for it."""
    try:
        from watchfiles import Change, awatch
    except ImportError:
        return

    def counts(_: Change, path: str) -> bool:
        name = Path(path).name
        return name in (MEMBERS, ASSIGNMENTS) or name in names()

    while True:
        with suppress(OSError, RuntimeError):
            async for _ in awatch(folder, watch_filter=counts, debounce=_STEP, step=_STEP, recursive=False):
                wake()
        await asyncio.sleep(_AGAIN)


async def watch_database(store: Store, wake: Wake) -> None:
    """Wake whenever a database has changed; for ever."""
    from ask_above.store.waking import changes_of

    async for _ in changes_of(store):
        wake()


class ServedState(NamedTuple):
    """A community as it was read at one moment.

    ``number`` is that of the last change in the journal, with a mark behind it where files were edited by hand since.
    ``sound`` tells whether its register is what the journal's last change left, so that the next can be taken from
    there; ``edited`` whether files were edited by hand since, ``undone`` which changes that undoes.
    """

    community: Community
    number: str
    last: int
    sound: bool
    edited: bool = False
    undone: tuple[str, ...] = ()


class Source(ABC):
    """Reads a community, and reads it again where there is something new."""

    home: LastingHome | None = None
    """The folder that changes are made in, where there is one."""

    @abstractmethod
    def first(self) -> ServedState:
        """Read the community whole."""

    @abstractmethod
    def newer(self, known: ServedState) -> ServedState | None:
        """Return the state of now where that is another one; ``None`` where nothing has changed."""

    def is_newest(self) -> bool:
        """Whether the state that was read last is the one that the database names: one look at one row."""
        return True

    def settle(self, *, at_once: bool = False) -> None:
        """Write what changes made from here have left to be written, where it is time for that."""
        if self.home is not None:
            self.home.write_late(at_once=at_once)

    async def watch(self, wake: Callable[[], None]) -> None:
        """Call ``wake`` whenever there may be something new, for ever; what tells nothing is looked at now and then."""
        store = self.store
        if store is not None:
            await watch_database(store, wake)

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

    def first(self) -> ServedState:
        """Return it."""
        return ServedState(self.community, "0", 0, sound=False)

    def newer(self, known: ServedState) -> ServedState | None:
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
        self.folder = where
        # to see whether anything is new no row of a large register is read
        self.home: LastingHome = LastingHome(where, name, register)
        self._seen: Snapshot | None = None
        self._took = 0.0
        self._texts: dict[str, bytes | None] = {}
        self._broken: BrokenError | None = None

    def first(self) -> ServedState:
        """Read the folder whole."""
        start = monotonic()
        state = self._whole(self.home.read())
        self._took, self._texts = monotonic() - start, self.home.texts_found()
        return state

    def newer(self, known: ServedState) -> ServedState | None:
        """Read the folder where anything in it has changed: a change by command is taken from the journal."""
        if not self.folder.is_dir() or not any(self.folder.iterdir()):
            raise MissingFileError(f"The folder {self.folder.name} is gone, or empty.")
        self._read_elsewhere()
        snapshot = self.home.read()
        if snapshot is self._seen:
            return None
        names = ready_for(self.home, snapshot)
        if names is not None and isinstance(names.register.members, dict):
            # a change of our own: what it left is known already
            self._seen = snapshot
            return self._state(Community.of(names), snapshot)
        community = self._after(known, snapshot)
        return self._whole(snapshot) if community is None else self._taken(community, snapshot)

    def is_newest(self) -> bool:
        """Whether the database counts no other number of changes."""
        store, seen = self.store, self._seen
        if store is None or seen is None:
            return store is None
        with store.reading() as connection:
            return store.version_on(connection) == seen.version

    def _read_elsewhere(self) -> None:
        """Let another process read a large charter that was edited by hand; raises where that cannot be meant."""
        # reading 10,000 lines of YAML holds the interpreter for seconds: requests would wait
        if self._seen is None or self._took < _LONG or self.store is None:
            return
        texts = self.home.texts_found()
        if texts == self._texts:
            if self._broken is not None:
                raise self._broken
            return
        self._texts, self._broken = texts, None
        with self.store.reading() as connection:
            if self.store.version_on(connection) != self._seen.version:
                return  # a change by command: what it made of the charter is kept with it
        try:
            read = read_elsewhere(self.home)
            self.home.location.read_already = None if read is None else (read.key, read.content)
        except BrokenError as error:
            self._broken = error
            raise

    def _whole(self, snapshot: Snapshot) -> ServedState:
        """Read all of a snapshot's register; while others change it at once, what they leave."""
        # files and register have to be of one moment; while others write, both are read again
        for _ in range(_TRIES):
            if snapshot.loaded is None or snapshot.loaded.people is not None:
                return self._taken(Community(snapshot.charter, snapshot.register), snapshot)
            whole = Home(self.home.folder, self.home.name, self.register).read()
            if (whole.version, whole.texts) == (snapshot.version, snapshot.texts):
                return self._taken(Community(whole.charter, whole.register), snapshot)
            snapshot = self.home.read()
        raise BusyError("The community has been changed all the time while it was read; try again.")

    def _taken(self, community: Community, snapshot: Snapshot) -> ServedState:
        """Answer from a community, and let what is changed from here go on from it where it is what the snapshot is."""
        state = self._state(community, snapshot)
        if state.sound and not state.edited and len(community.register.members) == len(snapshot.register.members):
            snapshot = go_on(self.home, snapshot, community.names)
        self._seen = snapshot
        return state

    def _after(self, known: ServedState, snapshot: Snapshot) -> Community | None:
        """Return the community after the journal's changes and edits of the charter, where these are all there is."""
        loaded = snapshot.loaded
        if loaded is None or self._seen is None or not known.sound or snapshot.rows or loaded.last < known.last:
            return None
        charter = known.community.charter if snapshot.texts == self._seen.texts else snapshot.charter
        entries = [entry for entry in self.entries(known.last) if entry.number <= loaded.last]
        return after_entries(known.community, entries, loaded, charter)

    async def watch(self, wake: Callable[[], None]) -> None:
        """Watch the folder's files, and the database once there is one."""
        files = asyncio.create_task(watch_files(self.home.folder, self._watched, wake))
        try:
            while self.store is None:  # noqa: ASYNC110 (what makes it is another program)
                await asyncio.sleep(_FIRST)
            wake()
            await super().watch(wake)
        finally:
            files.cancel()

    def _watched(self) -> Container[str]:
        return self._seen.texts if self._seen is not None else (self.home.name,)

    @staticmethod
    def _state(community: Community, snapshot: Snapshot) -> ServedState:
        loaded = snapshot.loaded
        last = loaded.last if loaded else 0
        edited = snapshot.is_edited
        number = str(last)
        # edits by hand have no number: two of them would look like one state to whoever compares
        if edited or loaded is None:
            whole = hashlib.sha256(repr(sorted(snapshot.found.items())).encode())
            number = f"{last}-{whole.hexdigest()[:8]}"
        sound = loaded is not None and not snapshot.rows
        return ServedState(community, number, last, sound=sound, edited=edited, undone=snapshot.undone)

    @property
    def store(self) -> Store | None:
        """The database; ``None`` while files hold the register."""
        return self.home.store if self.home.location.holds_register() else None


class Database(Source):
    """A database that holds all of it, the charter's files too: for machines that share nothing else."""

    def __init__(self, register: str) -> None:
        from ask_above.store.database import Store

        self._store = Store(register, limit=_LONGEST)
        self._version = -1

    @property
    def store(self) -> Store:
        """The database."""
        return self._store

    def is_newest(self) -> bool:
        """Whether the database counts no other number of changes."""
        with self._store.reading() as connection:
            return self._store.version_on(connection) == self._version

    def first(self) -> ServedState:
        """Read the database whole."""
        with self._store.reading() as connection:
            loaded = self._store.load_on(connection)
        return self._whole(loaded)

    def newer(self, known: ServedState) -> ServedState | None:
        """Read the database where it counts another number of changes."""
        with self._store.reading() as connection:
            if self._store.version_on(connection) == self._version:
                return None
            loaded = self._store.load_on(connection, register=False)
            kept = self._store.compiled(key_of(loaded.files), connection)
        entries = [each for each in self.entries(known.last) if each.number <= loaded.last]
        if entries and entries[-1].number == loaded.last:
            charter = known.community.charter
            if any(entry.splices for entry in entries):
                charter = (kept and charter_of(kept)) or read_files(_texts(loaded), _name(loaded), _no_rows()).charter
            community = after_entries(known.community, entries, loaded, charter)
            if community is not None:
                self._version = loaded.version
                return ServedState(community, str(loaded.last), loaded.last, sound=True)
        return self.first()

    def _whole(self, loaded: Loaded) -> ServedState:
        from ask_above.people.reading import FileRow, FileRows

        members, assignments = FileRows(self._store.name), FileRows(self._store.name)
        members.rows = [FileRow(cells, 0) for cells in loaded.members]
        assignments.rows = [FileRow(cells, 0) for cells in loaded.assignments]
        files = read_files(_texts(loaded), _name(loaded), (members, assignments))
        self._version = loaded.version
        return ServedState(Community(files.charter, files.register), str(loaded.last), loaded.last, sound=True)


def after_entries(community: Community, entries: list[Entry], loaded: Loaded, charter: Charter) -> Community | None:
    """Return the community after changes of the journal; ``None`` where one of them is more than rows and files.

    ``charter`` is the charter then, the very same where it does not differ.
    """
    if any(entry.kind in ("forget", "import") for entry in entries):
        return None
    register = community.register
    for entry in entries:
        register = changed(register, entry.rows, charter.zone)
    if len(register.members) != loaded.size:
        return None
    if charter is not community.charter:
        try:
            check_register(charter, register, "edited")
        except EditError:
            return None  # whoever reads it whole says what is wrong with it
    return community.after(charter=charter, register=register)


def _texts(loaded: Loaded) -> Any:
    return lambda name: loaded.files[name].encode("utf-8") if name in loaded.files else None


def _no_rows() -> tuple[FileRows, FileRows]:
    from ask_above.people.reading import FileRows

    return FileRows(""), FileRows("")


def _name(loaded: Loaded) -> str:
    return CHARTER if CHARTER in loaded.files else next(iter(loaded.files))
