"""Is every place looked after: how many can do what a place needs, who is the only one, who can enter (rule 5)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import islice
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from ask_above.ask.anywhere import count_anywhere
from ask_above.bulk.everyone import Everyone
from ask_above.bulk.table import Crowd, unpack
from ask_above.charter.moments import Instant
from ask_above.charter.names import among_keys
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.explain import gate_asks
from ask_above.decide.profile import Asked
from ask_above.decide.walk import closed_gate, held, ranks_at
from ask_above.printing import Printed

if TYPE_CHECKING:
    import pandas as pd
    from numpy.typing import NDArray

    from ask_above.ask.impact.whole import Shift


_TOLD_EVERY = 100
_AT_ONCE = 2_000
"""How many planes are unpacked at once."""
_ASKED_FIRST = 500
"""Of how many members it is asked one by one whether they can do what somebody loses."""
_NOT_ALONE = 2
COLUMNS = ("place", "title", "asks", "members", "who")


class Gap(NamedTuple):
    """A duty that nobody, or one member alone, can do at a place; ``only`` is the one."""

    place: str
    capability: str
    only: str | None = None


class Crowded(NamedTuple):
    """More members than ``rules.advice`` says hold something; ``what`` is a capability of high risk, or unbounded."""

    what: str
    members: int
    most: int


class Cover(Printed):
    """How many active members can do each duty at each place.

    ``counts`` is an array of places by duties, int64; -1 where the duty has no meaning. ``able`` is how many can do
    each duty at any place at all. ``without`` are the members who are left out.
    """

    def __init__(
        self,
        decider: Decider,
        at: Instant,
        duties: Sequence[str],
        counts: NDArray[np.int64],
        only: dict[tuple[int, int], str],
        able: dict[str, int],
        without: Sequence[str] = (),
        *,
        whole: bool = False,
    ) -> None:
        self.decider, self.at, self.duties, self.counts, self._only = decider, at, tuple(duties), counts, only
        self.able, self.without, self._whole = able, tuple(without), whole

    def __repr__(self) -> str:
        return f"<Cover: {len(self.duties)} duties, {len(self.gaps)} gaps>"

    @property
    def gaps(self) -> list[Gap]:
        """The duties that nobody can do, then those that one member alone can do."""
        compiled = self.decider.compiled
        meant = compiled.catalogue.nobody
        nobody = [(p, d) for p, d in np.argwhere(self.counts == 0).tolist() if self.duties[d] not in meant]
        single = [(p, d) for p, d in np.argwhere(self.counts == 1).tolist()]
        found = [Gap(compiled.places[p].key, self.duties[d]) for p, d in nobody]
        return found + [Gap(compiled.places[p].key, self.duties[d], self._only[p, d]) for p, d in single]

    @property
    def crowded(self) -> list[Crowded]:
        """What more members can do than ``rules.advice`` wants; nothing where not all of it was looked at."""
        return crowded(self.decider, self.at) if self._whole and not self.without else []

    def table(self) -> pd.DataFrame:
        """Return places by duties: how many active members can, as nullable whole numbers; no number for no meaning."""
        import pandas as pd

        index = pd.Index([place.key for place in self.decider.compiled.places], name="place", dtype=object)
        columns = pd.Index(self.duties, name="capability", dtype=object)
        table = pd.DataFrame(self.counts, index=index, columns=columns).astype("Int64")
        return table.mask(table < 0)

    def by_rank(self, place: str, capability: str) -> dict[str, int]:
        """Return how many of those who can have it from each rank, highest first; the owner first.

        Someone counts with the highest rank there that grants it; those whom the place itself lets, as ``place``.
        Where a rank has that key, it is ``the place``, and ``the owner``.
        """
        compiled = self.decider.compiled
        number, bit = compiled.place_at[place], compiled.catalogue.bit[capability]
        having: dict[int, int] = {}
        for asked, alike in self.decider.alike(self.at):
            keys = [key for key in alike if key not in self.without]
            if keys and asked.is_active and self.decider.usable(asked, number) & bit:
                ranks = ranks_at(compiled, asked.profile, number) if asked.profile else []
                carrying = [r for r in ranks if r in compiled.unbounded or compiled.carried[r] & bit]
                # the owner above all ranks, the place itself below them
                top = -1 if asked.owner else carrying[0] if carrying else len(compiled.ranks)
                having[top] = having.get(top, 0) + len(keys)
        names = {rank.position: rank.key for rank in compiled.ranks}
        names |= {n: among_keys(w, compiled.rank_at) for n, w in ((-1, "owner"), (len(compiled.ranks), "place"))}
        return {names[top]: having[top] for top in sorted(having)}


def default_duties(compiled: CompiledCharter) -> list[str]:
    """Return the capabilities of medium and high risk, less those on own things.

    What is meant for nobody is among them: that nobody can do it is as it should be, and one alone who can is told.
    """
    capabilities = compiled.catalogue.capabilities.items()
    own = {f"{each.pair}.own" for _, each in capabilities if each.pair}
    return [key for key, each in capabilities if each.risk != "low" and key not in own]


def cover(
    decider: Decider,
    duties: Sequence[str],
    at: Instant,
    without: frozenset[str] = frozenset(),
    told: Callable[[int, int], None] | None = None,
) -> Cover:
    """Count who can do these duties, by their full names, at every place; ``without`` are left out.

    ``told`` is called now and then with how many places are done, and of how many.
    """
    compiled = decider.compiled
    sweep, crowd = decider.keep(Everyone).rows(at)
    weights = _weights(crowd, without)
    numbers = [compiled.catalogue.keys.index(key) for key in duties]
    planes: dict[bytes, int] = {}
    known = np.empty((len(compiled.places), len(duties)), dtype=np.int64)
    anywhere = np.zeros((len(duties), sweep.words), dtype=np.uint64)
    for place, mine in sweep.run(capabilities=numbers):
        anywhere |= mine
        # telling costs more than counting a place
        if told and place % _TOLD_EVERY == 0:
            told(place, len(compiled.places))
        # most places change little, so that few planes are ever counted
        known[place] = [planes.setdefault(plane.tobytes(), len(planes)) for plane in mine]
    counts = _counted(planes, weights)
    alone = _alone(planes, counts, weights, _lonely(weights, crowd, without))
    how_many = counts[known] if planes else known
    for kind, mask in compiled.meaning.items():
        without_meaning = [d for d, key in enumerate(duties) if not mask & compiled.catalogue.bit[key]]
        places = [n for n, place in enumerate(compiled.places) if place.kind == kind]
        how_many[np.ix_(places, without_meaning)] = -1
    only = {(p, d): alone[known[p, d]] for p, d in np.argwhere(how_many == 1).tolist()}
    able = {key: int(weights[unpack(anywhere[n])[: len(weights)]].sum()) for n, key in enumerate(duties)}
    whole = list(duties) == default_duties(compiled)
    if whole:  # what is meant for nobody, and nobody can, is as it should be
        kept = [n for n, key in enumerate(duties) if able[key] or key not in compiled.catalogue.nobody]
        number = {d: n for n, d in enumerate(kept)}
        only = {(p, number[d]): key for (p, d), key in only.items()}
        duties, how_many = [duties[n] for n in kept], how_many[:, kept]
    return Cover(decider, at, duties, how_many, only, able, sorted(without), whole=whole)


def lost(before: Decider, after: Decider, at: Instant, shifts: Iterable[Shift]) -> list[Gap]:
    """Return what nobody can do any more, or one member alone, of all of medium and high risk, after a change.

    ``shifts`` are what the change makes of what people can use.
    """
    compiled, known = after.compiled, before.people.register.members
    duties = {*default_duties(compiled)}
    cells = {
        (place, key)
        for shift in shifts
        if not shift.gains and shift.since is None and any(known[key].is_active for key in shift.members)
        for key in duties.intersection(shift.capabilities)
        for place in shift.places
        if place in compiled.place_at
    }
    cells = _left_to_few(after, at, cells)
    # only for a gap, and for what most members cannot do, all members have to be looked at
    wanted = [key for key in compiled.catalogue.keys if any(key == capability for _, capability in cells)]
    return [gap for gap in cover(after, wanted, at).gaps if (gap.place, gap.capability) in cells] if cells else []


def _left_to_few(decider: Decider, at: Instant, cells: set[tuple[str, str]]) -> set[tuple[str, str]]:
    """Return the places and duties for which not two are found among the members who are asked first."""
    able = dict.fromkeys(cells, 0)
    bit, place_at = decider.compiled.catalogue.bit, decider.compiled.place_at
    for key in islice(decider.people.register.members, _ASKED_FIRST):
        if not able:
            break
        asked = decider.people.ask(key, at)
        if not asked.is_active:
            continue
        usable = {place: decider.usable(asked, place_at[place]) for place in {place for place, _ in able}}
        for cell in [(place, duty) for place, duty in able if usable[place] & bit[duty]]:
            able[cell] += 1
            if able[cell] == _NOT_ALONE:
                del able[cell]
    return {*able}


def _counted(planes: dict[bytes, int], weights: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return how many members each plane lets."""
    counts = np.empty(len(planes), dtype=np.int64)
    # a matrix product counts exactly in float32 up to 16 million members
    as_floats = weights.astype(np.float32 if weights.sum() < 1 << 24 else np.float64)
    keys = list(planes)
    for start in range(0, len(keys), _AT_ONCE):
        some = keys[start : start + _AT_ONCE]
        packed = np.frombuffer(b"".join(some), dtype=np.uint8).reshape(len(some), -1)
        bits = np.unpackbits(packed, axis=1, bitorder="little")[:, : len(weights)]
        counts[start : start + len(some)] = np.rint(np.matmul(bits, as_floats))
    return counts


