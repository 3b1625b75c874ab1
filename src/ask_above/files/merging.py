"""Two texts line by line: where they differ, how much, and both changes of one text put together."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

_MOST = 1_000_000_000
"""How many pairs of lines are compared at most; beyond that all between the first and the last difference is one."""


class Hunk(NamedTuple):
    """Lines ``start`` to ``end`` of a text that are replaced by others."""

    start: int
    end: int
    lines: tuple[str, ...]

    def meets(self, other: Hunk) -> bool:
        """Whether two hunks concern the same lines, or put something into the same spot."""
        if self.start == self.end == other.start == other.end:
            return True
        return self.start < other.end and other.start < self.end


def hunks(old: str, new: str) -> list[Hunk]:
    """Return how one text becomes another, in time that grows little with the texts where they are much alike."""
    from rapidfuzz.distance import Indel

    before, after = old.splitlines(keepends=True), new.splitlines(keepends=True)
    first = next((n for n, (a, b) in enumerate(zip(before, after, strict=False)) if a != b), None)
    if first is None:
        first = min(len(before), len(after))
    last = 0
    while last < min(len(before), len(after)) - first and before[-1 - last] == after[-1 - last]:
        last += 1
    left, right = before[first : len(before) - last], after[first : len(after) - last]
    if len(left) * len(right) > _MOST:
        return [Hunk(first, first + len(left), tuple(right))]
    return [
        Hunk(first + code.src_start, first + code.src_end, tuple(right[code.dest_start : code.dest_end]))
        for code in _joined(Indel.opcodes(left, right))
    ]


class _Code(NamedTuple):
    src_start: int
    src_end: int
    dest_start: int
    dest_end: int


def _joined(codes: object) -> Iterator[_Code]:
    """Yield what differs; what is taken out and put in at one spot is one."""
    open_: _Code | None = None
    for code in codes:  # type: ignore[attr-defined]
        if code.tag == "equal":
            if open_ is not None:
                yield open_
            open_ = None
        elif open_ is None:
            open_ = _Code(code.src_start, code.src_end, code.dest_start, code.dest_end)
        else:
            open_ = _Code(open_.src_start, code.src_end, open_.dest_start, code.dest_end)
    if open_ is not None:
        yield open_


def differing(name: str, old: str, new: str) -> Iterator[tuple[str, int, str, str]]:
    """Yield the pieces in which two texts differ, line by line; each counts on those before it."""
    lines = old.splitlines(keepends=True)
    starts, at = [], 0
    for line in lines:
        starts.append(at)
        at += len(line)
    starts.append(at)
    shift = 0
    for hunk in hunks(old, new):
        removed, added = "".join(lines[hunk.start : hunk.end]), "".join(hunk.lines)
        yield name, starts[hunk.start] + shift, removed, added
        shift += len(added) - len(removed)


def merged(base: str, one: str, other: str) -> str | None:
    """Return the text with both changes of ``base``; ``None`` where they meet. The same change made twice is one.

    >>> merged("a\\nb\\nc\\n", "a\\nB\\nc\\n", "a\\nb\\nc\\nd\\n")
    'a\\nB\\nc\\nd\\n'
    """
    first, second = hunks(base, one), hunks(base, other)
    rest = [hunk for hunk in second if hunk not in first]
    if any(hunk.meets(each) for hunk in rest for each in first):
        return None
    lines = base.splitlines(keepends=True)
    for hunk in sorted((*first, *rest), key=lambda each: (each.start, each.end), reverse=True):
        lines[hunk.start : hunk.end] = hunk.lines
    return "".join(lines)
