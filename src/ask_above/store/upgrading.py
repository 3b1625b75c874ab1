"""Bring a database's schema up to date, with what follows from the journal; within the transaction of the caller."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from uuid import uuid4

import sqlalchemy as sa

from ask_above.store.entries import digest
from ask_above.store.tables import HEAD, journal, known_files, metadata, state


def upgrade(connection: sa.Connection, *, keep: bool) -> None:
    """Make the tables, or bring them up to date; ``keep``: with a copy of every table beside it, named for this."""
    tables = set(sa.inspect(connection).get_table_names())
    if keep:
        for table in metadata.sorted_tables:
            copy = f"before_{HEAD}_{table.name}"
            if table.name in tables and copy not in tables:
                connection.execute(sa.text(f'CREATE TABLE "{copy}" AS TABLE "{table.name}"'))
    _run_migrations(connection)
    said = dict(connection.execute(sa.select(state.c.name, state.c.value)).all())
    first = {"version": "0", "files": "{}", "id": uuid4().hex}
    for name, value in first.items():
        if name not in said:
            connection.execute(state.insert().values(name=name, value=value))
    have = {(row[0], row[1]) for row in connection.execute(sa.select(known_files.c.name, known_files.c.digest))}
    for name, number, text in known_so_far(connection):
        key = name, digest(text.encode("utf-8"))
        if key not in have:
            have.add(key)
            connection.execute(known_files.insert().values(name=name, digest=key[1], number=number))


def _run_migrations(connection: sa.Connection) -> None:
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations").replace("%", "%%"))
    config.set_main_option("path_separator", "os")
    config.attributes["connection"] = connection
    command.upgrade(config, "head")


def known_so_far(connection: sa.Connection) -> Iterator[tuple[str, int, str]]:
    """Yield every text that a file of the charter has held, from the last state back to the first."""
    files: dict[str, str] = json.loads(
        connection.execute(sa.select(state.c.value).where(state.c.name == "files")).scalar() or "{}"
    )
    for name, text in files.items():
        yield name, 0, text
    rows = connection.execute(sa.select(journal.c.number, journal.c.splices).order_by(journal.c.number.desc()))
    for number, said in rows:
        for name, start, old, new in reversed(json.loads(said)):
            text = files.get(name, "")
            if text[start : start + len(new)] == new:
                files[name] = text[:start] + old + text[start + len(new) :]
                yield name, number - 1, files[name]
