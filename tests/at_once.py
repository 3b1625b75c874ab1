"""Many processes that change a community and look at it at once: used by tests and by the long runs."""

from __future__ import annotations

import os
import time
import traceback
from pathlib import Path

from ask_above import ChangedMeanwhileError, Community
from ask_above.change import CharterSet, EditError, MemberSet
from ask_above.decide.names import Names
from ask_above.workspace.storage import BusyError


def counted_changes(c: Community | Names) -> int:
    """The number that the charter and the register agree on; every change raises both by one."""
    said, noted = c.charter.title.rpartition(" ")[2], c.member("tove").note
    number = int(said) if said.isdigit() else 0
    if number != int(noted or 0):
        raise AssertionError(f"half a state: the charter says {number}, the register {noted or 0}")
    return number


def write(folder: Path, url: str | None, changes: int) -> None:
    made, end = 0, time.monotonic() + 300
    while made < changes and time.monotonic() < end:
        c = Community.open(folder, register=url)
        number = counted_changes(c) + 1
        try:
            plan = c.plan(CharterSet("title", f"River {number}"), MemberSet("tove", {"note": str(number)}))
            if counted_changes(plan.before) + 1 != number:
                continue  # somebody was faster between opening and planning
            plan.apply()
        except (ChangedMeanwhileError, BusyError, EditError):
            time.sleep(0.01 * (os.getpid() % 7))
            continue
        made += 1
    if made < changes:
        raise TimeoutError


def read(folder: Path, url: str | None, until: Path, found: Path) -> None:
    reads, last, wrong = 0, 0, []
    end = time.monotonic() + 300
    while not until.exists() and time.monotonic() < end:
        try:
            number = counted_changes(Community.open(folder, register=url))
        except Exception as error:  # noqa: BLE001 (whatever a reader meets is told)
            wrong.append(f"{type(error).__name__}: {error}")
            continue
        if number < last:
            wrong.append(f"back from {last} to {number}")
        reads, last = reads + 1, number
    found.write_text("\n".join([str(reads), *wrong]))


def _child(what: object, *given: object) -> int:
    pid = os.fork()
    if pid:
        return pid
    try:
        what(*given)  # type: ignore[operator]
    except BaseException:  # noqa: BLE001 (a child ends here)
        traceback.print_exc()
        os._exit(1)
    os._exit(0)


def readers_and_writers(
    folder: Path, url: str | None, *, writers: int, changes: int, readers: int
) -> tuple[list[str], int]:
    """Let so many write and read at once; returns what readers saw that was wrong, and how often they read."""
    until = folder.parent / f"{folder.name}-done"
    found = [folder.parent / f"{folder.name}-reader-{n}" for n in range(readers)]
    looking = [_child(read, folder, url, until, file) for file in found]
    writing = [_child(write, folder, url, changes) for _ in range(writers)]
    try:
        ended = [os.waitpid(pid, 0)[1] for pid in writing]
    finally:
        until.touch()
        seen = [os.waitpid(pid, 0)[1] for pid in looking]
    assert ended == [0] * writers
    assert seen == [0] * readers
    lines = [file.read_text().splitlines() for file in found]
    entries = Community.open(folder, register=url).home.store.entries()
    assert [each.number for each in entries] == list(range(1, writers * changes + 2))
    return [each for said in lines for each in said[1:]], sum(int(said[0]) for said in lines)
