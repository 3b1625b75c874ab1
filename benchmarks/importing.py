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


def main() -> None:
    members = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    with TemporaryDirectory() as name:
        folder = Path(name)
        people = folder / "people.csv"
        lines = [f"m{n},Member {n},m{n}@river.example,person,active,2026-01-01,," for n in range(members)]
        people.write_text("key,name,email,kind,status,joined,groups,note\n" + "\n".join(lines) + "\n")
        start = time.perf_counter()
        engine = sa.create_engine(f"sqlite:///{folder / 'pandas.db'}")
        pd.read_csv(people, dtype=str).to_sql("members", engine, index=False)
        base = time.perf_counter() - start
        shutil.copytree(DEMO, folder / "river")
        Community.open(folder / "river").plan(MemberSet("tove", {"note": "x"})).apply()
        community = Community.open(folder / "river")
        start = time.perf_counter()
        plan = community.plan(Import(read_rows(people.name, people.read_bytes(), COLUMNS, ())))
        planned = time.perf_counter() - start
        plan.apply()
        took = time.perf_counter() - start
        figures = f"{took:.2f} s ({planned:.2f} to plan), pandas {base:.2f} s"
        print(f"importing {members} members, over pandas: {took / base:.2f} (limit 3); {figures}")
        many = min(10_000, members)
        community = Community.open(folder / "river")
        start = time.perf_counter()
        community.plan(*(Assign(f"m{n}", "host", "commons") for n in range(many))).apply()
        print(f"giving {many} members a rank, one transaction: {time.perf_counter() - start:.2f} s")


if __name__ == "__main__":
    main()
