"""A register read part by part says what the whole community says, however it is cut; here and by workers."""

from __future__ import annotations

import os
import shutil
import signal
from pathlib import Path
from random import Random
from typing import Any

import pandas as pd
import pyarrow as pa
import pyarrow.dataset as ds
import pyarrow.parquet as pq
import pytest

from ask_above import Community, QuestionError
from ask_above.change import Assign, MemberSet
from commands import run
from conftest import DEMO
from generated import generate
from seeds import seeds

MEMBERS, GIVEN = ("key", "name", "kind", "status", "groups"), ("member", "rank", "place", "from", "until")


def write_parts(community: Community, folder: Path, rng: Random) -> None:
    """Write a register as a data set, cut at random, in any order of files and of members."""
    people = list(community.register.members.values())
    given = list(community.register.assignments)
    rng.shuffle(people)
    rng.shuffle(given)
    members = [dict(zip(MEMBERS, (m.key, m.name, m.kind, m.status, list(m.groups)), strict=True)) for m in people]
    rows = [
        dict(zip(GIVEN, (e.member, e.rank, e.place, e.period.said_from, e.period.said_until), strict=True))
        for e in given
    ]
    for what, each, names in (("members", members, MEMBERS), ("assignments", rows, GIVEN)):
        (folder / what).mkdir(parents=True)
        kinds = [pa.list_(pa.string()) if name == "groups" else pa.string() for name in names]
        schema = pa.schema(list(zip(names, kinds, strict=True)))
        start = 0
        while start < len(each) or not start:
            size = rng.randint(1, 40)
            table = pa.Table.from_pylist(each[start : start + size], schema=schema)
            pq.write_table(table, folder / what / f"{start:04}.parquet", row_group_size=rng.randint(1, 20))
            start += size


def rights(folder: Path, *, members: bool) -> set[tuple[str, str, str]]:
    usable = ds.dataset(folder / "usable").to_table().to_pandas()
    if not members:
        people = ds.dataset(folder / "members").to_table().to_pandas()
        usable = people.merge(usable, on="profile")
    return set(usable[["member", "place", "capability"]].astype(str).itertuples(index=False, name=None))


def as_one(community: Community, wanted: tuple[str, ...], when: str | None = None) -> set[tuple[str, str, str]]:
    table = community.table(when=when)
    return {
        (member, place, capability)
        for place in table.places
        for capability in wanted or table.capabilities
        for member, may in zip(table.members, table.column(capability, place), strict=True)
        if may
    }


@pytest.mark.parametrize("seed", seeds(12))
def test_however_it_is_cut_it_says_what_the_whole_says(tmp_path: Path, seed: int) -> None:
    rng = Random(seed)
    community = generate(rng).open()
    if not community.register.members:
        pytest.skip("nobody is in it")
    write_parts(community, tmp_path / "people", rng)
    names = community.charter.catalogue.keys
    wanted = tuple(rng.sample(names, min(3, len(names)))) if seed % 2 else ()
    members = seed % 3 == 0
    when = "2026-06-01" if seed % 4 else "2031-01-01"
    rows, count = community.export_people(
        tmp_path / "people", tmp_path / "out", capabilities=wanted, members=members, when=when
    )
    assert count == len(community.register.members)
    found = rights(tmp_path / "out", members=members)
    assert found == as_one(community, wanted, when)
    assert rows == ds.dataset(tmp_path / "out" / "usable").count_rows()


