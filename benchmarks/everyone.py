"""Everyone everywhere as a data set, read from one and written part by part, beside writing the same with pyarrow.

python benchmarks/everyone.py [MEMBERS] [PLACES] [CAPABILITIES]

By default a million members by 200 places for ten capabilities. Each side is timed in this run; peaks of memory are
those of a process. DuckDB, where it is there, answers who may use a capability at a place from what was written.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from random import Random

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

import pyarrow as pa
import pyarrow.parquet as pq

from standard import Size, charter_text, register

EXPORT = """
import json, resource, sys, time
from pathlib import Path
from ask_above import Community
community = Community.from_texts({"charter.yaml": Path(sys.argv[1]).read_text()})
start = time.perf_counter()
rows, count = community.export_people(sys.argv[2], sys.argv[3], capabilities=json.loads(sys.argv[4]), members=True)
print(json.dumps([time.perf_counter() - start, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, rows]))
"""
_PART = 50_000


def make(folder: Path, size: Size, count: int) -> None:
    """Write a register of so many members, each like one of the standard community's, sorted by key."""
    people = register(size)
    like = [(member, people.of(member.key)) for member in people.members.values()]
    rng = Random(3)
    for name in ("members", "assignments"):
        (folder / name).mkdir(parents=True)
    for start in range(0, count, _PART):
        keys = [f"m{n:08}" for n in range(start, min(start + _PART, count))]
        picked = [rng.choice(like) for _ in keys]
        members = {"key": keys, "groups": [";".join(member.groups) for member, _ in picked]}
        rows = [
            (key, e.rank, e.place, e.period.said_from, e.period.said_until)
            for key, (_, given) in zip(keys, picked, strict=True)
            for e in given
        ]
        columns = dict(
            zip(("member", "rank", "place", "from", "until"), map(list, zip(*rows, strict=True)), strict=True)
        )
        pq.write_table(pa.table(members), folder / "members" / f"{start:09}.parquet")
        pq.write_table(pa.table(columns), folder / "assignments" / f"{start:09}.parquet")


def written_again(folder: Path, out: Path) -> float:
    """How long pyarrow takes to write the same rows, already in memory, group by group."""
    taken = 0.0
    for file in sorted(folder.glob("*.parquet")):
        with (
            pq.ParquetFile(file, read_dictionary=["member", "place", "capability"]) as read,
            pq.ParquetWriter(out, read.schema_arrow) as writer,
        ):
            for n in range(read.num_row_groups):
                table = read.read_row_group(n)
                start = time.perf_counter()
                writer.write_table(table)
                taken += time.perf_counter() - start
    return taken


def main() -> None:
    count, places, some = [*map(int, sys.argv[1:4]), *(1_000_000, 200, 10)[len(sys.argv) - 1 :]]
    size = Size(places=places, overrides=5 * places, members=20_000)
    with tempfile.TemporaryDirectory() as name:
        here = Path(name)
        (here / "charter.yaml").write_text(charter_text(size))
        make(here / "people", size, count)
        wanted = json.dumps([f"h{n % 12}.c{n}" for n in range(some)])
        command = [
            sys.executable,
            "-c",
            EXPORT,
            str(here / "charter.yaml"),
            str(here / "people"),
            str(here / "out"),
            wanted,
        ]
        seconds, peak, rows = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
        size_out = sum(file.stat().st_size for file in (here / "out" / "usable").iterdir()) / 1e6
        plain = written_again(here / "out" / "usable", here / "again.parquet")
        print(
            f"{count} members by {places} places for {some} capabilities: "
            f"{rows / 1e6:.0f} million rows, {size_out:.0f} MB"
        )
        print(f"{seconds:.0f} s and {peak:.0f} MB at most; {seconds / plain:.2f} times writing the same with pyarrow")
        who(here / "out")


def who(out: Path) -> None:
    try:
        import duckdb
    except ImportError:
        print("duckdb is not installed")
        return
    start = time.perf_counter()
    found = duckdb.execute(
        "SELECT count(*) FROM read_parquet(?) WHERE place = 'place-7' AND capability = 'h3.c3'",
        [f"{out}/usable/*.parquet"],
    ).fetchone()
    print(f"DuckDB: {found[0] if found else 0} may use it there, in {time.perf_counter() - start:.1f} s")


if __name__ == "__main__":
    main()
