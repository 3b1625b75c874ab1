"""Stop changes at every step, by death and by failure; many writers and readers at once; disks of every size.

Run: python soak/stopped.py [STOPS] [WRITERS] [CHANGES] [READERS]; by default 500 stops of each kind on each database,
8 writers that make 200 changes together, 4 readers.
"""

from __future__ import annotations

import shutil
import sys
import time
from collections import Counter
from contextlib import nullcontext
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ask_above import Community
from at_once import counted_changes, readers_and_writers
from conftest import DEMO
from databases import fresh_database, server
from dying import WORKS, Maker, is_whole, outcomes, stopped


def stops(base: Path, url: str | None, count: int, what: str) -> None:
    maker, rng = Maker(base, url), Random(1)
    for by_death in (True, False):
        start, found = time.perf_counter(), Counter[str]()
        each = count // len(WORKS)
        for work in WORKS:
            before, after, size = outcomes(maker, work)
            steps = range(1, size + 1) if size <= each else sorted(rng.sample(range(1, size + 1), each))
            for at in steps:
                site, made = stopped(maker, work, at, by_death=by_death)
                found[is_whole(site, work, before, after, made=made)] += 1
                shutil.rmtree(site.folder)
        how = "the process died" if by_death else "a step failed"
        said = f"{found['before']} times all was as before, {found['after']} times as after"
        print(f"{what}: {sum(found.values())} times {how}: {said}; {time.perf_counter() - start:.0f} s", flush=True)


def at_once(base: Path, url: str | None, writers: int, changes: int, readers: int, what: str) -> None:
    folder = base / "at-once"
    shutil.copytree(DEMO, folder)
    start = time.perf_counter()
    wrong, reads = readers_and_writers(folder, url, writers=writers, changes=changes // writers, readers=readers)
    made = counted_changes(Community.open(folder, register=url))
    print(f"{what}: {writers} writers made {made} changes, {readers} readers looked {reads} times, ", end="")
    print(f"{len(wrong)} times half a state {wrong[:3]}; {time.perf_counter() - start:.0f} s", flush=True)


def main() -> None:
    count, writers, changes, readers = [*map(int, sys.argv[1:5]), *(500, 8, 200, 4)[len(sys.argv) - 1 :]]
    places: list[tuple[str, Any]] = [("SQLite", nullcontext(None)), ("PostgreSQL", server())]
    for what, place in places:
        with place as url, TemporaryDirectory() as name:
            at_once(Path(name), fresh_database(url, "atonce") if url else None, writers, changes, readers, what)
            stops(Path(name) / "stops", url, count, what)


if __name__ == "__main__":
    main()
