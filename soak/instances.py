"""Several services that share a PostgreSQL database alone, while several writers change it: how fresh is each answer?

Run: python soak/instances.py [INSTANCES] [WRITERS] [CHANGES] [MEMBERS]; by default 4, 8, 200 and 20,000. Every answer
is held against the state whose number it carries, and that against what had been made a second before it was asked.
"""

from __future__ import annotations

import multiprocessing
import shutil
import sys
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path
from statistics import median
from tempfile import TemporaryDirectory
from threading import Thread
from typing import Any, NamedTuple

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

import httpx

from ask_above import Community
from ask_above.change import Assign, MemberSet, Unassign
from asking import server as service
from conftest import DEMO
from databases import fresh_database, server

PLACE, ACTION, RANK = "upper-gauges", "reading.post", "surveyor"
FRESH = 1.0


class Heard(NamedTuple):
    """An answer: when it was asked, about whom, from which state, and what it was."""

    asked: float
    member: str
    state: int
    allowed: bool


def write(folder: str, url: str, member: str, count: int, made: Any) -> None:
    """Give a member a rank and take it, again and again; tell when each change was made, and its number."""
    community = Community.open(folder, register=url, on_demand=True)
    for n in range(count):
        edit = Assign(member, RANK) if n % 2 == 0 else Unassign(member, RANK)
        while True:
            try:
                number = community.plan(edit).apply().number
            except RuntimeError:  # somebody else was faster
                continue
            break
        made.put((time.monotonic(), number, member, n % 2 == 0))


def ask(url: str, members: list[str], heard: list[Heard], stop: list[bool]) -> None:
    """Ask about the members in turn until told to stop."""
    with httpx.Client(base_url=url) as client:
        n = 0
        while not stop:
            member, n = members[n % len(members)], n + 1
            question = {
                "subject": {"type": "member", "id": member},
                "action": {"name": ACTION},
                "resource": {"type": "place", "id": PLACE},
            }
            start = time.monotonic()
            reply = client.post("/access/v1/evaluation", json=question)
            heard.append(Heard(start, member, int(reply.headers["x-ask-above-state"]), reply.json()["decision"]))
            time.sleep(0.01)


def wrong(heard: list[Heard], made: list[tuple[float, int, str, bool]], first: int) -> Iterator[tuple[str, float]]:
    """Yield what is wrong with answers: not what their state says, or of a state that was over for too long."""
    by_number = sorted(made, key=lambda each: each[1])
    for each in heard:
        holds = [change[3] for change in by_number if change[2] == each.member and change[1] <= each.state]
        if each.allowed is not (holds[-1] if holds else False):
            yield "not what its state says", each.asked
        done = max((change[1] for change in by_number if change[0] <= each.asked - FRESH), default=first)
        if each.state < done:
            yield "of a state that was over for more than a second", each.asked


def main() -> None:
    instances, writers, changes, size = [*map(int, sys.argv[1:5]), *(4, 8, 200, 20_000)[len(sys.argv) - 1 :]]
    with server() as postgres, TemporaryDirectory() as name, ExitStack() as stack:
        url, folder = fresh_database(postgres, "instances"), Path(name) / "river"
        shutil.copytree(DEMO, folder)
        with (folder / "members.csv").open("a", encoding="utf-8") as file:
            file.writelines(f"extra-{n},Extra {n},extra{n}@river.example,,active,,,\n" for n in range(size))
        first = Community.open(folder, register=url).plan(MemberSet("bram", {"note": "begin"})).apply().number
        urls = []
        for n in range(instances):
            here = Path(name) / f"machine-{n}"
            here.mkdir()
            urls.append(stack.enter_context(service("--register", url, "--quiet", cwd=here)))
        members, stop, heard = [f"extra-{n}" for n in range(writers)], list[bool](), list[Heard]()
        made: Any = multiprocessing.get_context("spawn").Queue()
        askers = [Thread(target=ask, args=(each, members, heard, stop)) for each in urls]
        for each in askers:
            each.start()
        start = time.monotonic()
        jobs = [
            multiprocessing.get_context("spawn").Process(
                target=write, args=(str(folder), url, member, changes // writers, made)
            )
            for member in members
        ]
        for job in jobs:
            job.start()
        told = [made.get() for _ in range(changes // writers * writers)]
        for job in jobs:
            job.join()
        time.sleep(2)
        stop.append(True)
        for each in askers:
            each.join()
        lags = [
            min((h.asked for h in heard if h.state >= number), default=time.monotonic()) - at
            for at, number, _, _ in told
        ]
        found = Counter(what for what, _ in wrong(heard, told, first))
        print(
            f"{instances} instances, {writers} writers, {len(told)} changes of {size + 66} members in "
            f"{max(at for at, *_ in told) - start:.0f} s: {len(heard)} answers from {len({h.state for h in heard})} "
            f"states, wrong: {dict(found) or 'none'}; a change was first answered from after {median(lags):.2f} s, "
            f"at most {max(lags):.2f}"
        )


if __name__ == "__main__":
    main()
