"""Python's garbage collector, kept out of the way while very many objects are made that stay."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def without_collecting() -> Iterator[None]:
    """Look for no garbage meanwhile: each look goes over all that was made, and finds none of it to be garbage.

    For a context, or for a function to be decorated with; what was turned off before stays so.
    """
    was_on = gc.isenabled()
    if was_on:  # else another thread that is at the same may have turned it on again in between, and nobody would
        gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
