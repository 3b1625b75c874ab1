"""How often tests of random things try: few times here, more by night with ASK_ABOVE_SEEDS=20."""

from __future__ import annotations

import os

TIMES = int(os.environ.get("ASK_ABOVE_SEEDS", "1"))


def seeds(count: int) -> range:
    """Return the seeds to try, as many times more as the environment says."""
    return range(count * TIMES)
