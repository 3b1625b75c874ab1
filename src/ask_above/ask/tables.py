"""Tables: who can what, side by side, and through what (rules 5 and 6.13)."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property, partial
from typing import TYPE_CHECKING, NamedTuple

from ask_above.charter.moments import Instant
from ask_above.charter.names import among_keys, listed
from ask_above.charter.rules import Act
from ask_above.decide.answer import Answer, Step
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.planes import Planes
from ask_above.decide.profile import Asked, Holding, ask_rank
from ask_above.decide.walk import ranks_at
from ask_above.decide.words import ending
from ask_above.people.register import Assignment

if TYPE_CHECKING:
    import pandas as pd

    from ask_above.charter.ladder import Rank
    from ask_above.decide.authority import Case


def sources(answer: Answer, capability: str) -> list[str]:
    """Return what gives someone a capability that they may use: each thing that would have to go for them to lose it.

    These are the gates that let them in, and the steps that give it after the last one that took it: ranks that grant
    it, places that allow it.
    """
    given: list[str] = []
    gates = [step.text.rstrip(".") for step in answer.steps if step.code == "gate-open"]
    for step in answer.steps:
        if capability in step.takes:
            given.clear()
        elif capability in step.gives:
            if step.words.get("against"):
                given.clear()  # without this word another one of the same place would take it
            given.append(step.text.rstrip("."))
    return [*given, *gates]


def where(decider: Decider, asked: Asked, capability: str) -> list[str]:
    """Return the keys of all places where someone may use a capability, given by its full name, in their order."""
    compiled = decider.compiled
    bit = compiled.catalogue.bit[capability]
    return [place.key for n, place in enumerate(compiled.places) if decider.usable(asked, n) & bit]


def grid_masks(decider: Decider, place: int | None) -> list[int]:
    """Return, for each rank, what it grants; with a place, what someone asked as it can use there."""
    compiled = decider.compiled
    if place is None:
        return [compiled.catalogue.everything if rank.unbounded else compiled.granted(rank) for rank in compiled.ranks]
    return [decider.usable(ask_rank(compiled, rank), place) for rank in compiled.ranks]


def brought_masks(decider: Decider) -> list[int]:
    """Return, for each rank, what someone asked as it has by all the ranks they hold then (rule 4.9)."""
    compiled = decider.compiled
    brought = []
    for rank in compiled.ranks:
        profile = ask_rank(compiled, rank).profile
        ranks = ranks_at(compiled, profile, 0) if profile else []
        mask = 0 if compiled.unbounded.isdisjoint(ranks) else compiled.catalogue.everything
        for position in ranks:
            mask |= compiled.carried[position]
        brought.append(mask)
    return brought


def grid(decider: Decider, place: int | None) -> pd.DataFrame:
    """Return capabilities by ranks as booleans."""
    import pandas as pd

    compiled = decider.compiled
    masks = grid_masks(decider, place)
    columns = {
        rank.key: [bool(mask >> n & 1) for n in range(len(compiled.catalogue.keys))]
        for rank, mask in zip(compiled.ranks, masks, strict=True)
    }
    index = pd.Index(compiled.catalogue.keys, name="capability", dtype=object)
    table = pd.DataFrame(columns, index=index, columns=pd.Index(list(columns), name="rank", dtype=object))
    return table.astype(bool)


@dataclass(frozen=True, eq=False)
class GridCell:
    """Whether one rank may act on another; why not is found when it is asked for."""

    actor: str
    target: str
    allowed: bool
    explain: Callable[..., list[Step]]

    @cached_property
    def against(self) -> list[Step]:
        """Everything that stands against it."""
        return [] if self.allowed else [step for step in self.explain() if step.holds is False]

    def lacks(self, codes: Container[str]) -> bool:
        """Whether one of some reasons stands against it; what would be handed on, which takes longest, is none."""
        return not self.allowed and any(step.holds is False and step.code in codes for step in self.explain(enough=0))


def power_cells(
    decider: Decider, act: Act, place: int, at: Instant, *, enough: int | None = None
) -> Iterator[GridCell]:
    """Yield every rank's power over every rank, row by row (rule 6.13); with so many reasons against it, or all."""
    planes, case = decider.keep(Planes), None
    for actor, row in zip(planes.asked, planes.rows(act, place), strict=True):
        # all share what was worked out for the first of them
        case = decider.case(actor, place, at) if case is None else case.again(actor)
        case.enough = enough
        for rank, target in zip(planes.ranks, planes.asked, strict=True):
            explain = partial(_steps, case, act, rank, target)
            yield GridCell(actor.key or "", rank.key, bool(row >> rank.position & 1), explain)


def _steps(case: Case, act: Act, rank: Rank, target: Asked, enough: int | None = None) -> list[Step]:
    again = case.again()
    again.enough = case.enough if enough is None else enough
    return again.put(act, rank, target if act is Act.MODERATE else None)


def powers(decider: Decider, act: Act, place: int) -> pd.DataFrame:
    """Return acting ranks by ranks acted on as booleans."""
    import pandas as pd

    planes = decider.keep(Planes)
    keys = [rank.key for rank in planes.ranks]
    rows = [[bool(row >> n & 1) for n in range(len(keys))] for row in planes.rows(act, place)]
    index = pd.Index(keys, name="actor", dtype=object)
    columns = pd.Index(keys, name="target", dtype=object)
    return pd.DataFrame(rows, index=index, columns=columns).astype(bool)


