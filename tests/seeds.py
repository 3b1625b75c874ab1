"""How often tests of random things try: few times here, more by night with ASK_ABOVE_SEEDS=20."""

from __future__ import annotations

import os
from typing import Any

import pytest

TIMES = int(os.environ.get("ASK_ABOVE_SEEDS", "1"))
_QUICK = 4


def seeds(count: int) -> list[Any]:
    """Return the seeds to try, as many times more as the environment says; the fast pass tries a quarter of them."""
    quick = max(1, count // _QUICK)
    return [n if n < quick else pytest.param(n, marks=pytest.mark.slow) for n in range(count * TIMES)]
