"""From a profile to what is held and what can be used at a place (rules 5.2 to 5.6).

Every answer, fast or explained, comes from the functions in this module: the explanation reads the same layers.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from ask_above.charter.ladder import Rank
from ask_above.charter.places import GateTerm
from ask_above.charter.rules import Act
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.ladder import Standing
from ask_above.decide.layers import LayerName, Word, meant_by, settled
from ask_above.decide.profile import Profile

_MOST_KEPT = 500_000
"""For so many profiles and places at most it is kept what is held there: some 150 MB."""


class Layer(NamedTuple):
    """What one layer at one place gives and takes.

    ``speakers`` are the ranks or groups, or the member, that said something, with their words, the highest first.
    """

    place: int
    name: LayerName
    allow: int
    deny: int
    speakers: tuple[tuple[str, Word], ...]


class Held(NamedTuple):
    """What is held at a place; ``unbounded`` where a rank held there is."""

    mask: int
    unbounded: bool


def ranks_at(compiled: CompiledCharter, profile: Profile, place: int) -> list[int]:
    """Return the ranks held at a place, highest first (rules 4.1 to 4.3)."""
    chain = compiled.chains[place]
    found = {rank for rank, where in profile.placed if where in chain}
    return sorted(found.union(profile.automatic))


def standing(compiled: CompiledCharter, profile: Profile | None, place: int) -> Standing:
    """Return how high somebody stands at a place: by the highest rank held there (rule 4.8)."""
    ranks = ranks_at(compiled, profile, place) if profile else []
    return Standing(ranks[0]) if ranks else compiled.ladder.bottom


def holders_at(compiled: CompiledCharter, profile: Profile, place: int) -> list[str]:
    """Return the keys of the ranks held at a place, highest first, and then the groups."""
    return [*(compiled.ranks[rank].key for rank in ranks_at(compiled, profile, place)), *profile.groups]


def layers(compiled: CompiledCharter, profile: Profile, place: int) -> Iterator[Layer]:
    """Walk from the root to ``place``, four layers at each; each later one overwrites what stood before (rule 5.4)."""
    holders = holders_at(compiled, profile, place)
    for here in compiled.chains[place]:
        words = compiled.words_at(here)
        speaking = [key for key in holders if key in words] if words else []
        if speaking:
            sayings = compiled.sayings_at(here).of(speaking)
            for name in (LayerName.AUTOMATIC, LayerName.RANK, LayerName.GROUP):
                speakers = tuple((key, words[key]) for key in speaking if _layer_of(compiled, key) is name)
                if speakers:
                    allow, deny = settled(saying for saying in sayings if saying.layer is name)
                    yield Layer(here, name, 0 if name is LayerName.GROUP and profile.pending else allow, deny, speakers)
        entry, own = compiled.exception(here, profile.exceptions), compiled.own_saying(here, profile.exceptions)
        if entry is not None and own is not None:
            speaker = entry.of, compiled.word_of(entry)
            yield Layer(here, LayerName.MEMBER, 0 if profile.pending else own.allow, own.deny, (speaker,))


def _layer_of(compiled: CompiledCharter, holder: str) -> LayerName:
    rank = compiled.charter.ranks.get(holder)
    return LayerName.GROUP if rank is None else LayerName.AUTOMATIC if rank.automatic else LayerName.RANK


def closed_gate(compiled: CompiledCharter, profile: Profile, place: int) -> int | None:
    """Return the first place on the way whose gate is not satisfied (rule 5.3)."""
    for here in compiled.chains[place]:
        if here in compiled.gated and not passes(compiled, profile, here):
            return here
    return None


def passes(compiled: CompiledCharter, profile: Profile, place: int) -> bool:
    """Whether the gate of one place is satisfied; ranks count if they are held at that place."""
    entrance = compiled.entrance(place)
    return entrance is None or entrance.lets_in(frozenset(holders_at(compiled, profile, place)))


def meets_term(compiled: CompiledCharter, profile: Profile, place: int, term: GateTerm) -> bool:
    """Whether one thing that a gate asks for counts: a group one is in, a rank held at the gate's place."""
    return not meant_by(term, compiled.charter.ranks).isdisjoint(holders_at(compiled, profile, place))


