"""The charter made ready for questions: ranks and places as numbers, sets of capabilities as bits.

It holds nothing about members and no moment; all of it follows from the charter alone.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from copy import copy
from typing import NamedTuple

from ask_above.charter.catalogue import Catalogue, Words, content
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import RANK_LOOKS, Rank
from ask_above.charter.places import Override
from ask_above.decide.kept import Keeper
from ask_above.decide.ladder import Ladder
from ask_above.decide.layers import Entrance, LayerName, Saying, Sayings, Word, entrance, first_says, sayings


class Voice(NamedTuple):
    """One entry that speaks for a rank or group at a place, by itself or in an override set."""

    entry: Override
    word: Word


class Resting(NamedTuple):
    """What all capabilities rest on at a place (``seen``), and which have a meaning there.

    Those in ``some`` rest on more; ``more`` says on what in all, by their bits, and ``known`` keeps that of several.
    """

    seen: int
    meaning: int
    some: int
    more: dict[int, int]
    known: dict[int, int]

    def of(self, mask: int) -> int:
        """Return what all in a set of some rest on."""
        rested = self.known.get(mask)
        if rested is None:
            rested, left = 0, mask
            while left:
                bit = left & -left
                left ^= bit
                rested |= self.more[bit]
            self.known[mask] = rested
        return rested


def carried_sets(ranks: Sequence[Rank], catalogue: Catalogue) -> list[int]:
    """Return what each rank grants (rule 3.1): its grants, closed, and what it builds on, less what it withholds.

    What a rank that it builds on grants is taken over as it is and not closed again: nobody gets from a rank more
    than its own holders get.
    """
    by_key = {rank.key: rank for rank in ranks}
    known: dict[str, int] = {}

    def carried(rank: Rank) -> int:
        if rank.key not in known:
            total = catalogue.close(catalogue.expand_all(rank.grants))
            for key in rank.builds_on:
                total |= carried(by_key[key])
            known[rank.key] = total & ~catalogue.expand_all(rank.withhold)
        return known[rank.key]

    return [carried(rank) for rank in ranks]


_UNFRAMED = frozenset(
    ["key", "title", "owner", "ranks", "places", "catalogue", "override_sets", "perks", "expectations", "add_ons"]
)
"""The fields of a charter on which no answer rests, or which are compared piece by piece."""
_BARE = {name: Rank._field_defaults[name] for name in (*RANK_LOOKS, "where", "grants", "withhold", "builds_on")}
"""The fields of a rank on which no answer rests, or that come down to what it grants, each as where it is left out."""


class CompiledCharter(Keeper):
    """A charter in the form that questions are answered from.

    Ranks are numbered by their position on the ladder, 0 the highest; places in the charter's order, 0 the site.
    """

    def __init__(self, charter: Charter) -> None:
        super().__init__()
        self.charter = charter
        self.catalogue = charter.catalogue
        self.ladder = Ladder(charter.ranks.values())
        self.ranks, self.rank_at = self.ladder.ranks, self.ladder.number
        self.carried = carried_sets(self.ranks, self.catalogue)
        self.unbounded = frozenset(rank.position for rank in self.ranks if rank.unbounded)
        self.automatic = {
            by: tuple(rank.position for rank in self.ranks if rank.held_by == by)
            for by in ("anyone", "visitors", "members", "bots")
        }
        self.entry = next((rank.position for rank in self.ranks if rank.entry), None)
        self._set_up_places()
        self._voices: list[dict[str, tuple[Voice, ...]]] = [{} for _ in self.places]
        self._words: list[dict[str, Word] | None] = [None] * len(self.places)
        self._sayings: list[Sayings | None] = [None] * len(self.places)
        self._entrances: dict[int, Entrance] = {}
        self._allowed: dict[str, int] | None = None
        self._entries: dict[int, tuple[Override, Word]] = {}
        self._rests: dict[str, tuple[int, int]] = {}
        self._resting: list[Resting | None] = [None] * len(self.places)
        self._resting_by_form: dict[tuple[str, bool], Resting] = {}

    def after(self, charter: Charter) -> tuple[CompiledCharter, frozenset[int]] | None:
        """Return the form of a charter that differs in what places say alone, and the places that this touches.

        ``None`` where more than that differs. All that follows from the rest is shared with this one.
        """
        old = self.charter
        fields = (field for field in charter._fields if field not in ("places", "expectations", "title"))
        # by identity: to compare two large charters piece by piece would cost as much as to compile one
        if any(getattr(old, field) is not getattr(charter, field) for field in fields):
            return None
        places, before = tuple(charter.places.values()), tuple(old.places.values())
        if len(places) != len(before):
            return None
        changed = [n for n, place in enumerate(places) if place is not before[n]]
        if any((places[n].key, places[n].kind, places[n].parent) != self._place_form(n) for n in changed):
            return None
        other = copy(self)
        other.charter = charter
        other._name_places()
        other._voices, other._words, other.exceptions = list(self._voices), list(self._words), list(self.exceptions)
        other._sayings, other._allowed = list(self._sayings), None
        other._entrances = {n: each for n, each in self._entrances.items() if n not in changed}
        for n in changed:
            other._voices[n], other._words[n], other._sayings[n] = {}, None, None
            other.exceptions[n] = {entry.of: entry for entry in places[n].exceptions}
        if any(other.exceptions[n].keys() != self.exceptions[n].keys() for n in changed):
            other.exceptional = frozenset(member for entries in other.exceptions for member in entries)
        if any((places[n].gate is None) != (self.places[n].gate is None) for n in changed):
            other.gated = frozenset(n for n, place in enumerate(places) if place.gate)
        self._hand_on(other)
        return other, frozenset(below for n in changed for below in self.below[n])

    def differing(self, other: CompiledCharter) -> frozenset[str] | None:
        """Return the ranks, groups and members (``@key``) to whom another charter grants or says something else.

        Whoever has and is none of them has the same answers. ``None`` where more differs than grants and words, or
        these are everybody's, or of an act: then anybody's answers may be others.
        """
        if self is other:
            return frozenset()
        if not self._is_framed_as(other):
            return None
        using = self.catalogue.mask(key for rule in self.charter.rules.acts.values() for key in rule.using)
        apart = set[str]()
        for rank, one, two in zip(self.ranks, self.carried, other.carried, strict=True):
            if (one ^ two) & using:
                return None
            apart |= {rank.key} if one != two else set()
        for n in range(len(self.places)):
            apart.update(key for key, _ in self._said(n).items() ^ other._said(n).items())
        # whoever might join a rank is concerned by it too
        common = (rank for rank in self.ranks if rank.automatic or rank.entry or rank.may_be_joined)
        return None if any(rank.key in apart for rank in common) else frozenset(apart)

    def _said(self, place: int) -> dict[str, Word]:
        """Return what is said at a place of ranks, groups and members."""
        own = {f"@{key}": self.word_of(entry) for key, entry in self.exceptions[place].items()}
        return self.words_at(place) | own if own else self.words_at(place)

    def _is_framed_as(self, other: CompiledCharter) -> bool:
        """Whether all that answers rest on is the same, but for what ranks grant and what is said at places."""
        one, two = self.charter, other.charter
        pairs = [(getattr(one, name), getattr(two, name)) for name in one._fields if name not in _UNFRAMED]
        if one.catalogue is not two.catalogue:
            pairs.append((one.catalogue.capabilities, two.catalogue.capabilities))
        # a capability is a bit by its number, a place an item of a list
        ordered = (list(self.place_at), one.catalogue.keys), (list(other.place_at), two.catalogue.keys)
        if len(self.ranks) != len(other.ranks) or ordered[0] != ordered[1]:
            return False
        ranks = zip(self.ranks, other.ranks, strict=True)
        pairs += [(was._replace(**_BARE), now._replace(**_BARE)) for was, now in ranks if was is not now]
        places = ((was, now) for was, now in zip(self.places, other.places, strict=True) if was is not now)
        pairs += [((was.kind, was.parent, was.gate), (now.kind, now.parent, now.gate)) for was, now in places]
        return all(was is now or content(was) == content(now) for was, now in pairs)

    def allowed_anywhere(self) -> dict[str, int]:
        """Return what some place allows to each rank and group, wherever that is."""
        if self._allowed is None:
            self._allowed = {}
            for n in range(len(self.places)):
                for key, word in self.words_at(n).items():
                    self._allowed[key] = self._allowed.get(key, 0) | word.allow
        return self._allowed

    def granted(self, rank: Rank | str) -> int:
        """Return what a rank grants, given itself or by its key (rule 3.1)."""
        return self.carried[rank.position if isinstance(rank, Rank) else self.rank_at[rank]]

    def _place_form(self, place: int) -> tuple[str, str, str | None]:
        here = self.places[place]
        return here.key, here.kind, here.parent

    def _name_places(self) -> None:
        self.places, self.named = tuple(self.charter.places.values()), self.charter.places

    def _set_up_places(self) -> None:
        self._name_places()
        self.place_at = {place.key: n for n, place in enumerate(self.places)}
        self.chains: list[tuple[int, ...]] = []
        self.below: list[list[int]] = [[] for _ in self.places]
        for n, place in enumerate(self.places):
            above = () if place.parent is None else self.chains[self.place_at[place.parent]]
            self.chains.append((*above, n))
            for each in self.chains[n]:
                self.below[each].append(n)
        self.meaning = {kind: self._meaning(kind) for kind in {place.kind for place in self.places}}
        self.exceptions = [{entry.of: entry for entry in place.exceptions} for place in self.places]
        # whoever is named anywhere is a class of their own, wherever they are asked about
        self.exceptional = frozenset(member for entries in self.exceptions for member in entries)
        self.gated = frozenset(n for n, place in enumerate(self.places) if place.gate)

    def _meaning(self, kind: str) -> int:
        capabilities = self.catalogue.capabilities.values()
        return self.catalogue.mask(capability.key for capability in capabilities if capability.has_meaning_in(kind))

    def has_meaning(self, place: int) -> int:
        """Return the capabilities that have a meaning at a place (rule 5.6)."""
        return self.meaning[self.places[place].kind]

    def rests(self, capability: str, place: int) -> int:
        """Return what must be held for a capability to be usable at a place (rule 5.6)."""
        known = self._rests.get(capability)
        if known is None:
            seeing = self.charter.rules.seeing
            known = self._rests[capability] = (
                self.catalogue.rests_on(capability),
                self.catalogue.rests_on(capability, beside=seeing),
            )
        return known[place > 0]

    def resting(self, place: int) -> Resting:
        """Return what capabilities rest on at a place, and have a meaning there (rule 5.6)."""
        known = self._resting[place]
        if known is None:
            form = self.places[place].kind, place > 0
            known = self._resting_by_form.get(form)
            if known is None:
                known = self._resting_by_form[form] = self._find_resting(place)
            self._resting[place] = known
        return known

    def _find_resting(self, place: int) -> Resting:
        seeing = self.charter.rules.seeing
        seen = self.rests(seeing, place) if place and seeing else 0
        rests = {bit: self.rests(key, place) for key, bit in self.catalogue.bit.items()}
        more = {bit: found for bit, found in rests.items() if found & ~seen & ~bit}
        return Resting(seen, self.has_meaning(place), sum(more), more, {})

    def word_of(self, entry: Override) -> Word:
        """Return what an entry says: what it allows is closed, what it takes is exact (rules 2.4 and 2.5)."""
        known = self._entries.get(id(entry))
        if known is None:
            give = self.catalogue.close(self._expand(entry.allow))
            word = Word(give, self._expand(entry.deny), self._expand(entry.bar))
            # the entry is kept beside its word, so that no other can come to have its id
            known = self._entries[id(entry)] = (entry, word)
        return known[1]

    def _expand(self, words: Words) -> int:
        return self.catalogue.expand_all(words) if words.words else 0

    def voices(self, place: int, holder: str) -> tuple[Voice, ...]:
        """Return the entries that speak for a rank or group at a place, the one that speaks first in front (rule 5.4).

        That is its own entry, then the ranges that cover it, the one starting nearest to it first; then the override
        sets that the place is like, each in the same way.
        """
        known = self._voices[place].get(holder)
        if known is None:
            known = self._voices[place][holder] = tuple(self._find_voices(place, holder))
        return known

    def _find_voices(self, place: int, holder: str) -> Iterator[Voice]:
        here = self.places[place]
        sources = [here.overrides, *(self.charter.override_sets[key].overrides for key in here.like)]
        position = self.rank_at.get(holder)
        for entries in sources:
            yield from (Voice(entry, self.word_of(entry)) for entry in entries if entry.label == holder)
            if position is not None:
                # a range covers its start and all above it: those whose start stands level or lower (2.6)
                ranges = [entry for entry in entries if entry.above and self.rank_at[entry.of] >= position]
                # nearest start first: the smaller range is the closer word
                ranges.sort(key=lambda each: self.rank_at[each.of])
                yield from (Voice(each, self.word_of(each)) for each in ranges)

    def words_at(self, place: int) -> dict[str, Word]:
        """Return the word of every rank and group that has one at a place; most places have few."""
        known = self._words[place]
        if known is None:
            words = {holder: first_says([v.word for v in self.voices(place, holder)]) for holder in self._spoken(place)}
            # a holder whose entries come down to nothing is not kept: walking looks at every key that is there
            known = self._words[place] = {holder: word for holder, word in words.items() if any(word)}
        return known

    def sayings_at(self, place: int) -> Sayings:
        """Return what is said for ranks and groups at a place, in the order in which it counts (rule 5.4)."""
        known = self._sayings[place]
        if known is None:
            rules = self.charter.rules
            known = self._sayings[place] = sayings(self.words_at(place), self.charter.ranks, rules.disagreement)
        return known

    def own_saying(self, place: int, member: str | None) -> Saying | None:
        """Return what a member's own exception says at a place, over all else there (rule 5.4)."""
        entry = self.exception(place, member)
        if entry is None:
            return None
        word = self.word_of(entry)
        return Saying(LayerName.MEMBER, entry.of, word.allow & ~word.deny, word.deny)

    def entrance(self, place: int) -> Entrance | None:
        """Return what the gate of a place asks for, ``None`` where there is no gate (rule 5.3)."""
        gate = self.places[place].gate
        if gate is None:
            return None
        known = self._entrances.get(place)
        if known is None:
            known = self._entrances[place] = entrance(gate, self.charter.ranks)
        return known

    def _spoken(self, place: int) -> set[str]:
        """Return the ranks and groups that an entry of the place or of its sets covers."""
        here = self.places[place]
        entries = [*here.overrides, *(e for key in here.like for e in self.charter.override_sets[key].overrides)]
        covered = {entry.of for entry in entries if not entry.above}
        lowest = max((self.rank_at[entry.of] for entry in entries if entry.above), default=-1)
        return covered.union(rank.key for rank in self.ranks[: lowest + 1])

    def exception(self, place: int, member: str | None) -> Override | None:
        """Return the exception for a member at a place."""
        if member is None:
            return None
        return self.exceptions[place].get(member)