def _lonely(weights: NDArray[np.int64], crowd: Crowd, without: frozenset[str]) -> dict[int, str]:
    """Return the member of each row that only one counts in."""
    single = weights[crowd.rows] == 1 if len(weights) else np.zeros(0, dtype=bool)
    found = ((int(crowd.rows[n]), crowd.members[n]) for n in np.flatnonzero(single).tolist())
    return {row: key for row, key in found if key not in without}


def _alone(
    planes: dict[bytes, int], counts: NDArray[np.int64], weights: NDArray[np.int64], lonely: dict[int, str]
) -> dict[int, str]:
    """Return, for each plane that lets one member alone, who that is."""
    alone = {}
    for plane, n in planes.items():
        if counts[n] == 1:
            bits = unpack(np.frombuffer(plane, dtype=np.uint64))[: len(weights)]
            alone[n] = lonely[int(np.flatnonzero(bits & (weights > 0))[0])]
    return alone


def _weights(crowd: Crowd, without: frozenset[str]) -> NDArray[np.int64]:
    """Return how many active members stand in each row."""
    counted = crowd.active.copy()
    counted[[crowd.number[key] for key in without if key in crowd.number]] = False
    size = int(crowd.rows.max()) + 1 if len(crowd.rows) else 0
    return np.bincount(crowd.rows[counted], minlength=size).astype(np.int64)