def held(compiled: CompiledCharter, profile: Profile, place: int, *, gated: bool = True, own: bool = True) -> Held:
    """Return what is held at a place (rules 5.2 to 5.5); ``gated=False`` leaves gates aside, as gains need it.

    ``own=False`` leaves aside what the place says itself.
    """
    ranks = ranks_at(compiled, profile, place)
    # before gates and words: nothing at a place applies to whoever is unbounded there (3.4)
    if not compiled.unbounded.isdisjoint(ranks):
        return Held(compiled.catalogue.everything, unbounded=True)
    if gated and closed_gate(compiled, profile, place) is not None:
        return Held(0, unbounded=False)
    mask = bars = 0
    for rank in ranks:
        mask |= compiled.carried[rank]
    holders = [*(compiled.ranks[rank].key for rank in ranks), *profile.groups]
    for here in compiled.chains[place] if own else compiled.chains[place][:-1]:
        sayings = compiled.sayings_at(here)
        if sayings.turns or sayings.bars:
            for layer, _, allow, deny in sayings.of(holders):
                # those pending are given nothing by their groups
                mask = (mask if profile.pending and layer is LayerName.GROUP else mask | allow) & ~deny
            for key, bar in sayings.bars.items():
                bars |= bar if key in holders else 0
        entry = compiled.exception(here, profile.exceptions)
        if entry is not None:
            word = compiled.word_of(entry)
            mask = (mask if profile.pending else mask | word.allow) & ~word.deny
            bars |= word.bar
    # bars come off at the end: no later word, however near, gives what one takes (5.5)
    return Held(mask & ~bars, unbounded=False)


def usable(compiled: CompiledCharter, mask: int, place: int) -> int:
    """Return what of the capabilities held at a place can be used there (rule 5.6)."""
    rests = compiled.resting(place)
    # whoever may not see a place can do nothing there, whatever else they hold (5.6)
    if rests.seen & ~mask:
        return 0
    result = mask & rests.meaning
    left = result & rests.some
    if not left or not rests.of(left) & ~mask:
        return result
    while left:
        bit = left & -left
        left ^= bit
        if rests.more[bit] & ~mask:
            result ^= bit
    return result


def lists_that_count(compiled: CompiledCharter, profile: Profile, place: int, act: Act, capability: str) -> list[Rank]:
    """Return the ranks whose lists for an act count: those that grant the capability, else those with a list (6.4)."""
    ranks = [compiled.ranks[position] for position in ranks_at(compiled, profile, place)]
    bit = compiled.catalogue.bit[capability]
    # a rank that does not bring the capability does not restrict it either (6.4)
    carrying = [rank for rank in ranks if rank.unbounded or compiled.carried[rank.position] & bit]
    return carrying or [rank for rank in ranks if act in rank.lists]


class Reckoner:
    """Keeps what is held and usable for profiles that were asked about before, place by place.

    Where it has become very much it begins anew: a service is asked for months, about everybody everywhere.
    """

    def __init__(self, compiled: CompiledCharter) -> None:
        self.compiled = compiled
        self._begin()

    def _begin(self) -> None:
        self._kept = 0
        self._held: list[dict[tuple[Profile, bool], Held]] = [{} for _ in self.compiled.places]
        self._usable: list[dict[Profile, int]] = [{} for _ in self.compiled.places]

    def after(self, compiled: CompiledCharter, touched: frozenset[int]) -> Reckoner:
        """Return what is kept for a charter that differs at these places; the rest is shared."""
        other = Reckoner.__new__(Reckoner)
        other.compiled, other._kept = compiled, self._kept
        other._held = [{} if n in touched else known for n, known in enumerate(self._held)]
        other._usable = [{} if n in touched else known for n, known in enumerate(self._usable)]
        return other

    def held(self, profile: Profile, place: int, *, gated: bool = True) -> Held:
        """Return what :func:`held` says."""
        known = self._held[place].get((profile, gated))
        if known is None:
            if self._kept >= _MOST_KEPT:
                self._begin()
            self._kept += 1
            known = self._held[place][profile, gated] = held(self.compiled, profile, place, gated=gated)
        return known

    def usable(self, profile: Profile, place: int) -> int:
        """Return what can be used at a place."""
        known = self._usable[place].get(profile)
        if known is None:
            known = usable(self.compiled, self.held(profile, place).mask, place)
            self._usable[place][profile] = known
        return known
