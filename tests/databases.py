"""A real PostgreSQL server for the tests, where one is installed; SQLite files beside it."""

from __future__ import annotations

import gc
import os
import shutil
import socket
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory


def programs() -> Path | None:
    """Where PostgreSQL's programs are."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/pg_ctl"))
    if found:
        return found[-1].parent
    named = shutil.which("pg_ctl")
    return Path(named).resolve().parent if named else None


def run(*command: str, as_postgres: bool) -> None:
    prefix = ["runuser", "-u", "postgres", "--"] if as_postgres else []
    done = subprocess.run([*prefix, *command], capture_output=True, text=True, check=False, cwd="/")
    if done.returncode:
        raise RuntimeError(f"{command[0]}: {done.stdout}{done.stderr}")


@contextmanager
def server() -> Iterator[str]:
    """Start a server of one's own, and give the URL of its first database without the database's name."""
    bin_folder = programs()
    if bin_folder is None:
        raise RuntimeError("no PostgreSQL")
    root = os.geteuid() == 0
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    with TemporaryDirectory(prefix="ask-above-pg-") as name:
        folder = Path(name)
        if root:
            shutil.chown(folder, "postgres")
        data = str(folder / "data")
        run(
            str(bin_folder / "initdb"),
            "-D",
            data,
            "-U",
            "keeper",
            "--auth=trust",
            "-E",
            "UTF8",
            "--no-sync",
            as_postgres=root,
        )
        said = f"-p {port} -c listen_addresses=127.0.0.1 -c unix_socket_directories={folder} -c fsync=off"
        run(
            str(bin_folder / "pg_ctl"),
            "-D",
            data,
            "-w",
            "-o",
            said,
            "-l",
            str(folder / "log"),
            "start",
            as_postgres=root,
        )
        try:
            yield f"postgresql://keeper@127.0.0.1:{port}"
        finally:
            gc.collect()  # connections that nobody has any more are closed while there is somebody to tell
            run(str(bin_folder / "pg_ctl"), "-D", data, "-m", "immediate", "stop", as_postgres=root)


def fresh_database(url: str, name: str) -> str:
    """Make an empty database and return its URL."""
    import sqlalchemy as sa

    engine = sa.create_engine(
        f"{url.replace('postgresql://', 'postgresql+psycopg://')}/postgres", isolation_level="AUTOCOMMIT"
    )
    with engine.connect() as connection:
        connection.execute(sa.text(f'DROP DATABASE IF EXISTS "{name}"'))
        connection.execute(sa.text(f'CREATE DATABASE "{name}"'))
    engine.dispose()
    return f"{url}/{name}"
