"""Importing members, over reading and writing the same with pandas; and a bulk assignment.

Run: python benchmarks/importing.py [MEMBERS]
"""

from __future__ import annotations

import shutil
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

import pandas as pd
import sqlalchemy as sa

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ask_above import Community
from ask_above.change import Assign, MemberSet
from ask_above.change.importing import COLUMNS, Import
from ask_above.files.csv_rows import read_rows

DEMO = Path(__file__).parent.parent / "src" / "ask_above" / "demo" / "wren-valley"


def write_people(folder: Path, members: int, status: str) -> Path:
    """Write a list of people as someone would send it."""
    people = folder / f"{status}.csv"
    lines = [f"m{n},Member {n},m{n}@river.example,person,{status},2026-01-01,," for n in range(members)]
    people.write_text("key,name,email,kind,status,joined,groups,note\n" + "\n".join(lines) + "\n")
    return people


def with_pandas(folder: Path, people: Path) -> float:
    """Return the seconds that pandas takes to read and write the same rows."""
    start = time.perf_counter()
    engine = sa.create_engine(f"sqlite:///{folder / people.stem}.db")
    pd.read_csv(people, dtype=str).to_sql("members", engine, index=False)
    return time.perf_counter() - start


def imported(folder: Path, people: Path) -> tuple[float, float]:
    """Return the seconds to plan the import, and to plan and make it."""
    shutil.copytree(DEMO, folder)
    Community.open(folder).plan(MemberSet("tove", {"note": "x"})).apply()
    community = Community.open(folder)
    start = time.perf_counter()
    rows = read_rows(people.name, people.read_bytes(), COLUMNS, ())
    plan = community.plan(Import(rows))
    planned = time.perf_counter() - start
    plan.apply()
    return planned, time.perf_counter() - start


def main() -> None:
    """Print the ratios."""
    members = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    with TemporaryDirectory() as name:
        folder = Path(name)
        for status, said in (("pending", "who wait"), ("active", "each of whom is given a rank on joining")):
            people = write_people(folder, members, status)
            base = with_pandas(folder, people)
            planned, took = imported(folder / f"river-{status}", people)
            figures = f"{took:.2f} s ({planned:.2f} to plan), pandas {base:.2f} s"
            print(f"importing {members} members {said}, over pandas: {took / base:.2f} (limit 3); {figures}")
        many = min(10_000, members)
        community = Community.open(folder / "river-active")
        start = time.perf_counter()
        community.plan(*(Assign(f"m{n}", "host", "commons") for n in range(many))).apply()
        print(f"giving {many} members a rank, one transaction: {time.perf_counter() - start:.2f} s")


if __name__ == "__main__":
    main()
