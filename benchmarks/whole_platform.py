"""The ratios for every click and for a whole platform, each beside its limit, on the standard community.

    python benchmarks/whole_platform.py

200 ranks, 150 capabilities, 2,000 places in a tree of depth 5, 10,000 overrides, 100,000 members. Each ratio is against
something measured in the same run; medians of several runs. Needs typer beside the package for the cold starts.
"""

from __future__ import annotations

import math
import platform
import statistics
import subprocess
import sys
import tempfile
import time
import tracemalloc
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any

import numpy as np
import pandas as pd

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from cold_start import KEEPING
from questions import administrators, every_click, questions
from sqlite_who import SqliteWho

from ask_above import Assignment, Community
from ask_above.bulk.making import programme_of
from ask_above.bulk.places import CompiledPlaces
from ask_above.charter.catalogue import Words
from ask_above.charter.places import Override
from generated import ASSIGNMENT_COLUMNS, MEMBER_COLUMNS, as_csv
from standard import Size, charter, charter_text, register

QUESTIONS = 100_000
ROWS: list[tuple[str, str, float, float | None]] = []


def seconds(work: Callable[[], Any], runs: int = 5) -> float:
    """The median time of some work, after one run that does not count."""
    work()
    return statistics.median(seconds_once(work) for _ in range(runs))


def beside(work: Callable[[], Any], base: Callable[[], Any], pairs: int = 7) -> tuple[float, float, float]:
    """The median times of two works that take turns, and the median of their ratios: others may use the machine."""
    work()
    base()
    times = [(seconds_once(work), seconds_once(base)) for _ in range(pairs)]
    first, second = zip(*times, strict=True)
    return statistics.median(first), statistics.median(second), statistics.median(a / b for a, b in times)


def seconds_once(work: Callable[[], Any]) -> float:
    """The time of some work."""
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def report(what: str, figures: str, ratio: float, limit: float | None = None, *, least: bool = False) -> None:
    """Print one ratio beside its limit."""
    ROWS.append((what, figures, ratio, limit))
    word = "" if limit is None else f" ({'at least' if least else 'limit'} {limit:g})"
    missed = limit is not None and (ratio < limit if least else ratio > limit)
    print(f"{'MISSED ' if missed else '       '}{what}: {ratio:.3g}{word}; {figures}", flush=True)


def everywhere(c: Community, profiles: int) -> None:
    tables: list[Any] = []
    shape, block = c.table().words.shape, 64 << 20

    def make() -> None:
        tables[:] = [c.table()]

    def fill() -> None:
        tables[:] = [np.empty(shape, dtype=np.uint64)]
        tables[0].fill(7)

    def stream() -> None:
        for _ in c.table_blocks(memory=block):
            pass

    blocks = [each.words.shape for each in c.table_blocks(memory=block)]

    def fill_blocks() -> None:
        for each in blocks:
            np.empty(each, dtype=np.uint64).fill(7)

    took, base, ratio = beside(make, fill, 5)
    size = math.prod(shape) * 8
    figures = f"{took:.2f} s, the fill {base:.2f} s, {size / 1e6:.0f} MB"
    report(f"the whole table, {profiles} profiles", figures, ratio, 2.5)
    tables.clear()
    took, base, ratio = beside(stream, fill_blocks, 5)
    report(f"streamed in 64 MiB, {profiles} profiles", f"{took:.3f} s, the fill {base:.3f} s", ratio, 2.5)
    tables.clear()
    for what, work, room in (("the table", make, size), ("the budget", stream, block)):
        tracemalloc.start()
        work()
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        report(f"peak memory over {what}, {profiles} profiles", f"{peak / 1e6:.0f} MB", peak / room, 1.5)
        tables.clear()


def who(c: Community) -> None:
    table, rng = c.table(), Random(7)
    asked = [(rng.choice(table.capabilities), rng.choice(table.places)) for _ in range(200)]
    flags = np.zeros(int(table.rows.max()) + 1, dtype=bool)
    took = seconds(lambda: [table.column(k, p) for k, p in asked])
    base = seconds(lambda: [flags.take(table.rows) for _ in asked])
    report("who, for one capability at one place", f"{took / 200 * 1e6:.0f} µs", took / base, 10)
    database = SqliteWho(c)
    for k, p in asked[:20]:
        if np.flatnonzero(table.column(k, p)).tolist() != database.who(k, p):
            sys.exit(f"SQLite finds others for {k} at {p}")
    slow = statistics.median(seconds(lambda k=k, p=p: database.who(k, p), 1) for k, p in asked[:10])  # type: ignore[misc]
    report("the same in SQLite, over ours", f"{slow * 1e3:.0f} ms, the same members", slow / (took / 200))


def compile_all(c: Community) -> None:
    """Make ready all that follows from charter and register before the first question."""
    decider = Community(c.charter, c.register).decider
    now = c.names.moment()
    for member_class in decider.ready.all():
        decider.ready.at(member_class, now)
    _ = programme_of(decider.compiled.keep(CompiledPlaces))


