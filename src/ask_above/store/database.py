"""The register's database: SQLite or PostgreSQL, its schema brought up to date, its transactions."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from operator import itemgetter
from pathlib import Path
from typing import Any, NamedTuple

import sqlalchemy as sa

from ask_above.change.draft import RowChange
from ask_above.errors import AskAboveError
from ask_above.store.tables import HEAD, assignments, intent, journal, member_groups, members, metadata, state

_WAIT = 30
"""For how many seconds one writer waits for another."""

_AT_ONCE = 5_000

_MEMBER = ("key", *(column.name for column in members.columns if column.name not in ("key", "position")))
_ASSIGNMENT = tuple(column.name for column in assignments.columns if column.name not in ("number", "removed"))


class StoreError(AskAboveError, OSError):
    """The database cannot be read or written, and why."""

    def __str__(self) -> str:
        return str(self.args[0])


class Intent(NamedTuple):
    """What was decided and may not be written yet: file name to its text before and after; letters to be sent."""

    journal: int
    files: Mapping[str, tuple[str, str]]
    letters: Sequence[tuple[str, str]]


class Loaded(NamedTuple):
    """All that a database holds at one moment, as rows of cells by column; ``number`` is an assignment's own."""

    members: list[dict[str, str]]
    assignments: list[dict[str, str]]
    version: int
    files: Mapping[str, str]
    intent: Intent | None


class Entry(NamedTuple):
    """One entry of the journal.

    ``kind`` is change, hand (an edit of the files by hand), undo or import. ``splices`` are lists of file, start, old
    and new text; ``rows`` the rows of the register that changed.
    """

    number: int
    at: str
    who: str
    kind: str
    what: str
    why: str = ""
    forced: bool = False
    effect: Sequence[str] = ()
    splices: Sequence[tuple[str, int, str, str]] = ()
    rows: Sequence[RowChange] = ()
    undoes: int | None = None
    undone_by: int | None = None


