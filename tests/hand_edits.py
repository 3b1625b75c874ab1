"""Random commands and random edits by hand, one after another: the folder answers as its files alone.

Run: python tests/hand_edits.py SEED COUNT
"""

from __future__ import annotations

import re
import sys
import tempfile
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from random import Random
from typing import Any

from ask_above import AskAboveError, Community, FaultyFilesError
from ask_above.change import CharterSet, MemberAdd
from ask_above.charter.catalogue import content
from ask_above.workspace.auditing import states_of
from ask_above.workspace.home import Home
from generated import generate
from random_changes import random_edit

FILES = ("charter.yaml", "extra.yaml", "members.csv", "assignments.csv")
_ADD_ON = """add-on: extra
title: More
capabilities:
  More:
    extra.one: {about: Do one thing, kinds: [board]}
    extra.two: Do another thing
"""


class Folder:
    """A folder, and every text that its files have held."""

    def __init__(self, folder: Path, rng: Random) -> None:
        self.folder, self.rng = folder, rng
        texts = generate(rng).texts()
        texts["charter.yaml"] += "add-ons: [extra.yaml]\n"
        for name, text in {**texts, "extra.yaml": _ADD_ON}.items():
            (folder / name).write_text(text, encoding="utf-8")
        self.before: dict[str, list[str]] = {name: [self.text(name)] for name in FILES}
        self.states: dict[int, object] = {}
        self._last = self._state(Community.open(folder))

    def text(self, name: str) -> str:
        file = self.folder / name
        return file.read_bytes().decode("utf-8") if file.exists() else ""

    def texts(self) -> dict[str, str]:
        return {name: self.text(name) for name in FILES if (self.folder / name).exists()}

    def keep(self) -> None:
        """Remember what the files hold, and what the community was after each entry of the journal."""
        for name in FILES:
            if self.text(name) not in ("", self.before[name][-1]):
                self.before[name].append(self.text(name))
        c = Community.open(self.folder)
        now = self._state(c)
        for entry in c.journal()[len(self.states) :]:
            # an edit by hand is recorded with the change after it, and was there before
            self.states[entry.number] = now if entry.kind == "change" else self._last
        self._last = now

    @staticmethod
    def _state(c: Any) -> object:
        return says(c), rows(c)

    def check_states(self) -> None:
        """Every state gone by is read as it was, all of them for an audit too, and each change may be tried to undo."""
        c = Community.open(self.folder)
        for number, state in self.states.items():
            assert self._state(c.as_of(number)) == state, number
            with suppress(AskAboveError):
                c.undo(number)
        audited: dict[int, object] = {}
        for state in states_of(c.storage).states if self.states else ():
            audited.setdefault(state.number, self._state(state.names))
        assert audited == self.states

    # -- one step

    def command(self) -> None:
        """Make some change by command, of any kind; it may be refused."""
        try:
            c = Community.open(self.folder)
            plan = c.plan(*(random_edit(self.rng, c) for _ in range(self.rng.choice([1, 1, 2]))), why="a try")
            if not plan.is_empty:
                plan.apply(force=True)
        except AskAboveError:
            return

    def add_on(self) -> None:
        """Let the charter no longer name its add-on, or again, by hand or by command."""
        named, text = "add-ons: [extra.yaml]\n", self.text("charter.yaml")
        if self.rng.random() < 0.5:
            edited = text.replace(named, "") if named in text else f"{text}{named}"
            (self.folder / "charter.yaml").write_bytes(edited.encode("utf-8"))
            return
        with suppress(AskAboveError):
            c = Community.open(self.folder)
            c.plan(CharterSet("add-ons", [] if c.charter.add_ons else ["extra.yaml"]), why="a try").apply(force=True)

    def by_hand(self) -> None:
        """Edit one file, or two, in an editor: a line, a block, or back to what it once held."""
        for name in self.rng.sample(FILES, self.rng.choice([1, 1, 2])):
            kinds: list[Callable[[str], str]] = [self._older, self._older, self._without, self._twice]
            kinds += [self._cell, self._swapped] if name.endswith("csv") else [self._word, self._title, self._moved]
            text = self.text(name)
            for kind in self.rng.sample(kinds, self.rng.choice([1, 2])):
                text = kind(self._of(name, kind, text))
            if text.strip():
                (self.folder / name).write_bytes(text.encode("utf-8"))

    def _of(self, name: str, kind: Callable[[str], str], text: str) -> str:
        return self.rng.choice(self.before[name][-4:]) if kind == self._older else text

    @staticmethod
    def _older(text: str) -> str:
        """Put back what a file once held."""
        return text

    def _without(self, text: str) -> str:
        lines = text.splitlines(keepends=True)
        if len(lines) > 3:
            del lines[self.rng.randrange(1, len(lines))]
        return "".join(lines)

    def _twice(self, text: str) -> str:
        """Write a line again, with another word in it."""
        lines = text.splitlines(keepends=True)
        n = self.rng.randrange(len(lines)) if lines else 0
        return "".join([*lines[: n + 1], *(re.sub(r"\w+", "other", line, count=1) for line in lines[n : n + 1])])

    def _cell(self, text: str) -> str:
        return re.sub(r"active", "locked", text, count=1) if self.rng.random() < 0.5 else text.replace("site", "", 1)

    def _swapped(self, text: str) -> str:
        lines = text.splitlines(keepends=True)
        rest = lines[1:]
        self.rng.shuffle(rest)
        return "".join([*lines[:1], *rest])

    def _word(self, text: str) -> str:
        """Take a word out of some list, or put one in."""
        lines = text.splitlines(keepends=True)
        words = [n for n, line in enumerate(lines) if re.match(r"\s*- [\w.*]+\s*$", line)]
        if words:
            n = self.rng.choice(words)
            lines[n : n + 1] = self.rng.choice([[], [lines[n], lines[self.rng.choice(words)]]])
        return "".join(lines)

    def _title(self, text: str) -> str:
        found = list(re.finditer(r"title: ?(.*)", text))
        if not found:
            return text
        at = self.rng.choice(found)
        return f"{text[: at.start()]}title: Number {self.rng.randrange(99)}{text[at.end() :]}"

    def _moved(self, text: str) -> str:
        """Move a block that begins with a dash to another such place of the same depth."""
        lines = text.splitlines(keepends=True)
        heads = [n for n, line in enumerate(lines) if re.match(r"\s*- key: ", line)]
        if len(heads) < 2:
            return text
        n, depth = (start := self.rng.choice(heads)), len(lines[start]) - len(lines[start].lstrip())
        end = next((m for m in range(n + 1, len(lines)) if len(lines[m]) - len(lines[m].lstrip()) <= depth), len(lines))
        block = lines[n:end]
        rest = lines[:n] + lines[end:]
        there = [m for m, line in enumerate(rest) if re.match(rf"\s{{{depth}}}- key: ", line)]
        at = self.rng.choice(there) if there else n
        return "".join([*rest[:at], *block, *rest[at:]])

    # -- the promise

    def check(self) -> str:
        """The folder answers as its files alone; returns faulty, waits, held or same."""
        alone, faults = None, None
        with suppress(FaultyFilesError):
            alone = Community.from_texts(self.texts())
        try:
            opened = Community.open(self.folder)
        except FaultyFilesError as error:
            faults = {fault.code for fault in error.faults}
        if faults is not None:
            assert alone is None or faults <= {"lost-most", "other-id"}, faults
            return "faulty" if alone is None else "waits"
        assert alone is not None, "the folder reads what cannot be read alone"
        alone = Community.from_texts(self.texts())  # reading may have written a file that was missing
        assert says(alone) == says(opened)
        if any("comes from" in each for each in opened.notices):
            return "held"  # what something outside holds is not taken from a file, and that is told
        assert rows(alone) == rows(opened)
        for who in [*alone.register.members, *(f"rank:{key}" for key in alone.charter.ranks)][:9]:
            for capability in alone.charter.catalogue.keys[:6]:
                for at in list(alone.charter.places)[:4]:
                    assert bool(alone.may(who, capability, at=at)) == bool(opened.may(who, capability, at=at))
        return "same"


