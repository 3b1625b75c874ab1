"""The least ladder under which all that was done, and is allowed now, would still be allowed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from collections.abc import Set as AbstractSet
from typing import NamedTuple

from ask_above.ask.acts import NAMES, act_of
from ask_above.ask.audit.judge import Deed
from ask_above.charter.changes import withholding
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant
from ask_above.decide.decider import VISITOR
from ask_above.decide.names import Names
from ask_above.decide.walk import ranks_at


class Least(NamedTuple):
    """What a rank carries and would not have needed, and the command that takes it."""

    rank: str
    capabilities: tuple[str, ...]
    command: str


def least(names: Names, now: Instant, deeds: Sequence[Deed], used: AbstractSet[tuple[str, str]]) -> list[Least]:
    """Return what could be withheld from each rank, so that all these deeds, which are allowed now, still are.

    ``used`` are pairs of a rank and a capability that was used through it. A year is no proof that nothing else is
    needed: what is rare, and kept for the day, is among what comes back.
    """
    return _Search(names, now, deeds, used).found()


_MOST_TRIED = 12


class _Search:
    def __init__(self, names: Names, now: Instant, deeds: Sequence[Deed], used: AbstractSet[tuple[str, str]]) -> None:
        self.names, self.now, self.deeds = names, now, deeds
        self.compiled = self.names.decider.compiled
        self.take = {
            rank.key: [n for n in self._carried(rank.position) if (rank.key, n) not in used]
            for rank in self.compiled.ranks
            if not rank.unbounded and not rank.kept_by
        }

    def _carried(self, position: int) -> list[str]:
        return list(self.compiled.catalogue.names(self.compiled.carried[position]))

    def found(self) -> list[Least]:
        """Give back what turns out to be needed, until nothing of what was done is refused."""
        again: set[Deed] = set()
        tried = 0
        while broken := [each for each in self.deeds if not self._allowed(self._after(), each)]:
            tried += 1
            if tried > _MOST_TRIED:  # what else it hangs on is not worth finding: nothing is taken
                self.take = {}
            for deed in broken:
                self._give_back(deed, everywhere=deed in again)
            again |= set(broken)
        return [
            Least(key, tuple(names), f"ask-above rank withhold {key} {' '.join(names)}")
            for key, names in self.take.items()
            if names
        ]

    def _after(self) -> Names:
        charter: Charter = self.names.charter
        for key, names in self.take.items():
            if names:
                charter = withholding(charter, key, names)
        if self._known is None or self._known[0] != self.take:
            taken = {key: list(names) for key, names in self.take.items()}
            self._known = taken, self.names.after(charter=charter)
        return self._known[1]

    _known: tuple[Mapping[str, Sequence[str]], Names] | None = None

    def _allowed(self, names: Names, deed: Deed) -> bool:
        asked = names.asked(deed.member or VISITOR, self.now)
        if deed.action in NAMES:
            more = {"to": deed.to or None, "of": deed.of or None, "using": deed.using or None}
            act = act_of(names, deed.action, deed.target or None, at=deed.place, **more)
            return bool(act.put(names.decider, asked, self.now))
        full = names.capability(deed.action, asked, names.author(deed.author or None))
        return bool(names.decider.may(asked, full, names.place_number(deed.place)))

    def _give_back(self, deed: Deed, *, everywhere: bool) -> None:
        """Give back what a deed takes to the highest rank held there that carries it; ``everywhere`` to all of them."""
        asked, place = self.names.asked(deed.member or VISITOR, self.now), self.names.place_number(deed.place)
        held = ranks_at(self.compiled, asked.profile, place) if asked.profile else []
        catalogue = self.compiled.catalogue
        for name in self._needs(deed):
            bit = catalogue.bit[name]
            carrying = [rank for rank in held if self.compiled.carried[rank] & bit]
            for rank in carrying if everywhere else carrying[:1]:
                key = self.compiled.ranks[rank].key
                self._keep(key, name)
                for other in list(self.take.get(key, ())) if everywhere else ():
                    if catalogue.expand(other) & bit:  # it comes along with another
                        self._keep(key, other)

    def _needs(self, deed: Deed) -> Iterator[str]:
        """Yield the capabilities that a deed rests on."""
        catalogue, rules = self.compiled.catalogue, self.names.charter.rules
        if deed.action in NAMES:
            keys: Sequence[str] = [deed.using] if deed.using else rules.act(deed.action).using
        else:
            asked = self.names.asked(deed.member or VISITOR, self.now)
            keys = [self.names.capability(deed.action, asked, self.names.author(deed.author or None))]
        seeing = [rules.seeing] if rules.seeing else []
        mask = 0
        for key in (*keys, *seeing):
            mask |= catalogue.rests_on(key)
        yield from catalogue.names(mask)

    def _keep(self, key: str, name: str) -> None:
        """Leave a capability with a rank, and with those that it builds on."""
        if name in self.take.get(key, ()):
            self.take[key].remove(name)
        for base in self.names.charter.ranks[key].builds_on:
            self._keep(base, name)
