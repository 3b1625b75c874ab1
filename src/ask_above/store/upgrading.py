"""Bring a database's schema up to date, within the transaction of the caller."""

from __future__ import annotations

from pathlib import Path
from uuid import uuid4

import sqlalchemy as sa

from ask_above.store.tables import HEAD, VERSION, metadata, state


def upgrade(connection: sa.Connection, *, keep: bool) -> None:
    """Make the tables, or bring them up to date; ``keep``: with a copy of every table beside it, named for this."""
    tables = set(sa.inspect(connection).get_table_names())
    if keep:
        for table in metadata.sorted_tables:
            copy = f"before_{HEAD}_{table.name}"
            if table.name in tables and copy not in tables:
                connection.execute(sa.text(f'CREATE TABLE "{copy}" AS TABLE "{table.name}"'))
    if VERSION.name in tables:
        _run_migrations(connection)
    else:  # the migrations from the first on would come to the same, and take ten times as long
        metadata.create_all(connection)
        VERSION.create(connection)
        connection.execute(VERSION.insert().values(version_num=HEAD))
    said = dict(connection.execute(sa.select(state.c.name, state.c.value)).all())
    first = {"version": "0", "files": "{}", "id": uuid4().hex, "unseen": "[]", "forgotten": "[]", "aside": ""}
    for name, value in first.items():
        if name not in said:
            connection.execute(state.insert().values(name=name, value=value))


def _run_migrations(connection: sa.Connection) -> None:
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations").replace("%", "%%"))
    config.set_main_option("path_separator", "os")
    config.attributes["connection"] = connection
    command.upgrade(config, "head")
