"""An audit of many rows, beside what one would do without: reading the same Parquet and counting, and plain SQL.

python benchmarks/cluster.py [MILLIONS] [PAIRS]

Every figure is a ratio within this run, pairs in turns. Each side is a process of its own, whose peak of memory is
printed. Needs about eight bytes of disk a row in the folder for temporary files; duckdb where it is there.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq

from ask_above import Community

_GROUP = 2_000_000
_FILES = 4
SIDES = {
    "audit": """
import sys, json, resource, time
from pathlib import Path
from ask_above import Community
start = time.perf_counter()
audit = Community.open(sys.argv[2]).audit(sorted(Path(sys.argv[1]).glob("*.parquet")))
found = sum(each.times for each in audit.not_allowed), audit.rows
""",
    "count": """
import sys, json, resource, time
from pathlib import Path
import pyarrow as pa, pyarrow.parquet as pq
start = time.perf_counter()
parts = []
for file in sorted(Path(sys.argv[1]).glob("*.parquet")):
    with pq.ParquetFile(file) as opened:
        for batch in opened.iter_batches(batch_size=2_000_000):
            table = pa.table(batch)
            names = ("member", "action", "place")
            texts = [table[name].cast(pa.string()) for name in names]
            table = pa.table([*texts, table["when"]], names=[*names, "when"])
            parts.append(table.group_by(["member", "action", "place"]).aggregate([("when", "count")]))
whole = pa.concat_tables(parts).group_by(["member", "action", "place"]).aggregate([("when_count", "sum")])
found = whole.num_rows, int(sum(whole["when_count_sum"].to_pylist()))
""",
    "arithmetic": """