def says(c: Community) -> list[object]:
    """What a charter says, wherever it is written."""
    catalogue = c.charter.catalogue
    rest = c.charter._replace(catalogue=None)  # type: ignore[arg-type]
    return [*map(content, (catalogue.capabilities, catalogue.bundles, catalogue.nobody, rest))]


def rows(c: Community) -> tuple[list[str], list[str]]:
    """Who is in a register, and who has which rank where and when."""
    fields = ("key", "name", "email", "kind", "status", "joined", "groups", "note")
    people = [str([getattr(member, field) for field in fields]) for member in c.register.members.values()]
    return sorted(people), sorted(str(given[:6]) for given in c.register.assignments)


def play(folder: Path, seed: int, steps: int = 14) -> list[str]:
    """Play one sequence of commands and edits by hand; returns what each check found."""
    rng = Random(seed)
    at = Folder(folder, rng)
    found = []
    for _ in range(steps):
        rng.choice([at.command, at.command, at.by_hand, at.by_hand, at.add_on])()
        found.append(at.check())
        if found[-1] not in ("same", "held"):  # somebody mends it: what the folder held last
            for name in FILES:
                (folder / name).write_bytes(at.before[name][-1].encode("utf-8"))
            try:
                Community.open(folder)
            except FaultyFilesError:
                break
        at.keep()
    else:
        at.check_states()
    return found


