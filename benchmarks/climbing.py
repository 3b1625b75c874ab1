"""How far all ranks can climb, in passes of the whole table, and how that grows.

Run: python benchmarks/climbing.py
"""

from __future__ import annotations

import math
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ask_above import Community
from ask_above.charter import changes
from ask_above.charter.rules import Act
from ask_above.escalation.climb import climb
from ask_above.escalation.ground import Ground
from standard import Size, charter, register

LIMIT = 20


def standard(size: Size) -> Community:
    """The standard community in another size."""
    return Community(charter(size), register(size))


def prepared(size: Size) -> Community:
    """The standard community with ways up: every tenth rank is open, and whoever gives ranks may hand on anything."""
    c = standard(size)
    rules = c.charter
    for n, rank in enumerate(list(rules.ranks.values())):
        if n % 10 == 3 and not rank.automatic and not rank.entry and not rank.unbounded:
            rules = changes.with_rank(rules, rank._replace(open=True))
    for act in (Act.ASSIGN, Act.MANAGE):
        rules = changes.with_act(rules, rules.rules.act(act)._replace(hand_on="any", oneself=act is Act.ASSIGN))
    return Community(rules, c.register)


def seconds(c: Community, *, accomplice: bool) -> float:
    """Return the seconds for all ranks, from nothing."""
    decider = Community(c.charter, c.register).decider
    start = time.perf_counter()
    for rank in decider.compiled.ranks:
        climb(decider.compiled.keep(Ground), decider.reckoner, rank, accomplice=accomplice)
    return time.perf_counter() - start


def main() -> None:
    """Print the ratio beside its limit, and the exponents."""
    size = Size(ranks=200, places=500, capabilities=150, overrides=2_500)
    plain, open_ = standard(size), prepared(size)
    plain.table()
    passes = []
    for _ in range(5):
        start = time.perf_counter()
        plain.table()
        passes.append(time.perf_counter() - start)
    base = min(passes)
    for said, c in (("as it is", plain), ("with every way up open", open_)):
        for accomplice in (False, True):
            took = seconds(c, accomplice=accomplice)
            with_whom = ", with an accomplice" if accomplice else ""
            print(
                f"climbing, 200 ranks x 500 places x 150 capabilities, {said}{with_whom}: {took:.2f} s,"
                f" {took / base:.1f} passes of the table (limit {LIMIT})"
            )
    first = seconds(prepared(Size(ranks=100, places=250, capabilities=75, overrides=1_250)), accomplice=False)
    for what in ("ranks", "places", "capabilities"):
        grown = {"ranks": 100, "places": 250, "capabilities": 75, "overrides": 1_250}
        grown[what] *= 2
        took = seconds(prepared(Size(**grown)), accomplice=False)
        print(f"  twice the {what}: {took / first:.2f} times, exponent {math.log2(took / first):.2f}")


if __name__ == "__main__":
    main()
