"""Take a change of a text back while later ones stay: line by line, and only where they do not meet."""

from __future__ import annotations

from difflib import SequenceMatcher
from typing import NamedTuple


class Hunk(NamedTuple):
    """Lines ``start`` to ``end`` of a text that are replaced by others."""

    start: int
    end: int
    lines: tuple[str, ...]

    def meets(self, other: Hunk) -> bool:
        """Tell whether two hunks concern the same lines, or put something into the same spot."""
        if self.start == self.end == other.start == other.end:
            return True
        return self.start < other.end and other.start < self.end


def hunks(old: str, new: str) -> list[Hunk]:
    """Return how one text becomes another."""
    before, after = old.splitlines(keepends=True), new.splitlines(keepends=True)
    codes = SequenceMatcher(None, before, after, autojunk=False).get_opcodes()
    return [Hunk(i, j, tuple(after[k:m])) for tag, i, j, k, m in codes if tag != "equal"]


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
