"""Members folded together, and what each fold can use, kept ready for the next question.

Members that are equal in all that an answer depends on share one fold. A fold knows the moments at which its
assignments start and end, so that a question never reads a date again. What is kept here is only ever added to, and
each piece is whole before it is reachable: any number of threads may ask at once.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Sequence
from copy import copy
from typing import TypeAlias

from ask_above.charter.moments import Instant
from ask_above.decide.frame import Frame
from ask_above.decide.profile import Asked, Profile, ask_member
from ask_above.decide.walk import Reckoner
from ask_above.people.register import Assignment, Member, Register

Names: TypeAlias = frozenset[str]

_LONG_AGO = -(1 << 62)
_MOST_RENEWED = 500


class Cell:
    """What one fold is during one stretch of time; without a profile someone who can do nothing, or the owner."""

    __slots__ = ("owner", "profile")

    def __init__(self, profile: Profile | None, *, owner: bool) -> None:
        self.profile, self.owner = profile, owner


class Fold:
    """Members that are equal in all that an answer depends on.

    ``edges`` are the instants at which something changes, in order; ``cells`` has one more than there are edges.
    ``only`` is the one cell where nothing ever changes. ``member`` stands for them all, with the assignments and
    exceptions that they had when the fold was made; a rank or visitor has none.
    """

    __slots__ = ("cells", "edges", "excepted", "given", "member", "only")

    def __init__(
        self, member: Member | None = None, given: Sequence[Assignment] = (), *, excepted: bool = False
    ) -> None:
        edges = {edge for each in given for edge in (each.period.start, each.period.end) if edge is not None}
        self.member, self.given, self.excepted = member, list(given), excepted
        self.edges: tuple[Instant, ...] = tuple(sorted(edges))
        self.cells: list[Cell | None] = [None] * (len(self.edges) + 1)
        self.only: Cell | None = None


class Ready:
    """What is kept ready for one charter and one register.

    ``folds`` is shared by all communities that came from one another; ``renewed`` holds the few members for whom a
    change made it untrue, ``None`` until they are asked about.
    """

    def __init__(self, frame: Frame, register: Register, reckoner: Reckoner) -> None:
        self.frame, self.register, self.reckoner = frame, register, reckoner
        self.folds: dict[str, Fold] = {}
        self.renewed: dict[str, Fold | None] = {}
        self.usable: dict[str, dict[Cell, Names]] = {place.key: {} for place in frame.places}
        self._alike: dict[tuple[object, ...], Fold] = {}
        self._named: dict[int, Names] = {}
        self._cells: dict[Profile, Cell] = {}
        self._folded: dict[Fold, list[str]] | None = None
        self._nobody = Cell(None, owner=False)
        self._owner = Cell(None, owner=True)

    def after(self, frame: Frame, register: Register, reckoner: Reckoner, touched: frozenset[int]) -> Ready:
        """Return what is ready after a change that touches these places, and the members that the register names.

        Everything else is shared, so that only what a change touches is made again.
        """
        other = copy(self)
        other._folded = None
        other.frame, other.register, other.reckoner = frame, register, reckoner
        gone = frame.exceptional ^ self.frame.exceptional
        if register is not self.register:
            gone |= set(register.differing(self.register))
            if len(gone) > _MOST_RENEWED and 2 * len(gone) > len(register.members):
                return Ready(frame, register, reckoner)
        if gone:
            other.folds, renewed = self.folds, self.renewed | dict.fromkeys(gone)
            if len(renewed) > _MOST_RENEWED:
                merged = self.folds | renewed
                other.folds = {key: fold for key, fold in merged.items() if fold is not None}
                renewed = {}
            other.renewed = renewed
        if touched:
            other.usable = self.usable.copy()
            other.usable.update((frame.places[n].key, {}) for n in touched)
        return other

    def fold(self, key: str) -> Fold:
        """Return the fold of a member."""
        folds: dict[str, Fold | None] | dict[str, Fold] = self.renewed if key in self.renewed else self.folds
        known = folds.get(key)
        if known is None:
            known = folds[key] = self._find(self.register.members[key])
        return known

    def keep(self, who: str, asked: Asked) -> Cell:
        """Keep a rank or visitor ready under the name they are asked by."""
        fold = Fold()
        fold.only = fold.cells[0] = self._cell(asked)
        return self.folds.setdefault(who, fold).only or fold.only

    def all(self) -> Iterable[Fold]:
        """Return every member's fold, in the register's order."""
        return map(self.fold, self.register.members)

    def alike(self) -> dict[Fold, list[str]]:
        """Return the members of each fold, in the register's order; made once."""
        if self._folded is None:
            found: dict[Fold, list[str]] = {}
            for key in self.register.members:
                found.setdefault(self.fold(key), []).append(key)
            self._folded = found
        return self._folded

    def _find(self, member: Member) -> Fold:
        given = self.register.of(member.key)
        excepted = member.key in self.frame.exceptional
        own = member.key if excepted or member.key == self.frame.charter.owner else None
        held = tuple((each.rank, each.place, each.period.start, each.period.end) for each in given)
        alike = (member.status, member.kind, member.groups, own, excepted, held)
        known = self._alike.get(alike)
        if known is None:
            known = Fold(member, given, excepted=excepted)
            if not known.edges:
                known.only = self.at(known, _LONG_AGO)
            known = self._alike.setdefault(alike, known)
        return known

    def at(self, fold: Fold, when: Instant) -> Cell:
        """Return the cell of a fold at an instant."""
        n = bisect_right(fold.edges, when)
        known = fold.cells[n]
        if known is None:
            if fold.member is None:
                return self._nobody
            since = fold.edges[n - 1] if n else _LONG_AGO
            asked = ask_member(self.frame, fold.member, fold.given, since, excepted=fold.excepted)
            known = fold.cells[n] = self._cell(asked)
        return known

    def _cell(self, asked: Asked) -> Cell:
        """Return the cell of someone; equal profiles share one."""
        if asked.rules_all:
            return self._owner
        if asked.profile is None:
            return self._nobody
        return self._cells.setdefault(asked.profile, Cell(asked.profile, owner=False))

    def names(self, cell: Cell, place: str) -> Names:
        """Return the capabilities that a cell can use at a place, by their full names."""
        known = self.usable[place].get(cell)
        if known is None:
            known = self.usable[place][cell] = self.named(self.mask(cell, self.frame.place_at[place]))
        return known

    def mask(self, cell: Cell, place: int) -> int:
        """Return the capabilities that a cell can use at a place."""
        if cell.owner:
            return self.frame.has_meaning(place)
        return 0 if cell.profile is None else self.reckoner.usable(cell.profile, place)

    def named(self, mask: int) -> Names:
        """Return the names of a set; equal sets share one object."""
        known = self._named.get(mask)
        if known is None:
            known = self._named.setdefault(mask, frozenset(self.frame.catalogue.names(mask)))
        return known
