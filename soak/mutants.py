"""Change the code of a room in one spot at a time, and see whether its tests notice: a seeded sample, in a copy.

python soak/mutants.py decide [MUTANTS] [SEED]
python soak/mutants.py change 300 1

Prints how many mutants were killed, with the interval that this share lies in, and those that live. What stands in
annotations is left out: it is never run.
"""

from __future__ import annotations

import ast
import os
import shutil
import sqlite3
import subprocess
import sys
from math import sqrt
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory

ROOT = Path(__file__).parent.parent
TESTS = {
    "decide": (
        "after_a_change rules against_plain_rules messages expectations reach "
        "administrator_questions describe advice platform climb"
    ),
    "change": (
        "changes_exactly reach changes edits_of_any_shape expectations cli_changes conspiracies changes_at_random "
        "nothing_differs as_one_says_it files_and_database ways_typed after_a_change sync"
    ),
}
"""The tests of each room: first the fast ones of these, then, where nothing has noticed, all."""
CONFIG = """[cosmic-ray]
module-path = "src/ask_above/{room}"
timeout = 400.0
excluded-modules = []
test-command = "bash -c '{run} -m \\"not slow\\" {tests} && {run} -m slow {tests}'"
[cosmic-ray.distributor]
name = "local"
"""


def annotated(file: Path) -> list[tuple[tuple[int, int], tuple[int, int]]]:
    """Return from where to where the annotations of a file stand."""
    found: list[ast.expr] = []
    for node in ast.walk(ast.parse(file.read_text("utf-8"))):
        if isinstance(node, ast.AnnAssign):
            found.append(node.annotation)
        elif isinstance(node, ast.FunctionDef):
            found += [node.returns] if node.returns else []
            found += [each.annotation for each in ast.walk(node.args) if isinstance(each, ast.arg) and each.annotation]
    return [((e.lineno, e.col_offset), (e.end_lineno or e.lineno, e.end_col_offset or 0)) for e in found]


def sample(session: Path, copy: Path, count: int, seed: int) -> int:
    """Leave so many mutants in the session; returns how many there are in all."""
    with sqlite3.connect(session) as found:
        rows = found.execute("SELECT job_id, module_path, start_pos_row, start_pos_col FROM mutation_specs").fetchall()
        spots = {path: annotated(copy / path) for path in {row[1] for row in rows}}
        real = sorted(
            job for job, path, line, column in rows if not any(a <= (line, column) < b for a, b in spots[path])
        )
        kept = set(Random(seed).sample(real, min(count, len(real))))
        gone = [(row[0],) for row in rows if row[0] not in kept]
        for table in ("mutation_specs", "work_items"):
            found.executemany(f"DELETE FROM {table} WHERE job_id = ?", gone)  # noqa: S608 (a name of ours)
    return len(real)


def interval(killed: int, of: int) -> tuple[float, float]:
    """Return the bounds of the share at 95 % (Wilson)."""
    z, share = 1.96, killed / of
    middle, half = share + z * z / (2 * of), z * sqrt(share * (1 - share) / of + z * z / (4 * of * of))
    return (middle - half) / (1 + z * z / of), (middle + half) / (1 + z * z / of)


def told(session: Path, total: int) -> None:
    """Print the score, and the mutants that live."""
    with sqlite3.connect(session) as found:
        rows = found.execute(
            "SELECT test_outcome, module_path, start_pos_row, operator_name, diff FROM work_results "
            "JOIN mutation_specs USING (job_id) ORDER BY module_path, start_pos_row"
        ).fetchall()
    alive = [row for row in rows if str(row[0]).upper().endswith("SURVIVED")]
    low, high = interval(len(rows) - len(alive), len(rows))
    share = 1 - len(alive) / len(rows)
    print(f"{len(rows) - len(alive)} of {len(rows)} mutants killed: {share:.1%} ({low:.1%} to {high:.1%}), of {total}")
    for _, path, line, operator, diff in alive:
        print(f"\nALIVE {path}:{line} {operator}\n{diff}")


def cosmic_ray(what: str, copy: Path, session: Path) -> None:
    """Run the mutation tester on the copy."""
    env = os.environ | {"PYTHONPATH": f"{copy / 'src'}:{copy / 'tests'}"}
    tool = Path(sys.executable).with_name("cosmic-ray")
    subprocess.run([tool, what, "session.toml", session.name], check=True, cwd=copy, env=env)


def main() -> None:
    """Make the copy and the session, run it, tell."""
    room, count, seed = [*sys.argv[1:4], *("decide", "300", "1")[len(sys.argv) - 1 :]]
    kept = os.environ.get("ASK_ABOVE_MUTANTS")  # where to keep the copy and the session, so that one can go on
    with TemporaryDirectory() as name:
        copy = Path(kept or name) / "copy"
        session = copy / "session.sqlite"
        run = f"{sys.executable} -m pytest -x -q -p no:cacheprovider"
        tests = " ".join(f"tests/test_{each}.py" for each in TESTS[room].split())
        if not session.exists():
            shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns(".git", "__pycache__", ".*_cache"))
            (copy / "session.toml").write_text(CONFIG.format(room=room, run=run, tests=tests), "utf-8")
            cosmic_ray("init", copy, session)
        total = sample(session, copy, int(count), int(seed))
        cosmic_ray("exec", copy, session)
        told(session, total)


if __name__ == "__main__":
    main()
