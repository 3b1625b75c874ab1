"""The states that a community went through, each from a moment on."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from ask_above.charter.moments import Instant
from ask_above.decide.names import Names
from ask_above.people.register import edges_of

if TYPE_CHECKING:
    from numpy.typing import NDArray

_MOST = 50_000_000
"""For more members by edges than these every edge counts for everybody, which is right too and only finer."""


class StateAt(NamedTuple):
    """A community as a change left it; ``number`` is the change's, 0 before the first, ``since`` its moment.

    ``what`` says what the change was. ``names`` answer for the community.
    """

    number: int
    since: Instant
    what: str
    names: Names


class States:
    """Every state, oldest first; whoever asks about a moment before the oldest is answered by that one."""

    def __init__(self, states: Sequence[StateAt]) -> None:
        self.states = tuple(states)
        self._since = [state.since for state in states]

    @property
    def now(self) -> StateAt:
        """The state of now."""
        return self.states[-1]

    @property
    def known_since(self) -> Instant | None:
        """From when on the journal knows what was; ``None`` where there is none, and all is judged by now."""
        return self.states[0].since if len(self.states) > 1 or self.states[0].number else None

    def position(self, at: Instant) -> int:
        """Return which of the states was there at a moment."""
        return max(0, bisect_right(self._since, at) - 1)

    def stretches(self) -> Stretches:
        """Return every moment at which an answer may turn, and whose answers turn at which."""
        own: dict[str, set[int]] = {}
        for state in self.states:
            for assignment in state.names.register.assignments:
                ends = edges_of([assignment])
                if ends:
                    own.setdefault(assignment.member, set()).update(ends)
        edges = sorted({*self._since, *(edge for each in own.values() for edge in each)})
        number = {edge: n for n, edge in enumerate(edges, 1)}
        mine = {member: np.array(sorted(number[edge] for edge in each)) for member, each in own.items()}
        return Stretches(np.array(edges, dtype=np.int64), np.array([number[edge] for edge in self._since]), mine)


class Stretches(NamedTuple):
    """The moments at which an answer may turn, as numbers.

    ``edges`` are microseconds since 1970, in order; a stretch is the number of edges that are not later. ``everybody``
    are the numbers of those where the community changed, ``own`` those of each member's periods.
    """

    edges: NDArray[np.int64]
    everybody: NDArray[np.int64]
    own: Mapping[str, NDArray[np.int64]]

    def of(
        self, when: NDArray[np.int64], members: NDArray[Any], codes: NDArray[np.int64], whole: NDArray[np.bool_]
    ) -> NDArray[np.int64]:
        """Return the stretch of each row: the last edge that concerns its member, or any at all where ``whole``.

        ``codes`` are the rows' members as places in ``members``.
        """
        stretch = np.searchsorted(self.edges, when, side="right")
        if len(members) * (len(self.edges) + 1) > _MOST:
            return stretch
        marks = np.zeros((len(members), len(self.edges) + 1), dtype=np.int64)
        marks[:, self.everybody] = self.everybody
        for row, member in enumerate(members):
            if member in self.own:
                marks[row, self.own[member]] = self.own[member]
        last = np.maximum.accumulate(marks, axis=1)
        return np.where(whole, stretch, last[codes, stretch])