def play_two(base: Path, url: str, seed: int, steps: int = 14) -> dict[str, int]:
    """Play commands and edits of the charter in two folders of one database; the newest state answers in both.

    An edit counts where it was made on the newest state, else it waits, and stays where it is. Returns how often.
    """
    rng = Random(seed)
    folders = []
    for name in ("one", "other"):
        (base / name).mkdir()
        folders.append(Folder(base / name, Random(seed)))
    first = MemberAdd("first-of-all", {"name": "First"})
    Community.open(folders[0].folder, register=url).plan(first, why="begin").apply(force=True)
    newest = folders[0].text("charter.yaml")
    Community.open(folders[1].folder, register=url)
    written = [newest, newest]  # what was last written into each by a command
    found = {"counts": 0, "waits": 0, "faulty": 0, "command": 0}
    for _ in range(steps):
        n = rng.randrange(2)
        mine = folders[n]
        if rng.random() < 0.5:
            try:
                c = Community.open(mine.folder, register=url)
                plan = c.plan(random_edit(rng, c), why="a try")
                if not plan.is_empty:
                    plan.apply(force=True)
                    found["command"] += 1
                    newest = c.home.store.load().files["charter.yaml"]
            except AskAboveError:
                pass
        else:
            before = mine.text("charter.yaml")
            edited = rng.choice([mine._title, mine._moved, mine._word])(before)
            if edited == before:
                continue
            mine.folder.joinpath("charter.yaml").write_bytes(edited.encode())
            kind = _after_edit(mine, url, edited, newest, on_newest=written[n] == newest)
            found[kind] += 1
            newest = edited if kind == "counts" else newest
            if kind == "faulty":
                mine.folder.joinpath("charter.yaml").write_bytes(before.encode())
        written[n] = newest if mine.text("charter.yaml") == newest else written[n]
        if rng.random() < 0.7:  # else the other is behind for a while
            _answers_as(folders, url, newest)
            written = [newest if at.text("charter.yaml") == newest else written[m] for m, at in enumerate(folders)]
        if rng.random() < 0.2:
            for at in folders:
                at_home(at, url).drop_edits()
            written = [newest, newest]
    return found


def at_home(at: Folder, url: str) -> Home:
    return Home(at.folder, "charter.yaml", url)


def _after_edit(at: Folder, url: str, edited: str, newest: str, *, on_newest: bool) -> str:
    """Open a folder after an edit by hand; returns what became of it."""
    try:
        c = Community.open(at.folder, register=url)
    except FaultyFilesError:
        return "faulty"
    held = at.text("charter.yaml") == edited != newest and c.home.store.load().files["charter.yaml"] == newest
    if not on_newest and edited != newest:
        assert held, "an edit of an older state was taken"
        assert any("journal --take" in each for each in c.notices)
        return "waits"
    assert c.home.store.load().files["charter.yaml"] == edited
    return "counts"


def _answers_as(folders: list[Folder], url: str, newest: str) -> None:
    """The newest state answers in both folders."""
    opened = [Community.open(at.folder, register=url) for at in folders]
    texts = {"charter.yaml": newest, "extra.yaml": _ADD_ON}
    members = "key\n" + "".join(f"{key}\n" for key in opened[0].register.members)
    alone = Community.from_texts({**texts, "members.csv": members})
    for c in opened:
        assert says(c) == says(alone)
        assert rows(c) == rows(opened[0])


def main() -> None:
    """Play many sequences, and say what was found."""
    seed, count = int(sys.argv[1]), int(sys.argv[2])
    found: dict[str, int] = {}
    for n in range(seed, seed + count):
        with tempfile.TemporaryDirectory() as folder:
            try:
                checks = play(Path(folder), n)
            except Exception:
                print(f"seed {n}", flush=True)  # noqa: T201
                raise
        for each in checks:
            found[each] = found.get(each, 0) + 1
    print(count, "sequences", found)  # noqa: T201


if __name__ == "__main__":
    main()
