"""Kill a process in the middle of its changes, and let many write at once: used by tests and by the long runs."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path
from random import Random

from ask_above import Community
from ask_above.change import MemberSet

HERE = Path(__file__).parent


def start(folder: Path, seed: int, count: int, url: str | None) -> subprocess.Popen[str]:
    command = [
        sys.executable,
        str(HERE / "random_changes.py"),
        str(folder),
        str(seed),
        str(count),
        *([url] if url else []),
    ]
    return subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def check_whole(folder: Path, url: str | None, said: int) -> int:
    """The state is whole: files, register and journal agree, and nothing that was said to be made is lost."""
    c = Community.open(folder, register=url)
    home = c.home
    loaded = home.store.load()
    assert not loaded.waits
    assert loaded.files["charter.yaml"] == (folder / "charter.yaml").read_bytes().decode()
    entries = home.store.entries()
    assert [each.number for each in entries][-1:] >= [said]
    assert loaded.version == len(entries)
    again = c.as_of(entries[-1].number)
    assert not again.impact(c).shifts
    first = c.as_of(1)
    assert len(first.register.members) == 60
    return len(entries)


def kill_at_random(folder: Path, times: int, seed: int, url: str | None = None) -> int:
    """Let a process make changes and kill it, so many times; returns how many changes stand."""
    rng, made = Random(seed), 0
    for n in range(times):
        with start(folder, seed + n, 10_000, url) as process:
            assert process.stdout is not None
            said = 0
            for _ in range(rng.randint(1, 3)):
                line = process.stdout.readline()
                said = int(line) if line.strip() else said
            time.sleep(rng.random() * 0.15)
            process.kill()
            rest = process.stdout.read().split()
            said = int(rest[-1]) if rest and rest[-1].isdigit() else said
        made = check_whole(folder, url, said)
    return made


def write_at_once(folder: Path, processes: int, count: int, seed: int, url: str | None = None) -> int:
    """Let many processes make so many changes each; all of them are recorded."""
    Community.open(folder, register=url).plan(MemberSet("tove", {"note": "first"})).apply()
    running = [start(folder, seed + n, count, url) for n in range(processes)]
    numbers: list[int] = []
    for process in running:
        out, err = process.communicate()
        assert process.returncode == 0, err
        numbers += [int(line) for line in out.split()]
    assert len(set(numbers)) == processes * count
    entries = Community.open(folder, register=url).home.store.entries()
    assert {each.number for each in entries if each.kind == "change"} >= set(numbers)
    return check_whole(folder, url, max(numbers))
