"""The command line on the standard community, its register in SQLite, against importing typer and yaml in the same run.

    python benchmarks/large_register.py [RUNS]

Prints medians and ratios. Limits: `may` 6 with what is kept of the charter, 25 without; a plan of one assignment 12.
Needs typer beside the package.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from cold_start import KEEPING, seconds

from generated import as_csv
from standard import Size, charter_text, register


def write(folder: Path, size: Size | None = None, more: str = "") -> None:
    """Write the standard community, or one of another size, with more at the end of its charter."""
    size = size or Size()
    people = register(size)
    folder.mkdir()
    (folder / "charter.yaml").write_text(charter_text(size) + more, "utf-8")
    rows = [{"key": m.key, "name": m.key.upper(), "groups": ";".join(m.groups)} for m in people.members.values()]
    (folder / "members.csv").write_text(as_csv(rows, ("key", "name", "groups")), "utf-8")
    columns = ("member", "rank", "place", "from", "until")
    given = [
        dict(zip(columns, (a.member, a.rank, a.place, a.period.said_from, a.period.said_until), strict=True))
        for a in people.assignments
    ]
    (folder / "assignments.csv").write_text(as_csv(given, columns), "utf-8")


def main() -> None:
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 9
    program, baseline = [sys.executable, "-m", "ask_above"], [sys.executable, "-c", "import typer, yaml"]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "standard"
        write(folder)
        here = ["--community", str(folder)]
        may = [*program, "may", "m17", "h0.c0", "--at", "place-3", *here]
        plans = {of: [*program, "assign", of, "m17", "--plan", *here] for of in ("rank-50", "rank-5")}
        print(f"ask-above may, from files: {seconds(may):.1f} s")
        first = [*program, "member", "note", "m17", "first", "--yes", *here]
        print(f"the first change: {seconds(first):.1f} s")
        measure("may, with the charter that is kept", may, baseline, runs, 6)
        measure("plan of an assignment that brings nothing of high risk", plans["rank-5"], baseline, runs, 12)
        measure("plan of one that does, of which all are counted", plans["rank-50"], baseline, runs, 12)
        forget = "import sqlite3, sys; c = sqlite3.connect(sys.argv[1]); c.execute('DELETE FROM compiled'); c.commit()"
        subprocess.run([sys.executable, "-c", forget, str(folder / "register.db")], check=True, env=KEEPING)
        measure("may, without it", may, baseline, runs, 25)


def measure(what: str, command: list[str], baseline: list[str], runs: int, limit: int) -> None:
    pairs = [(seconds(command), seconds(baseline)) for _ in range(runs + 1)][1:]
    ours, ratio = statistics.median(a for a, _ in pairs), statistics.median(a / b for a, b in pairs)
    print(f"{what}: {ours:.2f} s, ratio {ratio:.1f} (limit {limit})")


if __name__ == "__main__":
    main()
