"""Change the code of a room in one spot at a time, and see whether the tests notice: a seeded sample, in a copy.

python soak/mutants.py ROOM,ROOM... [MUTANTS EACH] [SEED] [fast]
python soak/mutants.py change 300 1
python soak/mutants.py all 30 1 fast

First the tests run once, and what each of them runs of the room is counted. Then each mutant is put to the tests that
run its statement, the quickest first, until one fails; each in a process forked from one that has loaded the packages
already. Prints how many mutants were killed, with the interval that this share lies in, and those that live. What
stands in annotations is left out: it is never run. ``fast`` asks the fast pass alone.
``ASK_ABOVE_MUTANTS`` names a folder to keep what was found in, so
that a run can go on.
"""

from __future__ import annotations

import ast
import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from itertools import accumulate
from math import sqrt
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory
from typing import Any, NamedTuple

ROOT = Path(__file__).parent.parent
ROOMS = ("charter", "people", "decide", "change", "ask", "files", "store", "workspace", "show", "serve")
AT_FIRST = (
    "test_rules.py",
    "test_reach.py",
    "test_reach_closely.py",
    "test_edits_closely.py",
    "test_after_a_change.py",
)
STRONG = ("test_against_plain_rules.py",)
"""Whose tests are asked however long they take."""
MOST_SECONDS = 45.0
"""How long the tests of one mutant may take by themselves: those that take longest are left out beyond it."""
CONFIG = """[cosmic-ray]
module-path = "src/ask_above/{room}"
timeout = 400.0
excluded-modules = []
test-command = "true"
[cosmic-ray.distributor]
name = "local"
"""
PACKAGES = "numpy pandas hypothesis click sqlalchemy yaml msgspec rapidfuzz rich jinja2 pytest matplotlib.figure"

DOTTED = "core/ExceptionReplacer"
"""An operator of the mutation tester that fails where an exception is named with a dot."""


class Mutant(NamedTuple):
    """One spot changed: by an operator of the mutation tester, or by a text in place of another."""

    path: str
    line: int
    operator: str
    occurrence: int

    @property
    def name(self) -> str:
        """What it is called in what is kept."""
        return f"{self.path}:{self.line} {self.operator} {self.occurrence}"


# -- which tests run which statement


class Ran:
    """A plugin for pytest: writes down how long each test that passed took."""

    def __init__(self) -> None:
        self.seconds: dict[str, float] = {}
        self.failed: set[str] = set()

    def pytest_runtest_logreport(self, report: Any) -> None:
        """Note one part of one test."""
        self.seconds[report.nodeid] = self.seconds.get(report.nodeid, 0.0) + report.duration
        if report.failed:
            self.failed.add(report.nodeid)

    def pytest_sessionfinish(self, session: Any) -> None:
        """Write what was noted; workers leave it to the process that started them."""
        if hasattr(session.config, "workerinput"):
            return
        passed = {test: taken for test, taken in self.seconds.items() if test not in self.failed}
        Path(os.environ["ASK_ABOVE_RAN"]).write_text(json.dumps(passed), "utf-8")


def pytest_configure(config: Any) -> None:
    """Let pytest know the plugin, where this file is given with ``-p``."""
    config.pluginmanager.register(Ran())


class Tests:
    """What each statement of the rooms is run by."""

    def __init__(self, copy: Path) -> None:
        from coverage import CoverageData

        self.copy = copy
        ran = copy / "ran.json"
        if not ran.exists():
            count(copy, ran)
        self.seconds: dict[str, float] = json.loads(ran.read_text("utf-8"))
        self.data = CoverageData(str(copy / ".coverage"))
        self.data.read()

    def of(self, path: str, line: int) -> list[str]:
        """Return the tests that run a statement, the quickest first."""
        file = str((self.copy / path).resolve())
        lines = self.data.contexts_by_lineno(file)
        wanted = statement(Path(file).read_text("utf-8"), line)
        found = {context for n in wanted for context in lines.get(n, ())}
        if not found - {""}:  # run when the file is imported: whatever runs the file at all
            found = {context for contexts in lines.values() for context in contexts}
        tests = {context.rpartition("|")[0] for context in found if context} & self.seconds.keys()
        return sorted(tests, key=lambda test: self.seconds[test])

    def within(self, tests: Sequence[str], most: float) -> list[str]:
        """Return the first of some tests, which take so many seconds at most."""
        so_far = accumulate(self.seconds[test] for test in tests)
        return [test for test, taken in zip(tests, so_far, strict=True) if taken <= most]


