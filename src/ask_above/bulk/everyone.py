"""All members at once: their rows, the table of everyone everywhere, and how long each stays true."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from ask_above.bulk.places import CompiledPlaces
from ask_above.bulk.table import Crowd, Sweep, Table
from ask_above.charter.moments import Instant
from ask_above.decide.classes import ClassState

if TYPE_CHECKING:
    from ask_above.decide.decider import Decider

_FOREVER = 1 << 62
_SPARE = 1 << 24  # bytes to work in that a small table is not held to


class Everyone:
    """Makes tables of everyone everywhere, and keeps what does not change until somebody's period starts or ends."""

    def __init__(self, decider: Decider) -> None:
        self.decider = decider
        self._rows: tuple[Instant, Instant, Sweep, Crowd] | None = None
        self._table: tuple[Instant, Instant, Table] | None = None

    def after(self, decider: Decider) -> Everyone | None:
        """Return everyone after a change of what places say, by which nobody gains or loses all exceptions."""
        old = self.decider
        alike = decider.people.register is old.people.register
        if not alike or decider.compiled.exceptional != old.compiled.exceptional:
            return None
        other = Everyone(decider)
        if self._rows is not None:
            since, until, sweep, crowd = self._rows
            other._rows = (since, until, sweep.over(decider.compiled.keep(CompiledPlaces)), crowd)
        return other

    def table(self, now: Instant) -> Table:
        """Return a new table."""
        sweep, crowd = self.rows(now)
        compiled = self.decider.compiled
        words = np.empty((len(compiled.places), len(compiled.catalogue.keys), sweep.words), dtype=np.uint64)
        start = 0
        for part in sweep.portions(range(len(words)), len(words), max(_SPARE, words.nbytes // 4)):
            start += len(sweep.write(part, words[start:]))
        return Table(compiled, range(len(compiled.places)), crowd, words)

    def kept_table(self, now: Instant) -> Table:
        """Return a table that is kept for the next question."""
        known = self._table
        if known is None or not known[0] <= now < known[1]:
            known = self._table = (*self._unchanged(now), self.table(now))
        return known[2]

    def blocks(self, now: Instant, memory: int) -> Iterator[Table]:
        """Yield the table in blocks of places; all that is needed at a time fits into ``memory`` bytes.

        The arrays are used again. A block has one place at least, however much that takes.
        """
        sweep, crowd = self.rows(now)
        compiled = self.decider.compiled
        room = max(1, min(memory * 4 // 5 // sweep.bytes_of_place, len(compiled.places)))
        words = np.empty((room, len(compiled.catalogue.keys), sweep.words), dtype=np.uint64)
        for part in sweep.portions(range(len(compiled.places)), room, memory - words.nbytes):
            yield Table(compiled, part.places.tolist(), crowd, sweep.write(part, words))

    def rows(self, now: Instant) -> tuple[Sweep, Crowd]:
        """Return a sweep over all that members are, and each member's row in it."""
        known = self._rows
        if known is None or not known[0] <= now < known[1]:
            known = self._rows = (*self._unchanged(now), *self._make_rows(now))
        return known[2], known[3]

    def _make_rows(self, now: Instant) -> tuple[Sweep, Crowd]:
        ready = self.decider.ready
        members = tuple(self.decider.people.register.keys())
        number: dict[ClassState, int] = {}
        rows, active = np.empty(len(members), dtype=np.int32), np.empty(len(members), dtype=bool)
        place = {key: n for n, key in enumerate(members)}
        for member_class, keys in ready.alike().items():
            row = number.setdefault(member_class.only or ready.at(member_class, now), len(number))
            these = [place[key] for key in keys]
            rows[these], active[these] = row, member_class.member.is_active
        crowd = Crowd(members, place, rows, active)
        return Sweep(self.decider.compiled.keep(CompiledPlaces), list(number)), crowd

    def _unchanged(self, now: Instant) -> tuple[Instant, Instant]:
        """Return the bounds of the time around ``now`` in which nobody's period starts or ends."""
        edges = {edge for member_class in self.decider.ready.alike() for edge in member_class.edges}
        since = max((edge for edge in edges if edge <= now), default=-_FOREVER)
        return since, min((edge for edge in edges if edge > now), default=_FOREVER)
