"""What was last written into the files of each folder that a database serves."""

from __future__ import annotations

import sqlalchemy as sa

from ask_above.store.entries import FileRecord
from ask_above.store.tables import folder_files


def read_records(connection: sa.Connection, folder: str) -> dict[str, FileRecord]:
    """Return what was last written into each file of a folder, by the file's name."""
    columns = [folder_files.c[name] for name in ("name", *FileRecord._fields)]
    rows = connection.execute(sa.select(*columns).where(folder_files.c.folder == folder))
    return {name: FileRecord(content, before, number, bool(placed)) for name, content, before, number, placed in rows}


def write_record(connection: sa.Connection, folder: str, name: str, record: FileRecord) -> None:
    """Note what is written into a file."""
    same = (folder_files.c.folder == folder) & (folder_files.c.name == name)
    done = connection.execute(folder_files.update().where(same).values(**record._asdict()))
    if not done.rowcount:
        connection.execute(folder_files.insert().values(folder=folder, name=name, **record._asdict()))


def note_placed(connection: sa.Connection, folder: str) -> None:
    """Note that all files of the last change are in their places."""
    connection.execute(folder_files.update().where(folder_files.c.folder == folder).values(placed=True))
