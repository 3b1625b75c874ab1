"""A change that is stopped at one of its steps: the process dies there, or the step fails."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from itertools import count
from pathlib import Path
from typing import Any, NamedTuple

import sqlalchemy as sa

from ask_above import AskAboveError, Community
from ask_above.change import Assign, Grant, MemberSet, MemberStatus
from ask_above.change.importing import COLUMNS, Import
from ask_above.files.csv_rows import read_rows
from ask_above.show.letters import letters
from ask_above.workspace.undoing import undo
from conftest import DEMO
from databases import fresh_database

CALLS = ("fsync", "replace", "rename", "link", "unlink", "mkdir", "open")
_NUMBER = count()


@contextmanager
def steps(stop: int, how: Callable[[str], None]) -> Iterator[list[str]]:
    """Count every step that touches the disk or the database; at the one numbered ``stop`` call ``how``."""
    done: list[str] = []
    real = {name: getattr(os, name) for name in CALLS}

    def step(name: str) -> None:
        done.append(name)
        if len(done) == stop:
            how(name)

    def wrapped(name: str) -> Callable[..., Any]:
        def call(*given: Any, **words: Any) -> Any:
            writes = name != "open" or (len(given) > 1 and given[1] & (os.O_CREAT | os.O_WRONLY | os.O_RDWR))
            if writes:
                step(name)
            return real[name](*given, **words)

        return call

    def executed(_c: Any, _k: Any, statement: str, *_: Any) -> None:
        step(f"sql {statement.split(maxsplit=1)[0]}")

    def commits(_: Any) -> None:
        step("commit")

    for name in CALLS:
        setattr(os, name, wrapped(name))
    sa.event.listen(sa.Engine, "before_cursor_execute", executed)
    sa.event.listen(sa.Engine, "commit", commits)
    try:
        yield done
    finally:
        for name, function in real.items():
            setattr(os, name, function)
        sa.event.remove(sa.Engine, "before_cursor_execute", executed)
        sa.event.remove(sa.Engine, "commit", commits)


def die(_: str) -> None:
    os._exit(9)


def fail(name: str) -> None:
    if name.startswith(("sql", "commit")):
        raise sa.exc.OperationalError(name, None, Exception("database or disk is full"))
    raise OSError(28, "No space left on device")


class Work(NamedTuple):
    """A change that may be stopped: what is so before it, and how it is made."""

    name: str
    begun: bool
    make: Callable[[Community], Any]


def _both(c: Community) -> Any:
    plan = c.plan(Grant("host", ["kit.lend"]), Assign("tove", "host", "commons"), MemberStatus("rosa", "locked"))
    return plan.apply(force=True, letters=letters(plan))


def _import(c: Community) -> Any:
    text = "key,name,status\n" + "".join(f"m{n},Member {n},active\n" for n in range(50))
    return c.plan(Import(read_rows("more.csv", text.encode(), COLUMNS, ()))).apply()


def _by_hand(c: Community) -> Any:
    file = c.home.folder / "members.csv"
    if file.exists():  # with a register in PostgreSQL there is none
        file.write_bytes(file.read_bytes().replace(b"Dara Fenwick", b"Dara Fen"))
    charter = c.home.folder / "charter.yaml"
    charter.write_bytes(charter.read_bytes().replace(b"title: Notices", b"title: News"))
    return _both(Community.open(c.home.folder, register=c.home.register))


WORKS = (
    Work("the first change", begun=False, make=_both),
    Work("a later change", begun=True, make=_both),
    Work("undo", begun=True, make=lambda c: undo(c.home).apply(force=True)),
    Work("import", begun=True, make=_import),
    Work("after an edit by hand", begun=True, make=_by_hand),
)


class Site(NamedTuple):
    folder: Path
    url: str | None

    def open(self) -> Community:
        return Community.open(self.folder, register=self.url)


class Maker:
    """Makes a fresh folder, and a fresh database, in the state that a piece of work begins with."""

    def __init__(self, base: Path, server: str | None) -> None:
        self.base, self.server = base, server
        base.mkdir(parents=True, exist_ok=True)

    def fresh(self, *, begun: bool) -> Site:
        n = next(_NUMBER)
        folder = self.base / f"site-{n}"
        if not begun:
            shutil.copytree(DEMO, folder)
            return Site(folder, fresh_database(self.server, f"dies{os.getpid()}n{n}") if self.server else None)
        if self.server:
            shutil.copytree(DEMO, folder)
            site = Site(folder, fresh_database(self.server, f"dies{os.getpid()}n{n}"))
            self._begin(site)
            return site
        first = self.base / "begun"
        if not first.exists():
            shutil.copytree(DEMO, first)
            self._begin(Site(first, None))
        shutil.copytree(first, folder)
        return Site(folder, None)

    @staticmethod
    def _begin(site: Site) -> None:
        site.open().plan(MemberSet("tove", {"note": "first"}), Grant("host", ["gauge.see"])).apply()


def state(site: Site) -> tuple[Any, ...]:
    """What anybody can see of a community: files, register, letters, journal."""
    c = site.open()
    people = sorted(str(each._replace(where=None)) for each in c.register.members.values())  # type: ignore[arg-type]
    given = sorted(str(each[:6]) for each in c.register.assignments)
    outbox = site.folder / "outbox"
    sent = sorted(each.name.partition("-")[2] for each in outbox.glob("*.eml")) if outbox.is_dir() else []
    entries = c.home.store.entries() if c.home.location.holds_register() else []
    assert [each.number for each in entries] == list(range(1, len(entries) + 1))
    charter = (site.folder / "charter.yaml").read_text("utf-8")
    return charter, people, given, sent, [each.kind for each in entries]


def outcomes(maker: Maker, work: Work) -> tuple[tuple[Any, ...], tuple[Any, ...], int]:
    """The state before and after a piece of work, and how many steps it takes."""
    site = maker.fresh(begun=work.begun)
    before = state(site)
    c = site.open()
    with steps(0, die) as done:
        work.make(c)
    return before, state(site), len(done)


def stopped(maker: Maker, work: Work, at: int, *, by_death: bool) -> tuple[Site, bool]:
    """Let a piece of work be stopped at a step; returns the site, and whether it was said that the change is made."""
    site = maker.fresh(begun=work.begun)
    if not by_death:
        c = site.open()
        try:
            with steps(at, fail):
                work.make(c)
        except (AskAboveError, OSError):
            return site, False
        return site, True
    child = os.fork()
    if child == 0:
        try:
            c = site.open()
            with steps(at, die):
                work.make(c)
        except BaseException:  # noqa: BLE001 (a child ends here)
            os._exit(7)
        os._exit(0)
    _, status = os.waitpid(child, 0)
    code = os.waitstatus_to_exitcode(status)
    assert code in (0, 9), code
    return site, code == 0


def is_whole(site: Site, work: Work, before: Any, after: Any, *, made: bool) -> str:
    """The state is the one before or the one after, all of it, and the next change can be made."""
    found = state(site)
    wanted = [after] if made else [before, after]
    if work.make is _by_hand and not made:  # an edit by hand counts whether the change was made or not
        assert "title: News" in found[0] or "title: Notices" in found[0]
        # in a database of several folders whoever opens it records the edit
        assert found == after or (found[3] == before[3] and found[4] in (before[4], [*before[4], "hand"]))
    else:
        assert found in wanted, [a == b for a, b in zip(found, before, strict=True)]
    rest = [each.name for each in site.folder.iterdir() if each.name.endswith(".part")]
    site.open().plan(MemberSet("dara", {"note": f"next {len(rest)}"})).apply()
    assert not [each.name for each in site.folder.iterdir() if each.name.endswith(".part")]
    assert site.open().member("dara").note == f"next {len(rest)}"
    return "after" if found == after else "before"


__all__ = ["WORKS", "Maker", "is_whole", "outcomes", "stopped"]
