"""Who may join which open ranks before and after a change (rule 4.7)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.decide.authority import conditions, how_many_have, recorded_anywhere
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Asked, ask_member


class Kin(NamedTuple):
    """Members who are alike on both sides for a stretch of time, from ``since`` on; ``None`` for the present one."""

    members: tuple[str, ...]
    before: Asked | None
    after: Asked | None
    since: Instant | None = None


def asked_at(decider: Decider, key: str, at: Instant) -> Asked | None:
    """Return a member as of a moment; ``None`` where there is none of that key."""
    member = decider.people.register.members.get(key)
    if member is None:
        return None
    given = decider.people.register.of(key)
    return ask_member(decider.compiled, member, given, at, excepted=key in decider.compiled.exceptional)


class Joining:
    """Compares who may join which ranks by themselves, as of now."""

    def __init__(self, old: Decider, new: Decider, at: Instant) -> None:
        self.sides, self.at, self.same = (old, new), at, old.compiled is new.compiled
        self._counted: dict[tuple[int, str], int] = {}

    def turned(self, differing: Iterable[Kin]) -> Iterator[tuple[bool, str, tuple[str, ...]]]:
        """Yield whether it is gained, the rank, and who; ``differing`` are those whose own answers may differ."""
        old, new = self.sides
        keys = dict.fromkeys((*new.compiled.rank_at, *old.compiled.rank_at))
        opened = [key for key in keys if any(self._open(side, key) for side in (0, 1))]
        if not opened:
            return
        people = [kin for kin in differing if kin.since is None]
        filled = {key for key, _ in self.filled(people)}
        others = self._others(people) if not filled.isdisjoint(opened) else ()
        for kin in (*people, *others):
            for key in opened:
                before, after = self._may(0, kin.before, key), self._may(1, kin.after, key)
                if before != after:
                    yield after, key, kin.members

    def _open(self, side: int, key: str) -> Rank | None:
        rank = self.sides[side].compiled.charter.ranks.get(key)
        return rank if rank is not None and rank.may_be_joined else None

    def filled(self, differing: Iterable[Kin]) -> Iterator[tuple[str, bool]]:
        """Yield the ranks that are full now and were not, or have room again, and which: so it is for whoever else."""
        people = [kin for kin in differing if kin.since is None]
        # under another charter everybody is looked at
        limited = [rank for rank in self.sides[1].compiled.ranks if self.same and rank.limit is not None]
        for rank in limited:
            if not any(self._has(0, kin.before, rank.key) is not self._has(1, kin.after, rank.key) for kin in people):
                continue  # everybody else need not be counted
            before, after = self._have(0, rank), self._have(1, rank)
            # whoever has it somewhere is one of those who fill it
            if any((before >= full) is not (after >= full) for full in (rank.limit or 0, (rank.limit or 0) + 1)):
                yield rank.key, after < before

    def _others(self, people: Iterable[Kin]) -> Iterator[Kin]:
        """Yield the members who do not differ themselves, those who are alike once."""
        old, new = self.sides
        apart = {member for kin in people for member in kin.members}
        for keys in old.ready.alike().values():
            members = tuple(key for key in keys if key not in apart)
            if members:
                yield Kin(members, asked_at(old, members[0], self.at), asked_at(new, members[0], self.at))

    def _have(self, side: int, rank: Rank) -> int:
        """Return how many have a rank; counted once, as it is asked for whoever might join it."""
        if (side, rank.key) not in self._counted:
            self._counted[side, rank.key] = how_many_have(self.sides[side].people, rank, self.at)
        return self._counted[side, rank.key]

    def _has(self, side: int, asked: Asked | None, key: str) -> bool:
        if asked is None or asked.is_retired:
            return False
        return key in recorded_anywhere(self.sides[side].compiled, asked)

    def _may(self, side: int, asked: Asked | None, key: str) -> bool:
        rank, decider = self._open(side, key), self.sides[side]
        if asked is None or not asked.acts or rank is None:
            return False
        if rank.limit is not None:
            besides = self._have(side, rank) - self._has(side, asked, key)
            if besides >= rank.limit:
                return False
        met = conditions(decider.people, rank._replace(limit=None), asked, (0,), self.at)
        return all(step.holds is not False for step in met)