def who(decider: Decider, capability: str, place: int, at: Instant) -> list[Asked]:
    """Return the members who may use a capability, given by its full name, at a place."""
    bit = decider.compiled.catalogue.bit[capability]
    able = {key for asked, keys in decider.alike(at) if decider.usable(asked, place) & bit for key in keys}
    return [*decider.each(able, at)]


def who_table(
    decider: Decider, found: Mapping[Asked, Answer | None], place: int, *, through: bool, capability: str | None = None
) -> pd.DataFrame:
    """Return those found as a table: member, name, kind, the ranks that count at the place, and where it comes from."""
    import pandas as pd

    rows = []
    for asked, answer in found.items():
        row = {
            "member": asked.key,
            "name": asked.member.own_name if asked.member else asked.label,
            "kind": asked.member.kind if asked.member else "",
            "ranks": ", ".join(ranks_held(decider.compiled, asked, place)),
        }
        if through and answer is not None:
            row["through"] = "; ".join(sources(answer, capability)) if capability else answer.reason.rstrip(".")
        rows.append(row)
    columns = ["member", "name", "kind", "ranks", *(["through"] if through else [])]
    return pd.DataFrame(rows, columns=columns, dtype=object)


def everywhere(found: Iterable[tuple[str, pd.DataFrame]]) -> pd.DataFrame:
    """Return tables of places as one, with the place's key in a column at the end."""
    import pandas as pd

    tables = [table.assign(place=key).astype({"place": object}) for key, table in found]
    return pd.concat(tables, ignore_index=True)


def ranks_held(compiled: CompiledCharter, asked: Asked, place: int) -> list[str]:
    """Return the keys of the ranks that count for someone at a place, highest first; automatic ones for want of any."""
    ranks = [compiled.ranks[position] for position in ranks_at(compiled, asked.profile, place)] if asked.profile else []
    given = [rank.key for rank in ranks if not rank.automatic]
    owner = [among_keys("owner", compiled.rank_at)] if asked.owner else []
    return [*owner, *given] or [rank.key for rank in ranks]


class Holder(NamedTuple):
    """Somebody who holds a rank now, and by what: each holding with its place and its period."""

    asked: Asked
    holdings: tuple[Holding, ...]

    def where(self, compiled: CompiledCharter) -> str:
        """Say where and until when; nothing for on the whole site and without an end."""
        spots = []
        for holding in sorted(self.holdings, key=lambda each: each.place):
            given = holding.assignment
            ends = ending(given.period) if given else ""
            if holding.place == 0 and not ends:
                return ""
            place = "on the whole site" if holding.place == 0 else f"in {compiled.places[holding.place].called}"
            spots.append(f"{place}{ends}")
        return listed(dict.fromkeys(spots))


class Holders:
    """Who holds each rank: the one way in which holders are counted, for the ladder, descriptions and lists.

    Those count whose status does, with what is in force at the moment; automatic ranks are included. Members are in the
    register's order. ``idle`` is for how many more each rank is recorded without counting, as they are not active (rule
    6.5).
    """

    def __init__(self, decider: Decider, at: Instant) -> None:
        self._decider, self._at, ranks = decider, at, decider.compiled.ranks
        self._keys: dict[str, list[str]] = {rank.key: [] for rank in ranks}
        self._local: dict[str, set[str]] = {rank.key: set() for rank in ranks}
        self._later: dict[str, list[str]] = {}
        self.idle = dict.fromkeys(self._keys, 0)
        for asked, keys in decider.alike(at):
            wholly = {holding.rank for holding in asked.holdings if holding.place == 0}
            held = {holding.rank for holding in asked.holdings}
            for position in held:
                self._keys[ranks[position].key] += keys
                if position not in wholly:
                    self._local[ranks[position].key].update(keys)
            for position in {holding.rank for holding in asked.recorded} - held:
                self.idle[ranks[position].key] += len(keys)
            for rank in {given.rank for given in asked.later if asked.is_active and not self._holds(asked, given)}:
                self._later.setdefault(rank, []).extend(keys)
        self._keys = {rank: decider.in_order(keys) for rank, keys in self._keys.items()}

    def _holds(self, asked: Asked, given: Assignment) -> bool:
        """Whether somebody holds a rank already where they will be given it, and for as long."""
        compiled = self._decider.compiled
        rank, above = compiled.rank_at[given.rank], compiled.chains[compiled.place_at[given.place]]
        same = (holding for holding in asked.holdings if holding.rank == rank and holding.place in above)
        ends = [holding.assignment and holding.assignment.period.end for holding in same]
        return any(end is None or (given.period.end is not None and given.period.end <= end) for end in ends)

    def keys(self, rank: str) -> list[str]:
        """Return the keys of those who hold a rank."""
        return self._keys[rank]

    def here_only(self, rank: str) -> list[str]:
        """Return the keys of those who do not hold it on the whole site."""
        return [key for key in self._keys[rank] if key in self._local[rank]]

    def later(self, rank: str) -> list[str]:
        """Return the keys of those who come to hold a rank, by an assignment that has yet to begin."""
        return self._decider.in_order(self._later.get(rank, ()))

    def first(self, rank: str, most: int) -> list[Holder]:
        """Return the first of them, with what they hold it by."""
        keys, position = self._keys[rank][:most], self._decider.compiled.rank_at[rank]
        self._decider.people.register.read(keys)
        first = [self._decider.people.ask(key, self._at) for key in keys]
        return [Holder(asked, tuple(h for h in asked.holdings if h.rank == position)) for asked in first]
