"""Whatever stops a change, at whatever step: the community is as before it or as after it, all of it, and goes on."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from ask_above import AskAboveError, Community
from ask_above.change import Assign, Grant, MemberSet
from at_once import counted_changes, readers_and_writers
from conftest import DEMO
from databases import fresh_database
from dying import WORKS, Maker, Work, is_whole, outcomes, stopped

pytestmark = pytest.mark.slow

SPOTS = (0.8, 0.93)
"""At which parts of all steps: the last are those at which files are put in their places."""


@pytest.mark.parametrize("by_death", [False, True], ids=["a step fails", "the process dies"])
@pytest.mark.parametrize("work", WORKS, ids=lambda work: work.name)
@pytest.mark.parametrize("database", ["sqlite", "postgresql"])
def test_nothing_is_half_done_and_nothing_is_lost(
    database: str, work: Work, *, by_death: bool, tmp_path: Path, request: pytest.FixtureRequest
) -> None:
    server = request.getfixturevalue("postgresql") if database == "postgresql" else None
    maker = Maker(tmp_path / database, server)
    before, after, size = outcomes(maker, work)
    for part in SPOTS if by_death or server is None else SPOTS[-1:]:
        site, made = stopped(maker, work, max(1, round(size * part)), by_death=by_death)
        is_whole(site, work, before, after, made=made)


def test_readers_see_whole_states_and_no_writer_loses_what_another_wrote(
    request: pytest.FixtureRequest, tmp_path: Path
) -> None:
    for database in ("sqlite", "postgresql"):
        folder = tmp_path / database
        import shutil

        shutil.copytree(DEMO, folder)
        url = fresh_database(request.getfixturevalue("postgresql"), "atonce") if database == "postgresql" else None
        halves, reads = readers_and_writers(folder, url, writers=3, changes=4, readers=2)
        assert halves == []
        assert reads > 5
        assert counted_changes(Community.open(folder, register=url)) == 12


@contextmanager
def small_disk(folder: Path, size: int) -> Iterator[None]:
    folder.mkdir(exist_ok=True)
    done = subprocess.run(["/usr/bin/mount", "-t", "tmpfs", "-o", f"size={size}k", "none", str(folder)], check=False)
    if done.returncode:
        pytest.skip("no file system can be mounted here")
    try:
        yield
    finally:
        subprocess.run(["/usr/bin/umount", "-l", str(folder)], check=True)


@pytest.mark.skipif(os.geteuid() != 0, reason="only root may mount a small file system")
@pytest.mark.parametrize("later", [False, True], ids=["the first change", "a later change"])
def test_a_disk_that_is_too_small_leaves_what_was(tmp_path: Path, *, later: bool) -> None:
    made = []
    for n, size in enumerate(range(48, 720, 96) if not later else [1_600] * 7):
        folder = tmp_path / f"disk-{n}"
        with small_disk(folder, size), suppress(OSError):
            for file in DEMO.glob("*.[cy]*[lv]"):  # the charter and the register; a log of the year would fill it
                (folder / file.name).write_bytes(file.read_bytes())
            if later:
                Community.open(folder).plan(MemberSet("tove", {"note": "first"})).apply()
                (folder / "filler").write_bytes(b"x" * max(0, _free(folder) - n * 60_000))
            before = Community.open(folder)
            was = [each.read_bytes() for each in sorted(folder.glob("*.[cy]*"))]
            plan = before.plan(Grant("host", ["post.edit.all"]), Assign("tove", "host", "commons"))
            done = False
            with suppress(OSError, AskAboveError):
                plan.apply(letters=[(f"letter-{i}.eml", "x" * 20_000) for i in range(3)])
                done = True
            made.append(done)
            now = Community.open(folder)
            assert bool(now.may("tove", "post.edit.all", at="notices")) is done
            assert len(now.register.members) == 60
            if not done:
                assert [each.read_bytes() for each in sorted(folder.glob("*.[cy]*"))] == was
                assert (folder / "register.db").exists() is later
                assert not list(folder.glob("outbox/*.eml"))
    assert True in made
    assert False in made


def _free(folder: Path) -> int:
    found = os.statvfs(folder)
    return found.f_bavail * found.f_bsize
