"""What questions cost on the standard community: one asked again in bare look-ups, an administrator's in passes of
the whole table.

Run: python benchmarks/whole_platform.py, which calls this; python benchmarks/questions.py for those asked again alone.
"""

from __future__ import annotations

import sys
import tracemalloc
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from typing import Any
from zoneinfo import ZoneInfo

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ask_above import Community
from ask_above.ask.anywhere import able_in
from ask_above.charter import changes

Beside = Callable[..., tuple[float, float, float]]
Report = Callable[..., None]


Asked = tuple[str, str, str]
_UTC = datetime(2026, 6, 1, 12, tzinfo=UTC)
_ELSEWHERE = datetime(2026, 6, 1, 12, tzinfo=ZoneInfo("America/New_York"))


def questions(c: Community, count: int) -> list[Asked]:
    """So many different questions, at random: who, what, where."""
    rng = Random(5)
    members, places, keys = list(c.register.members), list(c.charter.places), c.charter.catalogue.keys
    return [(rng.choice(members), rng.choice(keys), rng.choice(places)) for _ in range(count)]


def every_click(c: Community, asked: Sequence[Asked], beside: Beside, report: Report) -> None:
    """What a question costs that was asked before: of a few and of many, with an author, at a moment."""
    few, many = [*asked[:300]] * (len(asked) // 300), asked
    for what, some, how, limit in (
        ("asked again, 300 again and again", few, {}, 6),
        (f"asked again, {len(many):,} different ones", many, {}, 4),
        ("the same with an author", many, {"author": True}, 5),
        ("with a moment in UTC", many, {"when": _UTC}, 8),
        ("with a moment in another zone", many, {"when": _ELSEWHERE}, 15),
    ):
        took, base, ratio = beside(asking(c, some, **how), looking_up(c, some))
        figures = f"{took / len(some) * 1e9:.0f} ns, a bare look-up {base / len(some) * 1e9:.0f} ns"
        report(what, figures, ratio, limit)
    before = measured(c, many)
    report("bytes for a kept answer", f"{before / 1e6:.0f} MB", before / len(many), 500)


def looking_up(c: Community, asked: Sequence[Asked]) -> Callable[[], None]:
    """The base: whether a name is in the set of names that belongs to a member."""
    rng = Random(6)
    names = {m: frozenset(rng.sample(c.charter.catalogue.keys, 30)) for m, _, _ in asked}

    def bare() -> None:
        for m, k, _ in asked:
            k in names[m]  # noqa: B015 (the look-up alone)

    return bare


def asking(
    c: Community, asked: Sequence[Asked], *, author: bool = False, when: datetime | None = None
) -> Callable[[], None]:
    """The questions, asked one by one as a site asks them."""
    may = c.may

    def plain() -> None:
        for m, k, p in asked:
            may(m, k, at=p)

    def with_author() -> None:
        for m, k, p in asked:
            may(m, k, at=p, author=m)

    def at_a_moment() -> None:
        for m, k, p in asked:
            may(m, k, at=p, when=when)

    return with_author if author else plain if when is None else at_a_moment


def measured(c: Community, asked: Sequence[Asked]) -> int:
    """How many bytes more are in use when these questions were answered, whose members were all asked about before."""
    fresh = c.after()
    for m, _, _ in asked:
        fresh.may(m, "place.see")
    tracemalloc.start()
    asking(fresh, asked)()
    used = tracemalloc.get_traced_memory()[0]
    tracemalloc.stop()
    return used


def administrators(c: Community, beside: Beside, report: Report) -> None:
    """Impact, cover and advice, each over one pass of the whole table."""
    names = c.charter.catalogue.keys[:2]
    place = c.after(charter=changes.saying(c.charter, "place-9", "member", "deny", names))
    rank = c.after(charter=changes.granting(c.charter, "rank-50", names))
    at, risky = c.names.moment(), [key for key, each in c.charter.catalogue.capabilities.items() if each.risk == "high"]
    cases: tuple[tuple[str, Callable[[], Any], float | None], ...] = (
        ("impact of an override, passes of the table", lambda: c.impact(place), 3),
        ("impact of a rank that grants more", lambda: c.impact(rank), 3),
        ("cover of all duties of risk", c.cover, 2),
        ("advice", c.advice, 10),
        ("who may assign a rank to a member", lambda: c.who("assign", "rank-50", to="m9"), None),
        ("who may use what is of high risk, and where", lambda: able_in(c.decider, risky, at), None),
    )
    for what, work, limit in cases:
        took, base, ratio = beside(work, c.table, 5)
        report(what, f"{took:.2f} s, the table {base:.2f} s", ratio, limit)


def main() -> None:
    """Those asked again alone, in half a minute."""
    from whole_platform import QUESTIONS, beside, report

    from standard import Size, charter, register

    c = Community(charter(Size()), register(Size()))
    every_click(c, questions(c, QUESTIONS), beside, report)


if __name__ == "__main__":
    main()