class Store:
    """A register in a database, by its URL."""

    def __init__(self, url: str) -> None:
        try:
            self.url = sa.make_url(_with_driver(url))
            self.engine = sa.create_engine(self.url, **_options(self.url))
        except (sa.exc.SQLAlchemyError, ValueError, ImportError) as error:
            raise StoreError(f"The register's database cannot be opened: {_without_url(error)}") from None
        if self.url.get_backend_name() == "sqlite":
            _set_up_sqlite(self.engine)

    @classmethod
    def in_file(cls, file: Path) -> Store:
        """Return the register in a SQLite file."""
        return cls(f"sqlite:///{file}")

    @property
    def is_file(self) -> bool:
        """Whether it is a SQLite file."""
        return self.url.get_backend_name() == "sqlite"

    @property
    def name(self) -> str:
        """What messages call it: the file's name, or where the database is, without its password."""
        if self.is_file:
            return Path(self.url.database or "").name
        return self.url.render_as_string(hide_password=True)

    def is_made(self) -> bool:
        """Tell whether its tables are there; a schema of a newer version is an error."""
        with self._reading() as connection:
            if not sa.inspect(connection).has_table("alembic_version"):
                return False
            found = connection.execute(sa.text("SELECT version_num FROM alembic_version")).scalar()
        if found is not None and str(found) > HEAD:
            raise StoreError(f"{self.name} was written by a newer version of Ask Above ({found}); update the package.")
        if found is not None and str(found) < HEAD:
            self.make()
        return found is not None

    def make(self) -> None:
        """Make its tables, or bring them up to date."""
        from alembic import command
        from alembic.config import Config

        config = Config()
        config.set_main_option("script_location", str(Path(__file__).parent / "migrations").replace("%", "%%"))
        config.set_main_option("path_separator", "os")
        with self.writing(locked=False) as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")
            if connection.execute(sa.select(state.c.value).where(state.c.name == "version")).scalar() is None:
                connection.execute(
                    state.insert(), [{"name": "version", "value": "0"}, {"name": "files", "value": "{}"}]
                )

    # -- transactions

    @contextmanager
    def _reading(self) -> Iterator[sa.Connection]:
        try:
            with self.engine.connect() as connection, connection.begin():
                yield connection
        except sa.exc.SQLAlchemyError as error:
            raise StoreError(f"{self.name} cannot be read: {_without_url(error)}") from None

    @contextmanager
    def writing(self, *, locked: bool = True) -> Iterator[sa.Connection]:
        """Begin a transaction that no other writer shares; it is kept where the block ends well, else not at all."""
        try:
            with self.engine.connect().execution_options(writes=True) as connection, connection.begin():
                if locked and not self.is_file:
                    connection.execute(sa.select(state).where(state.c.name == "version").with_for_update())
                yield connection
        except sa.exc.SQLAlchemyError as error:
            raise StoreError(f"{self.name} cannot be written: {_without_url(error)}") from None

    # -- reading

    def load(self) -> Loaded:
        """Return all that it holds, as of one moment."""
        with self._reading() as connection:
            return self.load_on(connection)

    def load_on(self, connection: sa.Connection) -> Loaded:
        """Return all that it holds within a transaction."""
        groups: dict[str, list[str]] = {}
        for member, group in connection.execute(
            sa.select(member_groups.c.member, member_groups.c.grp).order_by(
                member_groups.c.member, member_groups.c.position
            )
        ):
            groups.setdefault(member, []).append(group)
        people = [
            {**dict(zip(_MEMBER, row, strict=True)), "groups": ";".join(groups.get(row[0], ()))}
            for row in connection.execute(
                sa.select(*(members.c[name] for name in _MEMBER)).order_by(members.c.position, members.c.key)
            )
        ]
        wanted = [assignments.c.number, *(assignments.c[name] for name in _ASSIGNMENT)]
        found = connection.execute(
            sa.select(*wanted).where(assignments.c.removed.is_(None)).order_by(assignments.c.number)
        )
        given = [_assignment_cells(row) for row in found]
        said = dict(connection.execute(sa.select(state.c.name, state.c.value)).all())
        return Loaded(
            people, given, int(said.get("version", "0")), json.loads(said.get("files", "{}")), self._intent(connection)
        )

    def unfinished(self) -> Intent | None:
        """Return what was decided first and may not have been written yet."""
        with self._reading() as connection:
            return self._intent(connection)

    @staticmethod
    def _intent(connection: sa.Connection) -> Intent | None:
        row = connection.execute(sa.select(intent).order_by(intent.c.journal)).first()
        if row is None:
            return None
        files = {name: (old, new) for name, (old, new) in json.loads(row.files).items()}
        return Intent(row.journal, files, [(name, text) for name, text in json.loads(row.letters)])

    def version(self) -> tuple[int, bool]:
        """Return how many changes there have been, and whether one may not be written yet."""
        with self._reading() as connection:
            return self.version_on(connection), self._intent(connection) is not None

    def version_on(self, connection: sa.Connection) -> int:
        """Return how many changes there have been."""
        return int(connection.execute(sa.select(state.c.value).where(state.c.name == "version")).scalar() or 0)

    def entries(self, *, since: int = 0, connection: sa.Connection | None = None) -> list[Entry]:
        """Return the journal's entries after one, oldest first."""
        if connection is not None:
            return [_entry(row) for row in connection.execute(_journal_after(since))]
        with self._reading() as reading:
            return [_entry(row) for row in reading.execute(_journal_after(since))]

    # -- writing

    def write(
        self,
        connection: sa.Connection,
        entry: Entry,
        files: Mapping[str, str],
        letters: Sequence[tuple[str, str]] = (),
        before: Mapping[str, str] | None = None,
    ) -> Entry:
        """Write an entry with all its rows; ``files`` are the charter's files afterwards, ``before`` as they were.

        Where a file changes, or there are letters to send, that stands as an intent until it is done.
        """
        number = connection.execute(journal.insert().values(**_entry_values(entry))).inserted_primary_key
        made = entry._replace(number=int(number[0]) if number else 0)
        rows = self._write_rows(connection, made)
        made = made._replace(rows=rows)
        connection.execute(journal.update().where(journal.c.number == made.number).values(rows=_rows_as_text(rows)))
        if made.undoes is not None:
            connection.execute(journal.update().where(journal.c.number == made.undoes).values(undone_by=made.number))
        changed = {
            name: (before[name], text)
            for name, text in files.items()
            if before is not None and before.get(name, text) != text
        }
        if changed or letters:
            connection.execute(
                intent.insert().values(
                    journal=made.number, files=json.dumps(changed), letters=json.dumps(list(letters))
                )
            )
        connection.execute(
            state.update().where(state.c.name == "version").values(value=str(self.version_on(connection) + 1))
        )
        connection.execute(state.update().where(state.c.name == "files").values(value=json.dumps(dict(files))))
        return made

    def done(self, connection: sa.Connection, number: int) -> None:
        """Note that what was decided has been written."""
        connection.execute(intent.delete().where(intent.c.journal == number))

    def take_back(self, connection: sa.Connection, entry: Entry, files: Mapping[str, str]) -> None:
        """Take an entry out again as if it had never been."""
        for row in reversed(entry.rows):
            self._write_row(connection, RowChange(row.table, row.key, row.after, row.before), None)
        connection.execute(intent.delete().where(intent.c.journal == entry.number))
        connection.execute(journal.update().where(journal.c.undone_by == entry.number).values(undone_by=None))
        connection.execute(journal.delete().where(journal.c.number == entry.number))
        connection.execute(state.update().where(state.c.name == "files").values(value=json.dumps(dict(files))))

    def _write_rows(self, connection: sa.Connection, entry: Entry) -> list[RowChange]:
        new = [row for row in entry.rows if row.before is None]
        if len(new) == len(entry.rows) and len(new) > _AT_ONCE // 10:
            return self._write_many(connection, new)
        return [self._write_row(connection, row, entry.number) for row in entry.rows]

    def _write_many(self, connection: sa.Connection, rows: list[RowChange]) -> list[RowChange]:
        """Write many new rows, thousands at a time."""
        people = [row for row in rows if row.table == "members"]
        last = connection.execute(sa.select(sa.func.max(members.c.position))).scalar() or 0
        values = [_member_values(row.after or {}) | {"position": last + n} for n, row in enumerate(people, 1)]
        _insert(connection, members, values)
        _insert(connection, member_groups, [g for row in people for g in _group_values(row.key, row.after or {})])
        given = [row for row in rows if row.table == "assignments"]
        first = (connection.execute(sa.select(sa.func.max(assignments.c.number))).scalar() or 0) + 1
        numbered = [RowChange(row.table, str(n), None, row.after) for n, row in enumerate(given, first)]
        cells = [_assignment_values(row.after or {}) | {"number": n} for n, row in enumerate(given, first)]
        _insert(connection, assignments, cells)
        if cells and not self.is_file:
            connection.execute(
                sa.text("SELECT setval(pg_get_serial_sequence('assignments', 'number'), max(number)) FROM assignments")
            )
        return [*people, *numbered]

    def _write_row(self, connection: sa.Connection, row: RowChange, number: int | None) -> RowChange:
        if row.table == "members":
            return self._write_member(connection, row)
        key = int(row.key)
        if row.after is None:
            connection.execute(assignments.update().where(assignments.c.number == key).values(removed=number or -1))
        elif row.before is None and key:  # one that was taken out comes back
            connection.execute(
                assignments.update()
                .where(assignments.c.number == key)
                .values(removed=None, **_assignment_values(row.after))
            )
        elif row.before is None:
            made = connection.execute(assignments.insert().values(**_assignment_values(row.after))).inserted_primary_key
            return row._replace(key=str(made[0] if made else 0))
        else:
            connection.execute(
                assignments.update().where(assignments.c.number == key).values(**_assignment_values(row.after))
            )
        return row

    def _write_member(self, connection: sa.Connection, row: RowChange) -> RowChange:
        connection.execute(member_groups.delete().where(member_groups.c.member == row.key))
        if row.after is None:
            connection.execute(members.delete().where(members.c.key == row.key))
            return row
        groups = _group_values(row.key, row.after)
        if groups:
            connection.execute(member_groups.insert(), groups)
        if row.before is None:
            last = connection.execute(sa.select(sa.func.max(members.c.position))).scalar() or 0
            connection.execute(members.insert().values(position=last + 1, **_member_values(row.after)))
        else:
            connection.execute(members.update().where(members.c.key == row.key).values(**_member_values(row.after)))
        return row


