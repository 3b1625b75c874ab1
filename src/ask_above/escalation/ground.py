"""What somebody holds at each place by one rank alone, and by everything: the ground that climbing starts from.

Held by several ranks is never more than held by some one of them, gates left aside: of the words that speak of a
capability the last one stands, and it is one rank's; what is granted is granted by one rank; bars only add up.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property, reduce
from operator import or_
from typing import NamedTuple

from ask_above.charter.ladder import Rank
from ask_above.charter.rules import Act, Over
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.layers import Word, first_says, sayings, settled
from ask_above.decide.profile import ask_anybody
from ask_above.decide.walk import usable


class _Passed(NamedTuple):
    """What the words on the way to a place leave of a set: what of it is kept, what is given, what is barred.

    ``after`` is what is given at the place itself whatever else is said there.
    """

    kept: int
    given: int
    barred: int
    after: int = 0

    def then(self, word: Word, after: int) -> _Passed:
        """Return what is left after what one more place says."""
        given = (self.given | word.allow) & ~word.deny | after
        return _Passed(self.kept & ~word.deny, given, self.barred | word.bar, after)


class Ground:
    """One charter, looked at rank by rank; kept for climbing from all of its ranks."""

    def __init__(self, compiled: CompiledCharter) -> None:
        self.compiled = compiled
        catalogue = compiled.catalogue
        self.automatic = tuple(holding.rank for holding in ask_anybody(compiled).holdings)
        self.leads = {
            catalogue.bit[key]: catalogue.close(catalogue.mask(each.leads_to))
            for key, each in catalogue.capabilities.items()
            if each.leads_to
        }
        self.leading = sum(self.leads)
        acts = (Act.ASSIGN, Act.MANAGE, Act.OVERRIDES)
        self.using = {act: catalogue.mask(compiled.charter.rules.act(act).using) for act in acts}
        # whose account one may edit one may make a bot, which matters where bots have ranks of their own
        self.of_bots = [rank for rank in compiled.ranks if rank.held_by == "bots"]
        accounts = compiled.charter.rules.act(Act.ACCOUNTS).using if self.of_bots else ()
        self.using[Act.ACCOUNTS] = catalogue.mask(accounts)
        self._single: dict[int | None, list[int]] = {}
        self._unions: dict[tuple[int, ...], list[int]] = {}
        self._full: dict[int | None, list[int]] = {}
        # what a set is good for depends on the kind of place alone, so places of one kind share what was worked out
        kept: dict[tuple[str, bool], dict[int, int]] = {}
        self._usable = [kept.setdefault((place.kind, n > 0), {}) for n, place in enumerate(compiled.places)]
        self._words = [compiled.words_at(n) for n in range(len(compiled.places))]
        # most ranks are spoken of at a few places, and anywhere else they stand as their grants say
        self._speaking: dict[str, list[int]] = {}
        for n, words in enumerate(self._words):
            for key in words:
                self._speaking.setdefault(key, []).append(n)
        self._passed: dict[tuple[tuple[int, ...], bool], list[_Passed]] = {}

    def after(self, compiled: CompiledCharter) -> None:
        """Keep nothing for another charter: all of it is made anew."""

    def may_stir(self, rank: int) -> bool:
        """Tell quickly whether a rank's holder could do anything at all to climb; most cannot."""
        compiled = self.compiled
        # whoever can join anything, or do anything, is worth the full look
        if any(each.may_be_joined for each in compiled.ranks) or rank in compiled.unbounded:
            return True
        holders = [*self.automatic, rank]
        mask = 0
        for holder in holders:
            mask |= compiled.carried[holder] | compiled.allowed_anywhere().get(compiled.ranks[holder].key, 0)
        return bool(mask & reduce(or_, self.using.values(), self.leading))

    def single(self, rank: int | None) -> list[int]:
        """Return what is held at each place by the automatic ranks of members and this one, gates left aside."""
        known = self._single.get(rank)
        if known is None:
            carried = 0
            for each in (*self.automatic, *(() if rank is None else (rank,))):
                carried |= self.compiled.carried[each]
            known = self._single[rank] = self._walk(self.automatic, rank, carried)
        return known

    def union(self, ranks: tuple[int, ...]) -> list[int]:
        """Return what is held at each place by any one of several ranks."""
        known = self._unions.get(ranks)
        if known is None:
            known = list(self.single(ranks[0]))
            for rank in ranks[1:]:
                known = [one | other for one, other in zip(known, self.single(rank), strict=True)]
            self._unions[ranks] = known
        return known

    def full(self, rank: int) -> list[int]:
        """Return the most that a rank could hold, if it granted everything and stood anywhere on the ladder."""
        known = self._full.get(rank)
        if known is None:
            everything = self.compiled.catalogue.everything
            # as if the rank had been moved to wherever a range helps it: a bound, never less than what can be
            known = self._full[rank] = self._walk(self.automatic, rank, everything, ranges=True)
        return known

    @cached_property
    def made(self) -> list[int]:
        """Return the most that a rank that is made could hold at each place, if it granted everything."""
        return self._walk(self.automatic, None, self.compiled.catalogue.everything, ranges=True)

    def held_by(self, automatic: tuple[int, ...], rank: int | None) -> list[int]:
        """Return what other automatic ranks and one more hold, gates left aside."""
        carried = 0
        for each in (*automatic, *(() if rank is None else (rank,))):
            carried |= self.compiled.carried[each]
        return self._walk(automatic, rank, carried)

    @cached_property
    def by_group(self) -> dict[str, list[int]]:
        """Return what is allowed to each group at each place, and the places in it."""
        allowed = {}
        for group in self.compiled.charter.groups:
            masks: list[int] = []
            for n, words in enumerate(self._words):
                above = masks[self._parent(n)] if n else 0
                masks.append(above | (words[group].allow if group in words else 0))
            allowed[group] = masks
        return allowed

    @cached_property
    def named(self) -> frozenset[str]:
        """Return the ranks that having leads somewhere by itself: gates, conditions, and lists of acts name them."""
        charter = self.compiled.charter
        keys = {key for rank in charter.ranks.values() for key in rank.after}
        # a list of one's own may admit whom another rank's list does not
        keys |= {rank.key for rank in charter.ranks.values() if rank.lists}
        for place in charter.places.values():
            for term in (*place.gate.any, *place.gate.all, *place.gate.none) if place.gate else ():
                if not term.group:
                    last = self.compiled.rank_at[term.key]
                    keys |= {rank.key for rank in self.compiled.ranks[: last + 1]} if term.above else {term.key}
        return frozenset(keys)

    @cached_property
    def listed(self) -> frozenset[str]:
        """Return the acts for which some rank says on whom it lets one act (rule 6.4)."""
        return frozenset(act for rank in self.compiled.ranks for act in rank.lists)

    @cached_property
    def open(self) -> list[Rank]:
        """Return the ranks that members may join."""
        return [rank for rank in self.compiled.ranks if rank.open]

    @cached_property
    def mattering(self) -> list[Rank]:
        """Return the ranks that having leads further: what is handed on as it is held brings nothing by itself."""
        rules = self.compiled.charter.rules
        acts = [rules.act(act) for act in (Act.ASSIGN, Act.MANAGE, Act.OVERRIDES)]
        every = rules.act(Act.ASSIGN).hand_on == "any" or any(
            a.hand_on == "any" or a.over is not Over.BELOW for a in acts
        )
        ranks = (rank for rank in self.compiled.ranks if not (rank.automatic or rank.kept_by or rank.paused))
        return [rank for rank in ranks if every or rank.key in self.named]

    def _parent(self, place: int) -> int:
        return self.compiled.chains[place][-2]

    def _walk(self, automatic: tuple[int, ...], rank: int | None, carried: int, *, ranges: bool = False) -> list[int]:
        """Return what is held at each place: what other words leave, with the own words of a rank (rules 5.4 and 5.5).

        With ``ranges`` words such as ``warden+`` give what they allow and take nothing, as ranks might be moved. Places
        without own words, on the way there either, need no look at any word.
        """
        compiled = self.compiled
        # no word applies, so no walk is needed (3.4)
        if rank is not None and rank in compiled.unbounded:
            return [compiled.catalogue.everything] * len(compiled.places)
        passed = self._passed_by(automatic, ranges)
        masks = [(carried & spot.kept | spot.given) & ~spot.barred for spot in passed]
        own = None if rank is None else compiled.ranks[rank].key
        if own is None or own not in self._speaking:
            return masks
        held: dict[int, tuple[int, int]] = {}
        # only below places that speak of the rank does anything depend on which rank it is
        for n in sorted({below for place in self._speaking[own] for below in compiled.below[place]}):
            above = self._parent(n) if n else -1
            if above in held:
                mask, bars = held[above]
            elif n:
                mask, bars = carried & passed[above].kept | passed[above].given, passed[above].barred
            else:
                mask, bars = carried, 0
            allow, deny, bar = self._said(n, (*(self.compiled.ranks[spot].key for spot in automatic), own), ranges)
            mask, bars = (mask | allow) & ~deny, bars | bar
            mask |= passed[n].after
            held[n] = mask, bars
            masks[n] = mask & ~bars
        return masks

    def _passed_by(self, automatic: tuple[int, ...], ranges: bool) -> list[_Passed]:
        """Return what the words for some automatic ranks leave of a set at each place."""
        known = self._passed.get((automatic, ranges))
        if known is None:
            # the same for every rank with these automatic ones, which is nearly all of them
            keys = [self.compiled.ranks[each].key for each in sorted(automatic)]
            known = self._passed[automatic, ranges] = []
            for n, words in enumerate(self._words):
                above = known[self._parent(n)] if n else _Passed(self.compiled.catalogue.everything, 0, 0)
                after = self._allowed_from(n) if ranges and words else 0
                known.append(above.then(self._said(n, keys, ranges), after))
        return known

    def _said(self, place: int, keys: Sequence[str], ranges: bool) -> Word:
        """Return what is said at a place for some ranks together (rules 5.4 and 5.5)."""
        words, spoken = self._words[place], self.compiled.sayings_at(place)
        if ranges:
            charter = self.compiled.charter
            # where a rank could stand anywhere, only what names it outright is certain
            words = {key: self._named_at(place, key) for key in keys if key in words}
            spoken = sayings(words, charter.ranks, charter.rules.disagreement)
        allow, deny = settled(spoken.of(keys))
        bar = 0
        for key in keys:
            if key in words:
                bar |= words[key].bar
        return Word(allow, deny, bar)

    def _named_at(self, place: int, key: str) -> Word:
        """Return what is said of a rank by its own name, the ranges that cover it where it stands left aside."""
        voices = self.compiled.voices(place, key)
        return first_says([voice.word for voice in voices if voice.entry.label == key])

    def _allowed_from(self, place: int) -> int:
        """Return what ranges such as ``warden+`` allow at a place: a rank that is made may be put above their start."""
        here = self.compiled.places[place]
        sets = (override for key in here.like for override in self.compiled.charter.override_sets[key].overrides)
        words = [self.compiled.word_of(override) for override in (*here.overrides, *sets) if override.above]
        # what they deny or bar is left aside: one would stand outside of those
        return first_says([Word(allow=word.allow) for word in words]).allow

    def usable(self, mask: int, place: int) -> int:
        """Return what of a set can be used at a place (rule 5.6)."""
        known = self._usable[place].get(mask)
        if known is None:
            known = self._usable[place][mask] = usable(self.compiled, mask, place)
        return known

    def usable_everywhere(self, masks: list[int]) -> list[int]:
        """Return what of a set for each place can be used there."""
        found = [known.get(mask) for mask, known in zip(masks, self._usable, strict=True)]
        return [self.usable(masks[n], n) if each is None else each for n, each in enumerate(found)]