class TestTheCommand:
    @pytest.fixture
    def here(self, tmp_path: Path) -> Path:
        shutil.copytree(DEMO, tmp_path / "river")
        write_parts(Community.demo(), tmp_path / "river" / "people", Random(1))
        return tmp_path / "river"

    def test_a_data_set_goes_in_and_one_comes_out(self, here: Path) -> None:
        done = run("export-table", "out/", "--people", "people", "--capability", "post.write", cwd=here)
        assert (done.returncode, "of 60 members" in done.stdout) == (0, True), done
        assert rights(here / "out", members=False) == as_one(Community.demo(), ("post.write",))

    @pytest.mark.slow
    def test_a_database_is_read_by_ranges_of_keys(
        self, here: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        monkeypatch.setattr("ask_above.workspace.spreading._of_database.__defaults__", None, raising=False)
        community = Community.open(here)
        community.plan(Assign("bram", "surveyor"), MemberSet("bram", {"note": "x"})).apply()
        from ask_above.workspace import spreading

        parts = spreading.people_parts(f"sqlite:///{here / 'register.db'}", size=7)
        assert len(parts) == 9
        monkeypatch.setattr("ask_above.workspace.spreading.people_parts", lambda _: parts)
        opened = Community.open(here)
        rows, count = opened.export_people(f"sqlite:///{here / 'register.db'}", tmp_path / "out", members=True)
        assert (count, rows > 0) == (60, True)
        assert rights(tmp_path / "out", members=True) == as_one(opened, ())

    def test_one_table_may_hold_some_capabilities_alone(self, here: Path) -> None:
        run("export-table", "some.csv", "--members", "--capability", "post.write", cwd=here)
        table = pd.read_csv(here / "some.csv")
        assert set(table["capability"]) == {"post.write"}
        assert set(table.itertuples(index=False, name=None)) == as_one(Community.demo(), ("post.write",))

    @pytest.mark.parametrize(
        ("break_it", "said"),
        [
            (lambda p: shutil.rmtree(p / "members"), "holds no members"),
            (lambda p: (p / "members" / "0000.parquet").write_text("no"), "cannot be read as Parquet"),
            (lambda p: add(p / "members", {"key": "No Key!"}), "cannot be meant"),
            (lambda p: add(p / "assignments", {"member": "bram", "rank": "nothing"}), "cannot be meant"),
            (lambda p: add(p / "assignments", {"member": "nobody-here", "rank": "surveyor"}), "are those of no member"),
            (lambda p: add(p / "members", {"key": "bram"}), "stands in it twice"),
        ],
    )
    def test_what_cannot_be_meant_is_told_and_nothing_is_written(self, here: Path, break_it: Any, said: str) -> None:
        (here / "out").mkdir()
        break_it(here / "people")
        done = run("export-table", "out/", "--people", "people", cwd=here)
        assert (done.returncode, said in done.stderr) == (2, True), done
        assert not [*(here / "out").iterdir()]

    def test_it_says_how_to_say_it(self, here: Path) -> None:
        for words, said in (
            (("out.parquet", "--people", "people"), "is written as a folder: out.parquet/"),
            (("out/", "--cluster", "local"), "name it with --people"),
        ):
            done = run("export-table", *words, cwd=here)
            assert (done.returncode, said in done.stderr) == (2, True)


def add(folder: Path, row: dict[str, str]) -> None:
    pq.write_table(pa.Table.from_pylist([row]), folder / "more.parquet")


@pytest.mark.slow
def test_workers_write_the_same_and_one_that_is_killed_is_made_up_for(tmp_path: Path) -> None:
    from dask import distributed

    community = Community.demo()
    write_parts(community, tmp_path / "people", Random(2))
    with distributed.LocalCluster(  # type: ignore[no-untyped-call]
        n_workers=2, threads_per_worker=1, dashboard_address=None, silence_logs=50
    ) as cluster:
        killed: list[int] = []

        def told(done: int, _: int) -> None:
            if done == 2 and not killed:
                worker = next(iter(cluster.workers.values()))
                killed.append(worker.pid)
                os.kill(worker.pid, signal.SIGKILL)

        rows, count = community.export_people(
            tmp_path / "people", tmp_path / "out", members=True, cluster=cluster.scheduler_address, told=told
        )
    assert (count, len(killed)) == (60, 1)
    assert rights(tmp_path / "out", members=True) == as_one(community, ())
    assert rows == len(as_one(community, ()))


def test_a_worker_with_another_version_says_so(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    write_parts(Community.demo(), tmp_path / "people", Random(3))
    monkeypatch.setattr("ask_above.workspace.spreading.loaded", lambda _: None)
    from ask_above.workspace import spreading

    spreading._compiled.cache_clear()
    with pytest.raises(QuestionError, match="another version"):
        Community.demo().export_people(tmp_path / "people", tmp_path / "out")
    spreading._compiled.cache_clear()


def test_files_without_rows_are_parts_without_members(tmp_path: Path) -> None:
    text = pa.schema([("key", pa.string()), ("name", pa.string())])
    for each in ("members", "assignments"):
        (tmp_path / "people" / each).mkdir(parents=True)
    with pq.ParquetWriter(tmp_path / "people/members/a.parquet", text):
        pass
    pq.write_table(pa.table({"name": ["Ann"], "key": ["ann"]}), tmp_path / "people/members/b.parquet")
    out = f"{tmp_path}/out/"
    done = run("export-table", out, "--people", str(tmp_path / "people"), "--members", cwd=DEMO)
    assert done.returncode == 0, done.stderr
    assert "of 1 member." in done.stdout
    assert {member for member, *_ in rights(tmp_path / "out", members=True)} == {"ann"}


@pytest.mark.parametrize(
    ("people", "given", "said"),
    [
        ({"name": ["Ann"]}, {"member": ["ann"]}, "'a.parquet' has no column 'key'."),
        ({"key": [1]}, {"member": ["ann"]}, "The column 'key' of 'a.parquet' holds int64; keys are text."),
        ({"key": ["ann"]}, {"rank": ["host"]}, "'assignments' has no column 'member'."),
        ({"key": ["ann"]}, {"member": [1], "rank": ["host"]}, "holds int64; keys are text."),
    ],
)
def test_a_data_set_without_keys_is_refused_in_words(tmp_path: Path, people: Any, given: Any, said: str) -> None:
    for name, rows in (("members", people), ("assignments", given)):
        (tmp_path / "people" / name).mkdir(parents=True)
        pq.write_table(pa.table(rows), tmp_path / "people" / name / "a.parquet")
    done = run("export-table", f"{tmp_path}/out/", "--people", str(tmp_path / "people"), cwd=DEMO)
    assert done.returncode == 2, done.stderr
    assert said in " ".join(done.stderr.split())
