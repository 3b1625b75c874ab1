"""Kill at random moments, and many writers at once, on SQLite and PostgreSQL.

Run: python soak/changes.py [KILLS] [WRITERS] [CHANGES] [SEED]; by default 300 kills, 8 writers of 200 changes each.
"""

from __future__ import annotations

import shutil
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from conftest import DEMO
from crashes import kill_at_random, write_at_once
from databases import fresh_database, server


def main() -> None:
    kills, writers, changes, seed = [*map(int, sys.argv[1:5]), *(300, 8, 200, int(time.time()))[len(sys.argv) - 1 :]]
    with server() as url, TemporaryDirectory() as name:
        for what, place in (("SQLite", None), ("PostgreSQL", url)):
            for n, work in enumerate(("kill", "write")):
                folder = Path(name) / f"{what}-{work}"
                shutil.copytree(DEMO, folder)
                at = None if place is None else fresh_database(place, f"soak{n}")
                start = time.perf_counter()
                if work == "kill":
                    made = kill_at_random(folder, kills, seed, at)
                    print(f"{what}: killed {kills} times, {made} changes stand, every state whole", end="")
                else:
                    made = write_at_once(folder, writers, changes, seed, at)
                    print(f"{what}: {writers} writers of {changes} changes each, {made} entries, none lost", end="")
                print(f"; {time.perf_counter() - start:.0f} s", flush=True)


if __name__ == "__main__":
    main()