def count(copy: Path, ran: Path) -> None:
    """Run all tests once, and write down what each runs of the rooms."""
    env = os.environ | {"PYTHONPATH": f"{copy / 'src'}:{copy / 'tests'}:{copy / 'soak'}", "ASK_ABOVE_RAN": str(ran)}
    words = "-q -n auto --dist worksteal -p mutants -p no:cacheprovider --cov-context=test --cov-report="
    fast = ("-m", "not slow") if "fast" in sys.argv else ()
    subprocess.run(
        [
            sys.executable,
            "-m",
            "pytest",
            *words.split(),
            *fast,
            *(f"--cov={copy / 'src' / 'ask_above' / room}" for room in ROOMS),
        ],
        cwd=copy,
        env=env,
        check=False,
    )


def statement(source: str, line: int) -> range:
    """Return the lines of the innermost statement around a line; of one with a body of its own its head alone."""
    best = range(line, line + 1)
    size = 1 << 30
    for node in ast.walk(ast.parse(source)):
        if not isinstance(node, ast.stmt) or node.end_lineno is None:
            continue
        body = getattr(node, "body", None)
        end = body[0].lineno - 1 if body and body[0].lineno > node.lineno else node.end_lineno
        if node.lineno <= line <= end and end - node.lineno < size:
            best, size = range(node.lineno, end + 1), end - node.lineno
    return best


# -- the mutants of a room


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


def sample(copy: Path, room: str, size: int, seed: int) -> tuple[list[Mutant], int]:
    """Return so many mutants of a room, the same for the same seed, and how many there are in all."""
    session = copy / "session.sqlite"
    session.unlink(missing_ok=True)
    (copy / "session.toml").write_text(CONFIG.format(room=room), "utf-8")
    tool = Path(sys.executable).with_name("cosmic-ray")
    subprocess.run([tool, "init", "session.toml", session.name], check=True, cwd=copy)
    columns = "module_path, start_pos_row, start_pos_col, operator_name, occurrence"
    with sqlite3.connect(session) as made:
        rows = made.execute(f"SELECT {columns} FROM mutation_specs").fetchall()  # noqa: S608 (names of ours)
    spots = {path: annotated(copy / path) for path in {row[0] for row in rows}}
    real = sorted(
        Mutant(path, line, operator, n)
        for path, line, column, operator, n in rows
        if not any(first <= (line, column) < last for first, last in spots[path])
        and not (operator == DOTTED and "." in (copy / path).read_text("utf-8").splitlines()[line - 1])
    )
    return sorted(Random(seed).sample(real, min(size, len(real)))), len(real)


@contextmanager
def put(copy: Path, path: str, text: str) -> Iterator[None]:
    """Let a file of a copy have another text for a while."""
    file = copy / path
    before = file.read_text("utf-8")
    file.write_text(text, "utf-8")
    try:
        yield
    finally:
        file.write_text(before, "utf-8")


def mutated(copy: Path, mutant: Mutant) -> str:
    """Return the text of a file with the mutant in it."""
    from cosmic_ray.mutating import mutate_code
    from cosmic_ray.plugins import get_operator

    before = (copy / mutant.path).read_text("utf-8")
    return mutate_code(before, get_operator(mutant.operator)(), mutant.occurrence) or before


# -- running


class Runner:
    """Runs tests in a copy, each time in a process forked from one that has loaded the packages."""

    def __init__(self, copy: Path) -> None:
        env = os.environ | {"PYTHONPATH": f"{copy / 'src'}:{copy / 'tests'}", "PYTHONDONTWRITEBYTECODE": "1"}
        self.process = subprocess.Popen(
            [sys.executable, str(Path(__file__).resolve()), "--fork"],
            cwd=copy,
            env=env,
            text=True,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
        )

    def run(self, words: Sequence[str], seconds: float) -> dict[str, Any]:
        """Run pytest with some words; returns its status (-1 where it took too long), and what it printed last."""
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        self.process.stdin.write(json.dumps([list(words), seconds]) + "\n")
        self.process.stdin.flush()
        result: dict[str, Any] = json.loads(self.process.stdout.readline())
        return result


def serve_forks() -> None:
    """Wait for words, fork, run pytest with them, tell how it ended; until there are no more."""
    for package in PACKAGES.split():
        __import__(package)
    while line := sys.stdin.readline():
        words, seconds = json.loads(line)
        log = Path.cwd() / "out.txt"
        child = os.fork()
        if child == 0:
            os.setsid()
            out = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
            os.dup2(out, 1)
            os.dup2(out, 2)
            os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
            import pytest

            os._exit(pytest.main(words))
        status = ended(child, seconds)
        text = log.read_text("utf-8", errors="replace")[-200_000:]
        print(json.dumps({"status": status, "text": text}), flush=True)