def changes(c: Community) -> None:
    whole = seconds(lambda: compile_all(c), 3)
    _ = programme_of(c.decider.compiled.keep(CompiledPlaces))
    rng, costs = Random(8), []

    def override(key: str) -> float:
        place = c.charter.places[key]
        entry = Override(f"rank-{rng.randrange(50)}", allow=Words((rng.choice(c.charter.catalogue.keys),)))
        new = c.charter._replace(places={**c.charter.places, key: place._replace(overrides=(*place.overrides, entry))})
        start = time.perf_counter()
        _ = programme_of(c.after(charter=new).decider.compiled.keep(CompiledPlaces))
        return time.perf_counter() - start

    costs = [override(rng.choice(list(c.charter.places)[1:])) for _ in range(60)]
    median = statistics.median(costs)
    report(
        "an override at a random place, % of a compile",
        f"{median * 1e3:.1f} ms of {whole:.2f} s",
        median / whole * 100,
        3,
    )
    site = statistics.median(override("site") for _ in range(5))
    report("an override at the site, of a compile", f"{site * 1e3:.1f} ms", site / whole, 1)

    def assignment() -> float:
        key = f"m{rng.randrange(len(c.register.members))}"
        start = time.perf_counter()
        changed = c.after(register=c.register.assigned(Assignment(key, "rank-5")))
        changed.may(key, "place.see", at="place-5")
        return time.perf_counter() - start

    given = statistics.median(assignment() for _ in range(60))
    report("a new assignment, % of a compile", f"{given * 1e3:.2f} ms", given / whole * 100, 0.1)


def many(c: Community) -> None:
    frame = pd.DataFrame(questions(c, QUESTIONS), columns=["member", "capability", "place"])
    rows, may = list(frame.itertuples(index=False, name=None)), c.may
    loop = seconds(lambda: [may(m, k, at=p).allowed for m, k, p in rows], 3)
    # the loop's answers are kept after its first round
    for what, table, limit in (("text", frame, 1), ("categories", frame.astype("category"), 8)):
        took = seconds(lambda table=table: c.may_many(table))  # type: ignore[misc]
        report(f"may_many over a loop, columns of {what}", f"{took * 1e3:.0f} ms", loop / took, limit, least=True)


def cold_start(c: Community) -> None:
    program = [sys.executable, "-m", "ask_above"]
    with tempfile.TemporaryDirectory() as name:
        demo, large = Path(name) / "demo", Path(name) / "standard"
        subprocess.run([*program, "demo", str(demo)], check=True, capture_output=True)
        large.mkdir()
        (large / "charter.yaml").write_text(charter_text(Size()), "utf-8")
        people = [{"key": m.key, "groups": ";".join(m.groups)} for m in c.register.members.values()]
        (large / "members.csv").write_text(as_csv(people, MEMBER_COLUMNS), "utf-8")
        given: list[dict[str, Any]] = [
            {
                "member": a.member,
                "rank": a.rank,
                "place": a.place,
                "from": a.period.said_from,
                "until": a.period.said_until,
            }
            for a in c.register.assignments
        ]
        (large / "assignments.csv").write_text(as_csv(given, ASSIGNMENT_COLUMNS), "utf-8")
        for what, question, limit in (
            ("cold start on the demo", ["dara", "post.write", "--at", "notices", "--community", str(demo)], 1.5),
            (
                "cold start on the standard community",
                ["m77", "h0.c0", "--at", "place-9", "--community", str(large)],
                None,
            ),
        ):
            pairs = []
            for _ in range(12):
                pair = []
                for command in ([*program, "may", *question], [sys.executable, "-c", "import typer, yaml"]):
                    start = time.perf_counter()
                    subprocess.run(command, check=False, capture_output=True, env=KEEPING)
                    pair.append(time.perf_counter() - start)
                pairs.append(pair)
            ratio = statistics.median(ours / base for ours, base in pairs[1:])
            report(what, f"{statistics.median(p[0] for p in pairs[1:]) * 1e3:.0f} ms", ratio, limit)


def both(c: Community) -> None:
    compile_all(c)
    c.table()


def growth() -> None:
    """Double one size at a time, and print how the time of compiling and of the table grows with it."""
    base = Size(ranks=60, capabilities=75, places=800, overrides=4_000, members=16_000, profiles=1_200)
    one = Community(charter(base), register(base))
    for field in ("members", "ranks", "places", "overrides", "capabilities"):
        size = Size(**{**vars(base), field: getattr(base, field) * 2})
        double = Community(charter(size), register(size))
        times: dict[bool, list[float]] = {False: [], True: []}
        for _ in range(6):
            for doubled, c in ((False, one), (True, double)):
                start = time.perf_counter()
                both(c)
                times[doubled].append(time.perf_counter() - start)
        exponent = math.log2(min(times[True]) / min(times[False]))
        report(f"twice the {field}: exponent", f"from {getattr(base, field)}", exponent)
    few, many = (min(seconds_once(lambda n=n: both(with_exceptions(one, n))) for _ in range(3)) for n in (1_000, 2_000))  # type: ignore[misc]
    report("twice the personal exceptions at the site: exponent", "from 1000", math.log2(many / few))


def with_exceptions(c: Community, count: int) -> Community:
    """The community where the site takes something from so many members, each by an exception of their own."""
    words = Words(tuple(c.charter.catalogue.keys[:8]))
    site = c.charter.places["site"]._replace(exceptions=tuple(Override(f"m{n}", deny=words) for n in range(count)))
    return Community(c.charter._replace(places={**c.charter.places, "site": site}), c.register)


def main() -> None:
    start = time.perf_counter()
    print(f"Python {platform.python_version()}, NumPy {np.__version__}, {platform.machine()}")
    c = Community(charter(Size()), register(Size()))
    every_click(c, questions(c, QUESTIONS), beside, report)
    everywhere(c, 3_000)
    who(c)
    changes(c)
    many(c)
    administrators(c, beside, report)
    cold_start(c)
    size = Size(profiles=30_000)
    everywhere(Community(c.charter, register(size)), 30_000)
    growth()
    print(f"{time.perf_counter() - start:.0f} s in all")


if __name__ == "__main__":
    main()
