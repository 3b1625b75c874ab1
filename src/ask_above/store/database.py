"""The register's database: SQLite or PostgreSQL. One reading is one moment, one writing is one transaction."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager, suppress
from functools import cached_property
from pathlib import Path
from threading import local
from typing import Any, TypeAlias

import sqlalchemy as sa

from ask_above.collecting import without_collecting
from ask_above.errors import StoreError
from ask_above.store.connecting import copy_of, engine_of, is_damage, may_be_written, said_of, upgrade, url_of
from ask_above.store.entries import Entry, Loaded, entry_of, rows_as_text, values_of
from ask_above.store.rows import count_of, read_assignments, read_members, write_rows
from ask_above.store.tables import HEAD, assignments, compiled, intent, journal, metadata, notes, state

Transaction: TypeAlias = sa.Connection
"""A reading or a writing that has begun: the rooms above hand it on, and ask it nothing themselves."""

_LOCK = 0x61736B61626F7665
"""The number of the lock that writers into a PostgreSQL database take one after another."""


class _Kept(local):
    """The one connection that a thread keeps for a while, and the file that it was opened on."""

    stack: ExitStack | None = None
    connection: sa.Connection | None = None
    file: tuple[int, int] | None = None


class Store:
    """A register in a database, by its URL; ``make``: a SQLite file that is not there is made.

    ``limit`` is how many seconds connecting to a server, and each statement there, may take.
    """

    CHANNEL = "ask_above_changes"
    """Where PostgreSQL says that a change was made."""

    def __init__(self, url: str, *, make: bool = False, limit: float | None = None) -> None:
        self.url = url_of(url)
        self.engine = engine_of(self.url, make=make, limit=limit)
        self._is_copy = False
        self._kept = _Kept()

    @classmethod
    def in_file(cls, file: Path, *, make: bool = False) -> Store:
        """Return the register in a SQLite file."""
        return cls(f"sqlite:///{file}", make=make)

    @property
    def is_file(self) -> bool:
        """Whether it is a SQLite file."""
        return self.url.get_backend_name() == "sqlite"

    @cached_property
    def file(self) -> Path | None:
        """The SQLite file that it is, if it is one."""
        return Path(self.url.database or "").resolve() if self.is_file else None

    @property
    def name(self) -> str:
        """What messages call it: the file's name, or where the database is, without its password."""
        if self.is_file:
            return Path(self.url.database or "").name
        return self.url.set(password=None, query={}).render_as_string(hide_password=True)

    # -- what it is

    def schema(self) -> str | None:
        """Return the version of its schema, ``None`` where it holds nothing; raises for anything that is not ours."""
        with self.reading() as connection:
            return self.schema_on(connection)

    def schema_on(self, connection: sa.Connection) -> str | None:
        """Return the version of its schema within a transaction."""
        tables = set(sa.inspect(connection).get_table_names())
        version = None
        if "alembic_version" in tables:
            version = connection.execute(sa.text("SELECT version_num FROM alembic_version")).scalar()
        if version is None:
            if tables & {table.name for table in metadata.sorted_tables} or (self.is_file and tables):
                raise StoreError(f"{self.name} is a database of something else; name the one that holds the register.")
            return None
        if not str(version).isdigit():
            raise StoreError(f"{self.name} is a database of something else; name the one that holds the register.")
        if int(version) > int(HEAD):
            raise StoreError(
                f"{self.name} was written by a newer version of Ask Above ({version}); update the package."
            )
        return str(version)

    def bring_up_to_date(self) -> bool:
        """Upgrade a schema of an older version, with a copy of before; tells whether the database holds anything."""
        found = self.schema()
        if found is None or found == HEAD or not self._is_writable():
            # where nothing may be written, what is read is a copy, which is brought up to date
            return found is not None
        if self.is_file:
            self._copy_before(Path(self.url.database or ""))
        with self.writing() as connection:
            upgrade(connection, keep=not self.is_file)
        return True

    def _copy_before(self, file: Path) -> None:
        """Keep a copy of before an upgrade beside the database."""
        copy = file.with_name(f"{file.stem}.before-{HEAD}{file.suffix}")
        if copy.exists():
            return
        with copy_of(file) as spare:
            self._merge_log(spare)
            part = copy.with_name(f".{copy.name}.part")
            part.write_bytes(spare.read_bytes())
            part.chmod(0o600)
            part.replace(copy)

    @staticmethod
    def _merge_log(file: Path) -> None:
        """Take a SQLite file's log into the file, so that it stands alone."""
        import sqlite3

        connection = sqlite3.connect(file)
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        connection.close()

    def make_on(self, connection: sa.Connection) -> None:
        """Make the tables within a transaction, so that they are there with what is written into them or not at all."""
        upgrade(connection, keep=False)

    def settle(self) -> None:
        """Let readers and a writer work at once from now on, in a file that was just put in its place."""
        if self.is_file:
            with self._told("written"), self.engine.connect() as connection:
                connection.connection.cursor().execute("PRAGMA journal_mode=WAL").close()

    # -- transactions

    def _is_writable(self) -> bool:
        return self._is_copy or not self.is_file or may_be_written(Path(self.url.database or ""))

    @contextmanager
    def kept_open(self) -> Iterator[None]:
        """Let all that this thread reads and writes in the block go over one connection, closed at the block's end."""
        if self._kept.stack is not None:
            yield
            return
        with ExitStack() as stack:
            self._kept.stack = stack
            try:
                yield
            finally:
                self._kept.stack = self._kept.connection = None

    @contextmanager
    def _connected(self, *, own: bool = False) -> Iterator[sa.Connection]:
        """Give the connection that is kept open, where it is free; else one of its own."""
        kept = self._kept
        if own or kept.stack is None or (kept.connection is not None and kept.connection.in_transaction()):
            with self.engine.connect() as connection:
                yield connection
            return
        file = self._identity()
        if kept.connection is None or kept.connection.invalidated or kept.file != file:
            # another file of that name: what is written into the old one would be lost
            kept.connection, kept.file = kept.stack.enter_context(self.engine.connect()), file
        yield kept.connection

    def _identity(self) -> tuple[int, int] | None:
        with suppress(OSError):
            state = self.file.stat() if self.file else None
            return (state.st_dev, state.st_ino) if state else None
        return None

    @contextmanager
    def reading(self, *, own: bool = False) -> Iterator[sa.Connection]:
        """Begin a reading: all of it is as of one moment, nothing is written, no writer is waited for.

        ``own``: over a connection of its own, for what stays open.
        """
        if self.is_file and not Path(self.url.database or "").exists():
            raise StoreError(f"{self.name} cannot be read: there is no such file.")
        # SQLite writes beside the file even to read it, so where that is forbidden a copy is read
        if not self._is_writable():
            with copy_of(Path(self.url.database or "")) as copy:
                store = Store.in_file(copy)
                store._is_copy = True
                store.bring_up_to_date()
                with store.reading() as connection:
                    yield connection
                return
        with self._told("read"), self._connected(own=own) as connection:
            connection.execution_options(writes=False)
            if not self.is_file:
                connection.execution_options(isolation_level="REPEATABLE READ", postgresql_readonly=True)
            with connection.begin():
                yield connection

    @contextmanager
    def writing(self) -> Iterator[sa.Connection]:
        """Begin a transaction that no other writer shares; it is kept where the block ends well, else not at all."""
        with self._told("written"), self._connected() as connection:
            connection.execution_options(writes=True)
            if not self.is_file:
                connection.execution_options(isolation_level="READ COMMITTED", postgresql_readonly=False)
            with connection.begin():
                # SQLite locks the file when writing begins; PostgreSQL is told to let one writer in at a time
                if not self.is_file:
                    connection.execute(sa.text("SELECT pg_advisory_xact_lock(:number)"), {"number": _LOCK})
                yield connection
                if not self.is_file:  # heard with the commit
                    connection.execute(sa.text("SELECT pg_notify(:channel, '')"), {"channel": self.CHANNEL})

    @contextmanager
    def _told(self, what: str) -> Iterator[None]:
        try:
            yield
        except sa.exc.SQLAlchemyError as error:
            if _ends_unknown(error):
                return  # its connection has ended before it
            if self.is_file and is_damage(error):
                raise StoreError(
                    f"{self.name} is damaged ({said_of(error)}). Put a copy of it back, or put it aside and start anew "
                    "from members.csv and assignments.csv: ask-above import --anew"
                ) from None
            said = said_of(error)
            said = said.replace(str(self.url.password), "***") if self.url.password else said
            raise StoreError(f"{self.name} cannot be {what}: {said}") from None

    # -- reading

    def load(self) -> Loaded:
        """Return all that it holds, as of one moment."""
        with self.reading() as connection:
            return self.load_on(connection)

    @without_collecting()
    def load_on(self, connection: sa.Connection, *, register: bool = True) -> Loaded:
        """Return all that it holds within a transaction; without ``register`` no rows of it."""
        people = read_members(connection) if register else None
        given = read_assignments(connection) if register else None
        values = dict(connection.execute(sa.select(state.c.name, state.c.value)).all())
        last = connection.execute(sa.select(sa.func.max(journal.c.number))).scalar() or 0
        version, files = int(values.get("version", "0")), json.loads(values.get("files", "{}"))
        size, waits = count_of(connection), self._waits(connection)
        unseen, forgotten = (json.loads(values.get(name) or "[]") for name in ("unseen", "forgotten"))
        letters, aside = self.letters_on(connection), values.get("aside") == "true"
        return Loaded(
            people, given, size, values.get("id", ""), version, last, files, letters, waits,
            tuple(unseen), frozenset(forgotten), aside,
        )  # fmt: skip

    def letters_on(self, connection: sa.Connection) -> list[tuple[str, str]]:
        """Return the letters that were decided and may not be written yet, as pairs of a file's name and its text."""
        waiting = connection.execute(sa.select(intent.c.letters).order_by(intent.c.journal)).scalars()
        return [(name, text) for said in waiting for name, text in json.loads(said)]

    def id_on(self, connection: sa.Connection) -> str:
        """Return the database's own id."""
        return str(connection.execute(sa.select(state.c.value).where(state.c.name == "id")).scalar() or "")

    @staticmethod
    def _waits(connection: sa.Connection) -> bool:
        return connection.execute(sa.select(intent.c.journal)).first() is not None

    def version_on(self, connection: sa.Connection) -> int:
        """Return how many changes there have been."""
        return int(connection.execute(sa.select(state.c.value).where(state.c.name == "version")).scalar() or 0)

    def entries(self, *, since: int = 0, connection: sa.Connection | None = None, rows: bool = True) -> list[Entry]:
        """Return the journal's entries after one, oldest first; without ``rows`` none of what changed in the register.

        The first of a large community has a row for each of its members.
        """
        columns = [column if rows or column.name != "rows" else sa.literal("[]").label("rows") for column in journal.c]
        wanted = sa.select(*columns).where(journal.c.number > since).order_by(journal.c.number)
        if connection is not None:
            return [entry_of(row) for row in connection.execute(wanted)]
        with self.reading() as reading:
            return [entry_of(row) for row in reading.execute(wanted)]

    def compiled(self, key: str, connection: sa.Connection) -> bytes | None:
        """Return what is kept of the charter under a digest."""
        found = connection.execute(sa.select(compiled.c.content).where(compiled.c.digest == key)).scalar()
        return None if found is None else bytes(found)

    def has_compiled(self, key: str, connection: sa.Connection) -> bool:
        """Whether anything is kept under a digest."""
        return connection.execute(sa.select(compiled.c.digest).where(compiled.c.digest == key)).first() is not None

    def size_on(self, connection: sa.Connection) -> int:
        """Return how many members there are."""
        return count_of(connection)

    # -- writing

    def write(
        self,
        connection: sa.Connection,
        entry: Entry,
        files: Mapping[str, str],
        letters: Sequence[tuple[str, str]] = (),
        *,
        same_files: bool = False,
    ) -> Entry:
        """Write an entry with all its rows; ``files`` are the charter's files afterwards.

        ``same_files`` tells that they are as they were. Letters stand as an intent until they are written.
        """
        number = connection.execute(journal.insert().values(**values_of(entry))).inserted_primary_key
        made = entry._replace(number=int(number[0]) if number else 0)
        rows = write_rows(connection, made)
        made = made._replace(rows=rows)
        connection.execute(journal.update().where(journal.c.number == made.number).values(rows=rows_as_text(rows)))
        if made.undoes is not None:
            connection.execute(journal.update().where(journal.c.number == made.undoes).values(undone_by=made.number))
            self.acknowledge(connection, [made.undoes])
        # an intent: whoever opens next writes letters that a crash has left unwritten
        if letters:
            said = json.dumps(list(letters))
            connection.execute(intent.insert().values(journal=made.number, files="{}", letters=said))
        version = str(self.version_on(connection) + 1)
        connection.execute(state.update().where(state.c.name == "version").values(value=version))
        if not same_files:
            connection.execute(state.update().where(state.c.name == "files").values(value=json.dumps(dict(files))))
        if made.reverts:
            self.set_state(connection, "unseen", [*self.state_on(connection, "unseen"), made.number])
        return made

    @staticmethod
    def state_on(connection: sa.Connection, name: str) -> Any:
        """Return a value of the state that is kept as JSON."""
        return json.loads(connection.execute(sa.select(state.c.value).where(state.c.name == name)).scalar() or "null")

    @staticmethod
    def set_state(connection: sa.Connection, name: str, value: Any) -> None:
        """Keep a value of the state as JSON."""
        connection.execute(state.update().where(state.c.name == name).values(value=json.dumps(value)))

    def acknowledge(self, connection: sa.Connection, numbers: Iterable[int]) -> None:
        """Note that edits by hand which undo a change are known: they are told no more."""
        unseen = self.state_on(connection, "unseen") or []
        if not set(unseen).isdisjoint(numbers):
            self.set_state(connection, "unseen", [number for number in unseen if number not in {*numbers}])

    def keep_compiled(self, connection: sa.Connection, key: str, content: bytes) -> None:
        """Keep the charter as it was read; what was kept of earlier ones goes."""
        connection.execute(compiled.delete())
        connection.execute(compiled.insert().values(digest=key, content=content))

    def purge(self) -> None:
        """Let nothing that was taken out stay in the file: a row that is deleted is else only overwritten some day."""
        with self._told("written"), self.engine.connect() as connection:
            raw = connection.connection.driver_connection
            if self.is_file and raw is not None:
                raw.execute("VACUUM")
                raw.execute("PRAGMA wal_checkpoint(TRUNCATE)").fetchall()

    def notes_of(self, member: str) -> list[tuple[str, str, str]]:
        """Return every note that was set about a member: when, by whom, and its text."""
        wanted = sa.select(notes.c.at, notes.c.by, notes.c.text).where(notes.c.member == member)
        with self.reading() as connection:
            return [tuple(row) for row in connection.execute(wanted.order_by(notes.c.number))]

    def given_to(self, member: str) -> list[tuple[str, ...]]:
        """Return all that a member was ever given: rank, place, from, until, by, why, and when it ended."""
        names = ("rank", "place", "since", "until", "by", "why")
        wanted = sa.select(*(assignments.c[name] for name in names), assignments.c.removed)
        wanted = wanted.where(assignments.c.member == member).order_by(assignments.c.number)
        with self.reading() as connection:
            return [
                (*row[:6], "" if row[6] is None else f"unassigned by change {row[6]}")
                for row in connection.execute(wanted)
            ]

    def done(self, connection: sa.Connection) -> None:
        """Note that all letters are written."""
        connection.execute(intent.delete())


def _ends_unknown(error: BaseException) -> bool:
    """Whether a reading ends because nobody knows it any more."""
    seen: BaseException | None = error
    while seen is not None and not isinstance(seen, GeneratorExit):
        seen = seen.__context__
    return seen is not None


__all__ = ["Entry", "Loaded", "Store", "StoreError", "Transaction"]
