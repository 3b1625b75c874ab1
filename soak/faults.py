"""A service in trouble: kill, hang, slow, gone, damaged, read-only, for folder and database, one worker and three.

Run: python soak/faults.py [ROUNDS]; after each harm nobody is in who should be out, nothing is lost, and what is
answered is of the right state or told stale; once it is healed the newest state answers.
"""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from tempfile import TemporaryDirectory, gettempdir
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

import httpx

from ask_above import Community
from ask_above.change import Assign, Unassign
from ask_above.workspace.tokens import add_token, remove_token
from asking import server
from conftest import DEMO
from databases import fresh_database
from databases import server as postgresql

QUESTION: dict[str, Any] = {
    "subject": {"type": "member", "id": "tove"},
    "action": {"name": "gauge.see"},
    "resource": {"type": "place", "id": "upper-gauges"},
}


class Site:
    """A served community: what is true of it, by what this program made so itself."""

    def __init__(self, folder: Path, register: str | None, url: str) -> None:
        self.folder, self.register, self.url = folder, register, url
        self.allowed = False

    def open(self) -> Community:
        return Community.open(self.folder, register=self.register)

    def change(self) -> None:
        edit = Unassign("tove", "surveyor") if self.allowed else Assign("tove", "surveyor")
        self.open().plan(edit).apply()
        self.allowed = not self.allowed

    def ask(self, secret: str | None) -> httpx.Response:
        headers = {"Authorization": f"Bearer {secret}", "Connection": "close"} if secret else {"Connection": "close"}
        return httpx.post(f"{self.url}/access/v1/evaluation", json=QUESTION, headers=headers, timeout=30)


def processes_of(port: str) -> list[int]:
    found = subprocess.run(["pgrep", "-f", f"serve --port {port}"], capture_output=True, text=True, check=False)
    return [int(line) for line in found.stdout.split()]


@contextmanager
def stopped(folder: Path) -> Iterator[None]:
    """Let the database server hang: every process of it."""
    first = int((folder / "data" / "postmaster.pid").read_text().split()[0])
    children = subprocess.run(["pgrep", "-P", str(first)], capture_output=True, text=True, check=False).stdout.split()
    there = [first, *map(int, children)]
    for pid in there:
        with suppress(ProcessLookupError):  # one that was just about to end
            os.kill(pid, signal.SIGSTOP)
    try:
        yield
    finally:
        for pid in there:
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGCONT)


@contextmanager
def moved(*files: Path) -> Iterator[None]:
    there = [file for file in files if file.exists()]
    for file in there:
        file.rename(file.with_name(f"{file.name}.away"))
    try:
        yield
    finally:
        for file in there:
            if file.exists():
                shutil.rmtree(file) if file.is_dir() else file.unlink()
            file.with_name(f"{file.name}.away").rename(file)


@contextmanager
def written(file: Path, content: bytes) -> Iterator[None]:
    held = file.read_bytes()
    file.write_bytes(content)
    try:
        yield
    finally:
        file.write_bytes(held)


def harms(site: Site, cluster: Path | None) -> dict[str, Callable[[], Any]]:
    folder = site.folder
    found: dict[str, Callable[[], Any]] = {
        "the folder is gone": lambda: moved(folder),
        "the charter is gone": lambda: moved(folder / "charter.yaml"),
        "the charter is broken": lambda: written(folder / "charter.yaml", b"charter: 1\nkey: [\n"),
    }
    if cluster is None:
        parts = [folder / name for name in ("register.db", "register.db-wal", "register.db-shm", ".ask-above.json")]
        found["the database and its mark are gone"] = lambda: moved(*parts)
        found["the database is damaged"] = lambda: written(folder / "register.db", b"\xff" * 9_000)
    else:
        found["the database hangs"] = lambda: stopped(cluster)
    return found


def closed_and_right(site: Site, good: str) -> str:
    """Nobody is in who should be out; who is in is answered right, or it is told that it may not be."""
    assert site.ask(None).status_code == 401
    assert site.ask("aa_nobody").status_code == 401
    reply = site.ask(good)
    if reply.status_code == 503:
        return "503"
    assert reply.status_code == 200, reply.text
    told = "x-ask-above-stale" in reply.headers
    ready = httpx.get(f"{site.url}/ready", headers={"Connection": "close"}, timeout=30).status_code
    assert reply.json()["decision"] is site.allowed or told or ready == 503
    return "told" if told or ready == 503 else "right"


def one_round(folder: Path, register: str | None, workers: str, cluster: Path | None) -> dict[str, str]:
    shutil.copytree(DEMO, folder)
    home = Community.open(folder, register=register).home
    good, other = add_token(home, "good"), add_token(home, "other")
    more = ["--register", register] if register else []
    found: dict[str, str] = {}
    with server("--workers", workers, "--stale-after", "3", *more, cwd=folder) as url:
        site = Site(folder, register, url)
        site.change()
        for name, harm in harms(site, cluster).items():
            with harm():
                time.sleep(5)
                found[name] = closed_and_right(site, good)
            site.change()
            begun = time.monotonic()
            while site.ask(good).json().get("decision") is not site.allowed:
                assert time.monotonic() - begun < 40, name
                time.sleep(0.1)
        remove_token(site.open().home, "other")
        time.sleep(2)
        assert site.ask(other).status_code == 401
        if workers != "1":
            for pid in processes_of(url.rpartition(":")[2])[1:]:
                os.kill(pid, signal.SIGKILL)
            time.sleep(4)
            found["a worker is killed"] = closed_and_right(site, good)
    members = len(site.open().register.members)
    assert members == 60
    return found


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 1
    with TemporaryDirectory() as name, postgresql() as url:
        cluster = next(Path(gettempdir()).glob("ask-above-pg-*"))
        for n in range(rounds):
            for workers in ("1", "3"):
                for what in ("SQLite", "PostgreSQL"):
                    register = fresh_database(url, f"faults{n}w{workers}") if what == "PostgreSQL" else None
                    folder = Path(name) / f"{what}-{workers}-{n}"
                    found = one_round(folder, register, workers, cluster if register else None)
                    print(what, f"{workers} workers", found, flush=True)


if __name__ == "__main__":
    main()