import sys, json, resource, time
import numpy as np
start = time.perf_counter()
x = np.random.default_rng(1).random(2_000_000)
for _ in range(60): x = np.sqrt(x * 1.0001 + 0.1)
found = 0, 0
""",
}
TAIL = """
print(json.dumps([time.perf_counter() - start, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, *found]))
"""


def make(folder: Path, rows: int, community: Path) -> None:
    """Write a log of so many rows: who may mostly, some who may not, in the order of time."""
    opened = Community.open(community)
    rng = np.random.default_rng(1)
    table = opened.table()
    members, places = [*opened.register.members], [*opened.charter.places]
    actions = list(opened.charter.catalogue.keys)
    done = [
        (m, a, p)
        for m, member in enumerate(members)
        for a, action in enumerate(actions)
        for p, place in enumerate(places)
        if table.may(member, action, place) or rng.random() < 0.002
    ]
    usual = np.array(done, dtype=np.int32)
    start, span = 1_761_955_200_000_000, 365 * 86_400 * 1_000_000
    for n in range(_FILES):
        count = rows // _FILES
        with pq.ParquetWriter(folder / f"log-{n}.parquet", _schema()) as out:
            for first in range(0, count, _GROUP):
                size = min(_GROUP, count - first)
                begin = start + span * (n * count + first) // rows
                when = begin + np.sort(rng.integers(0, max(1, span * size // rows), size))
                picked = usual[rng.integers(0, len(usual), size)]
                columns = [
                    pa.DictionaryArray.from_arrays(pa.array(np.ascontiguousarray(picked[:, n])), pa.array(names))
                    for n, names in enumerate((members, actions, places))
                ]
                out.write_table(pa.table([pa.array(when, pa.timestamp("us", "UTC")), *columns], schema=_schema()))


def _schema() -> pa.Schema:
    names = pa.dictionary(pa.int32(), pa.string())
    return pa.schema([("when", pa.timestamp("us", "UTC")), ("member", names), ("action", names), ("place", names)])


def side(what: str, *words: str, threads: str = "1") -> list[float]:
    env = {**os.environ, "OMP_NUM_THREADS": threads, "ARROW_NUM_THREADS": threads}
    code = SIDES[what] + TAIL
    done = subprocess.run([sys.executable, "-c", code, *words], capture_output=True, text=True, check=True, env=env)
    return list(json.loads(done.stdout))


def both(what: str, *words: str) -> float:
    """How long two at once take."""
    env = {**os.environ, "OMP_NUM_THREADS": "1"}
    start = time.perf_counter()
    running = [
        subprocess.Popen([sys.executable, "-c", SIDES[what] + TAIL, *words], stdout=subprocess.DEVNULL, env=env)
        for _ in range(2)
    ]
    for each in running:
        each.wait()
    return time.perf_counter() - start


def main() -> None:
    millions = float(sys.argv[1]) if len(sys.argv) > 1 else 10
    pairs = int(sys.argv[2]) if len(sys.argv) > 2 else 3
    with tempfile.TemporaryDirectory() as made:
        logs, community = Path(made) / "logs", Path(made) / "wren-valley"
        logs.mkdir()
        subprocess.run(
            [sys.executable, "-m", "ask_above", "demo", str(community)], stdout=subprocess.DEVNULL, check=False
        )
        make(logs, int(millions * 1_000_000), community)
        size = sum(file.stat().st_size for file in logs.iterdir()) / 1e6
        runs = [(side("audit", str(logs), str(community)), side("count", str(logs))) for _ in range(pairs)]
        ratio = median(mine[0] / theirs[0] for mine, theirs in runs)
        seconds = median(mine[0] for mine, _ in runs)
        print(f"{millions:.0f} million rows, {size:.0f} MB of Parquet")
        print(f"audit: {ratio:.2f} times reading and counting ({millions / seconds:.1f} million rows a second)")
        print(
            f"peak of memory: {max(mine[1] for mine, _ in runs):.0f} MB, counting {max(t[1] for _, t in runs):.0f} MB"
        )
        sql(logs, community, seconds)
        workers(logs, community)
        strangers()


def strangers(members: int = 20_000, rows: int = 10_000) -> None:
    """What rows of as many members that nobody knows take, beside those of members that there are."""
    people = "key\n" + "".join(f"m{n}\n" for n in range(members))
    charter = (
        "charter: 1\nkey: mill\nowner: m0\ncapabilities: {Work: {log.add: Add}}\n"
        "ranks: [{key: all, title: All, held-by: members}]\n"
    )
    c = Community.from_texts({"charter.yaml": charter, "members.csv": people, "assignments.csv": "member,rank\n"})

    def taken(begin: str) -> float:
        frame = pd.DataFrame(
            {"member": [f"{begin}{n}" for n in range(rows)], "action": "log.add", "when": "2026-05-01"}
        )
        start = time.perf_counter()
        c.audit(frame).unknown  # noqa: B018
        return time.perf_counter() - start

    taken("m")
    ratio = median(taken("stranger") / taken("m") for _ in range(5))
    print(f"{rows} rows of members that nobody knows: {ratio:.2f} times those of known ones (limit 2)")


def sql(logs: Path, community: Path, ours: float) -> None:
    """The nearest that plain SQL comes to it: a table of what everyone can use everywhere now, joined to the log."""
    try:
        import duckdb
    except ImportError:
        print("plain SQL: duckdb is not installed")
        return
    table = community / "table.parquet"
    command = [
        sys.executable,
        "-m",
        "ask_above",
        "export-table",
        str(table),
        "--members",
        "--community",
        str(community),
    ]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        print(f"plain SQL: {done.stderr.strip()}")
        return
    start = time.perf_counter()
    connection = duckdb.connect(config={"threads": 1})
    connection.execute(
        "SELECT l.member, l.action, l.place, count(*) FROM read_parquet(?) l ANTI JOIN read_parquet(?) t "
        "ON l.member = t.member AND l.action = t.capability AND l.place = t.place GROUP BY ALL",
        [f"{logs}/*.parquet", str(table)],
    ).fetchall()
    share = ours / (time.perf_counter() - start)
    print(f"plain SQL in DuckDB over a table of now, without yesterday and reasons: ours takes {share:.2f} of it")


def workers(logs: Path, community: Path) -> None:
    """Two workers against one, beside what two processes of pure arithmetic gain here."""
    from dask import distributed

    files = sorted(logs.glob("*.parquet"))
    taken = {}
    for count in (1, 2):
        with distributed.LocalCluster(n_workers=count, threads_per_worker=1, dashboard_address=None) as cluster:
            opened = Community.open(community)
            opened.audit(files[:1], cluster=cluster.scheduler_address)
            start = time.perf_counter()
            opened.audit(files, cluster=cluster.scheduler_address)
            taken[count] = time.perf_counter() - start
    one, two = side("arithmetic")[0], both("arithmetic")
    plain = 2 * one / two
    print(f"two workers: {taken[1] / taken[2]:.2f} times one; two processes of arithmetic here: {plain:.2f}")


if __name__ == "__main__":
    main()