def crowded(decider: Decider, at: Instant) -> list[Crowded]:
    """Return what more members hold than ``rules.advice`` says: unbounded ranks, capabilities of high risk."""
    advice = decider.compiled.charter.rules.advice
    too_many = []
    unbounded = sum(len(keys) for keys in _unbounded(decider, at))
    if unbounded > advice.most_unbounded:
        too_many.append(Crowded("unbounded", unbounded, advice.most_unbounded))
    risky = [key for key, each in decider.compiled.catalogue.capabilities.items() if each.risk == "high"]
    able = count_anywhere(decider, risky, at)
    too_many += [
        Crowded(key, count, advice.most_high_risk) for key, count in able.items() if count > advice.most_high_risk
    ]
    return too_many


def unbounded_members(decider: Decider, at: Instant) -> list[str]:
    """Return the active members who hold an unbounded rank anywhere."""
    return decider.in_order(key for keys in _unbounded(decider, at) for key in keys)


def _unbounded(decider: Decider, at: Instant) -> Iterator[list[str]]:
    """Yield the keys of those who hold an unbounded rank anywhere, those who are alike together."""
    unbounded = decider.compiled.unbounded
    for asked, keys in decider.alike(at) if unbounded else ():
        if asked.is_active and any(holding.rank in unbounded for holding in asked.holdings):
            yield keys


class Closed(NamedTuple):
    """A closed place: what its gate asks for, and the keys of the active members who can enter, in their order."""

    place: str
    asks: str
    members: tuple[str, ...]


def closed_places(decider: Decider, at: Instant) -> list[Closed]:
    """Return every place that has a gate itself, in the charter's order, with who can enter."""
    compiled = decider.compiled
    people = [(asked, keys) for asked, keys in decider.alike(at) if asked.is_active]
    closed = []
    for n, place in enumerate(compiled.places):
        if n in compiled.gated and place.gate is not None:
            inside = {key for asked, keys in people if _enters(compiled, asked, n) for key in keys}
            closed.append(Closed(place.key, gate_asks(compiled, place.gate), tuple(decider.in_order(inside))))
    return closed


def _enters(compiled: CompiledCharter, asked: Asked, place: int) -> bool:
    if asked.rules_all:
        return True
    if asked.profile is None:
        return False
    return held(compiled, asked.profile, place).unbounded or closed_gate(compiled, asked.profile, place) is None
