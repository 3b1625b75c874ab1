"""Find a loop in what points at what, to show the whole of it (rules 2.2, 2.7, 3.2, 1.5)."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from typing import TypeVar

T = TypeVar("T", bound=Hashable)


def loops(edges: Mapping[T, Sequence[T]]) -> list[list[T]]:
    """Return one loop for each knot of things that point back at themselves, each starting and ending alike.

    >>> loops({"a": ["b"], "b": ["c"], "c": ["a"], "d": ["a"]})
    [['a', 'b', 'c', 'a']]
    """
    state: dict[T, int] = {}
    closed: list[list[T]] = []
    for root in edges:
        if root in state:
            continue
        trail: list[T] = []
        # the trail is kept by hand: what an administrator wrote may be deeper than Python recurses
        stack = [(root, iter(edges[root]))]
        state[root] = 1
        trail.append(root)
        while stack:
            node, following = stack[-1]
            for other in following:
                # 1 is on the trail, 2 is done: what is met on the trail closes a loop, which is the end of the trail
                # from there on
                if state.get(other) == 1:
                    closed.append([*trail[trail.index(other) :], other])
                elif other not in state and other in edges:
                    state[other] = 1
                    trail.append(other)
                    stack.append((other, iter(edges[other])))
                    break
            else:
                state[node] = 2
                trail.pop()
                stack.pop()
    return closed