def ended(child: int, seconds: float) -> int:
    """Wait for a process and return its status; end it, and all that it started, where it takes too long."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        done, status = os.waitpid(child, os.WNOHANG)
        if done:
            return os.waitstatus_to_exitcode(status)
        time.sleep(0.02)
    os.killpg(child, signal.SIGKILL)
    os.waitpid(child, 0)
    return -1


def tried(runner: Runner, copy: Path, tests: Tests, mutant: Mutant) -> dict[str, Any]:
    """Put one mutant to its tests; returns what killed it, or that it lives."""
    running = tests.of(mutant.path, mutant.line)
    chosen = tests.within(running, MOST_SECONDS)
    chosen += [test for test in running if file_of(test) in STRONG and test not in chosen]
    with put(copy, mutant.path, mutated(copy, mutant)):
        for some in at_first_and_then(chosen):
            failed = first_failure(runner, tests, some)
            if failed:
                return {"killed": True, "by": failed}
    return {"killed": False, "by": f"{len(chosen)} tests run it"}


def file_of(test: str) -> str:
    """Return the name of the file that a test is in."""
    return test.partition("::")[0].rpartition("/")[2]


def at_first_and_then(chosen: list[str]) -> Iterator[list[str]]:
    """Yield the tests of a few files first, as each file takes time to load and they notice most; then the rest."""
    first = {test for test in chosen if file_of(test) in AT_FIRST}
    both = [test for test in chosen if test in first], [test for test in chosen if test not in first]
    yield from (some for some in both if some)


def first_failure(runner: Runner, tests: Tests, chosen: list[str]) -> str:
    """Return which of some tests fails first, and nothing where none does."""
    # one that goes round and round is noticed by the first test that does not end
    words = ["-x", "-q", "-p", "no:cacheprovider", "--timeout=40", *chosen]
    result = runner.run(words, 4 * sum(tests.seconds[test] for test in chosen) + 60)
    if result["status"] == 0:
        return ""
    lines = result["text"].splitlines()
    return next((line for line in lines if line.startswith(("FAILED", "ERROR"))), f"status {result['status']}")[:200]


def try_all(base: Path, copy: Path, tests: Tests, mutants: list[Mutant]) -> dict[str, dict[str, Any]]:
    """Put every mutant to its tests, on all processors; what was found before is not asked again."""
    kept = base / "found.json"
    found: dict[str, dict[str, Any]] = json.loads(kept.read_text("utf-8")) if kept.exists() else {}
    left = [mutant for mutant in mutants if mutant.name not in found]
    workers = os.cpu_count() or 1

    def work(n: int) -> None:
        mine = base / f"copy{n}"
        shutil.rmtree(mine, ignore_errors=True)
        shutil.copytree(copy, mine, ignore=shutil.ignore_patterns(".coverage*"))  # with what was compiled of the rest
        runner = Runner(mine)
        while left:
            mutant = left.pop()
            found[mutant.name] = tried(runner, mine, tests, mutant)
            kept.write_text(json.dumps(found, indent=1), "utf-8")
            print(f"{len(left)} left; {found[mutant.name]} {mutant.name}", file=sys.stderr, flush=True)

    with ThreadPoolExecutor(workers) as pool:
        list(pool.map(work, range(workers)))
    return found


# -- telling


def interval(killed: int, of: int) -> tuple[float, float]:
    """Return the bounds of the share at 95 % (Wilson)."""
    z, share = 1.96, killed / of
    middle, half = share + z * z / (2 * of), z * sqrt(share * (1 - share) / of + z * z / (4 * of * of))
    return (middle - half) / (1 + z * z / of), (middle + half) / (1 + z * z / of)


def told(copy: Path, mutants: list[Mutant], found: dict[str, dict[str, Any]], total: int) -> None:
    """Print the score, and the mutants that live."""
    import difflib

    alive = [mutant for mutant in mutants if not found[mutant.name]["killed"]]
    low, high = interval(len(mutants) - len(alive), len(mutants))
    share = 1 - len(alive) / len(mutants)
    print(
        f"{len(mutants) - len(alive)} of {len(mutants)} mutants killed: "
        f"{share:.1%} ({low:.1%} to {high:.1%}), of {total}"
    )
    for mutant in alive:
        before, after = (copy / mutant.path).read_text("utf-8").splitlines(), mutated(copy, mutant).splitlines()
        print(f"\nALIVE {mutant.name}: {found[mutant.name]['by']}")
        print("\n".join(list(difflib.unified_diff(before, after, lineterm="", n=2))[2:]))


def main() -> None:
    """Make the copy, count what the tests run, try, tell."""
    given = [word for word in sys.argv[1:] if word != "fast"]
    rooms, size, seed = [*given, *("decide", "300", "1")[len(given) :]][:3]
    with TemporaryDirectory() as name:
        base = Path(os.environ.get("ASK_ABOVE_MUTANTS") or name)
        copy = base / "copy"
        if not copy.exists():
            shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns("__pycache__", ".*_cache", ".venv"))
        for room in ROOMS if rooms == "all" else rooms.split(","):
            mutants, total = sample(copy, room, int(size), int(seed))
            found = try_all(base, copy, Tests(copy), mutants)
            print(f"== {room}")
            told(copy, mutants, found, total)


if __name__ == "__main__":
    serve_forks() if sys.argv[1:] == ["--fork"] else main()
