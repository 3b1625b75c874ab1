"""What the administrator's questions cost on the standard community, in passes of the whole table.

Run: python benchmarks/whole_platform.py, which calls this.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ask_above import Community
from ask_above.charter import changes

Beside = Callable[..., tuple[float, float, float]]
Report = Callable[..., None]


def administrators(c: Community, beside: Beside, report: Report) -> None:
    """Impact, cover and advice, each over one pass of the whole table."""
    names = c.charter.catalogue.keys[:2]
    place = c.after(charter=changes.saying(c.charter, "place-9", "member", "deny", names))
    rank = c.after(charter=changes.granting(c.charter, "rank-50", names))
    cases: tuple[tuple[str, Callable[[], Any], float], ...] = (
        ("impact of an override, passes of the table", lambda: c.impact(place), 3),
        ("impact of a rank that carries more", lambda: c.impact(rank), 3),
        ("cover of all duties of risk", c.cover, 2),
        ("advice", c.advice, 10),
    )
    for what, work, limit in cases:
        took, base, ratio = beside(work, c.table, 5)
        report(what, f"{took:.2f} s, the table {base:.2f} s", ratio, limit)