def _insert(connection: sa.Connection, table: sa.Table, rows: Sequence[dict[str, Any]]) -> None:
    """Insert many rows, thousands at a time; the statement is compiled once, as doing so for each row costs most."""
    if not rows:
        return
    statement = table.insert().values({name: sa.bindparam(name) for name in rows[0]}).compile(connection.engine)
    order = statement.positiontup
    for start in range(0, len(rows), _AT_ONCE):
        some: Any = rows[start : start + _AT_ONCE]
        if order:
            some = list(map(itemgetter(*order), some))
        connection.exec_driver_sql(str(statement), some)


def _member_values(cells: Mapping[str, str]) -> dict[str, Any]:
    return {name: cells.get(name, "") for name in _MEMBER}


def _group_values(key: str, cells: Mapping[str, str]) -> list[dict[str, Any]]:
    said = cells.get("groups")
    groups = list(dict.fromkeys(each for each in said.split(";") if each)) if said else ()
    return [{"member": key, "grp": group, "position": n, "source": ""} for n, group in enumerate(groups)]


def _assignment_values(cells: Mapping[str, str]) -> dict[str, Any]:
    return {name: cells.get("from" if name == "since" else name, "") for name in _ASSIGNMENT}


def _assignment_cells(row: Any) -> dict[str, str]:
    names = ("number", *("from" if name == "since" else name for name in _ASSIGNMENT))
    return dict(zip(names, (str(row[0]), *row[1:]), strict=True))


