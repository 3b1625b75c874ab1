"""A directory of many people taken over twice, beside a bare client that reads the same pages: time and memory.

Run: python soak/directory.py [PEOPLE]; by default 20,000. Needs OpenLDAP.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from conftest import DEMO
from directories import BASE, PASSWORD, program, slapd, societies
from test_sync import TestTheRealThing

BARE = """
import sys, ldap3
connection = ldap3.Connection(sys.argv[1], sys.argv[2], sys.argv[3], auto_bind=True)
kept = []
for base in ("ou=people", "ou=groups"):
    found = connection.extend.standard.paged_search(
        f"{base},{sys.argv[4]}", "(objectClass=*)", attributes=["*"], paged_size=500, generator=True
    )
    kept += [each["attributes"] for each in found if each.get("type") == "searchResEntry"]
print(len(kept))
"""


class Ran(NamedTuple):
    """How long a process took, in seconds, what it held at most, in megabytes, and what it said."""

    seconds: float
    peak: float
    said: str


def ran(command: list[str], **env: str) -> Ran:
    """Run a process; raises where it fails."""
    start = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env={**os.environ, **env})
    said = process.stdout.read() if process.stdout else ""
    _, status, used = os.wait4(process.pid, 0)
    if status:
        raise SystemExit(said)
    return Ran(time.perf_counter() - start, used.ru_maxrss / 1024, said)


def main() -> None:
    people = int(sys.argv[1]) if len(sys.argv) > 1 else 20_000
    if program() is None:
        raise SystemExit("This needs slapd.")
    with TemporaryDirectory() as name:
        here = Path(name) / "river"
        shutil.copytree(DEMO, here)
        with slapd(Path(name), societies(people, 60)) as url:
            mapping = here / "directory.yaml"
            mapping.write_text(TestTheRealThing.MAPPING.replace("URL", url))
            bare = ran([sys.executable, "-c", BARE, url, f"cn=admin,{BASE}", PASSWORD, BASE])
            print(f"a bare client: {bare.seconds:.1f} s, {bare.peak:.0f} MB, {bare.said.strip()} entries")
            command = [sys.executable, "-m", "ask_above", "sync", str(mapping), "--yes", "--community", str(here)]
            for what in ("taken over", "again"):
                done = ran(command, ASK_ABOVE_DIRECTORY_PASSWORD=PASSWORD)
                last = done.said.strip().splitlines()[-1]
                times = f"{done.seconds / bare.seconds:.1f} and {done.peak / bare.peak:.1f} times the bare client's"
                print(f"{what}: {done.seconds:.1f} s, {done.peak:.0f} MB, {times}: {last}", flush=True)


if __name__ == "__main__":
    main()