def _journal_after(number: int) -> Any:
    return sa.select(journal).where(journal.c.number > number).order_by(journal.c.number)


def _entry_values(entry: Entry) -> dict[str, Any]:
    said = {name: getattr(entry, name) for name in ("at", "who", "kind", "what", "why", "forced", "undoes")}
    return said | {
        "effect": json.dumps(list(entry.effect)),
        "splices": json.dumps(list(entry.splices)),
        "rows": "[]",
    }


def _rows_as_text(rows: Sequence[RowChange]) -> str:
    return json.dumps(rows, check_circular=False)  # a row is a tuple, and so a list in JSON


def _entry(row: Any) -> Entry:
    return Entry(
        row.number,
        row.at,
        row.who,
        row.kind,
        row.what,
        row.why,
        bool(row.forced),
        tuple(json.loads(row.effect)),
        tuple((file, start, old, new) for file, start, old, new in json.loads(row.splices)),
        tuple(RowChange(*each) for each in json.loads(row.rows)),
        row.undoes,
        row.undone_by,
    )


def _with_driver(url: str) -> str:
    for plain in ("postgresql://", "postgres://"):
        if url.startswith(plain):
            return f"postgresql+psycopg://{url.removeprefix(plain)}"
    return url


def _options(url: sa.URL) -> dict[str, Any]:
    if url.get_backend_name() == "sqlite":
        from sqlalchemy.pool import NullPool

        return {"connect_args": {"timeout": _WAIT}, "poolclass": NullPool}
    return {"pool_pre_ping": True}


def _set_up_sqlite(engine: sa.Engine) -> None:
    @sa.event.listens_for(engine, "connect")
    def connect(connection: Any, _: Any) -> None:
        connection.isolation_level = None
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute("PRAGMA synchronous=FULL")

    @sa.event.listens_for(engine, "begin")
    def begin(connection: sa.Connection) -> None:
        writes = connection.get_execution_options().get("writes")
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")


def _without_url(error: Exception) -> str:
    """Say what went wrong in one line, without what was sent or where to."""
    said = str(getattr(error, "orig", None) or error).strip().splitlines()
    return said[0] if said else type(error).__name__


__all__ = ["Entry", "Intent", "Loaded", "Store", "StoreError", "metadata"]
