"""Advice about places: entries without effect, drift, gates, who can see what."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from ask_above.ask.advice.piece import Piece, Sight, leave, to_entry
from ask_above.charter.moments import Instant
from ask_above.charter.names import few, listed
from ask_above.charter.places import Override, Place
from ask_above.charter.rules import Act
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.layers import Word
from ask_above.decide.walk import held, passes

_SEEING = frozenset({"see", "view", "read", "enter"})
"""Last words of capabilities that let one into a place."""


def deny_reaches_up(sight: Sight) -> Iterator[Piece]:
    """Find a deny for an automatic rank that takes from ranks above what they grant (rule 5.4a)."""
    compiled = sight.compiled
    for n, place in enumerate(compiled.places):
        if not place.overrides and not place.like:
            continue
        words = compiled.words_at(n)
        for key, word in words.items():
            rank = sight.charter.ranks.get(key)
            if rank is None or not rank.automatic or not word.deny:
                continue
            for name, losing in _losing(sight, n, rank.position, word, words).items():
                entry = compiled.voices(n, key)[0].entry
                titles = few((sight.title(each) for each in losing), 5)
                lose = "lose" if losing[1:] else "loses"
                what = f"{rank.called} is denied {name} {sight.at_place(place)}, so {titles} {lose} it too"
                mend = f"allow {name} there to {losing[-1]}+, or to the ranks that should keep it"
                commands = (f"ask-above place override {place.key} {losing[-1]}+ --allow {name}",)
                yield Piece("deny-reaches-up", entry.where, what, mend, tuple(losing), commands)


def _losing(sight: Sight, place: int, automatic: int, word: Word, words: dict[str, Word]) -> dict[str, list[str]]:
    """Return what ranks above grant, would hold at a place, and lose there by the word of an automatic rank alone."""
    compiled, losers = sight.compiled, dict[str, list[str]]()
    chain = compiled.chains[place]
    carrying = {n for name in compiled.catalogue.names(word.deny) for n in sight.carriers[name] if n < automatic}
    for rank in map(compiled.ranks.__getitem__, sorted(carrying)):
        own = words.get(rank.key, Word())
        mask = compiled.granted(rank) & word.deny & ~(own.allow | own.deny | own.bar)
        profile = sight.asked[rank.position].profile
        if not mask or rank.unbounded or rank.automatic or rank.entry or profile is None:
            continue
        reckoner = sight.decider.reckoner
        if len(chain) > 1:
            mask &= reckoner.held(profile, chain[-2], gated=False).mask
        if mask:  # what is not held above cannot be lost here
            mask &= ~reckoner.held(profile, place, gated=False).mask
        for name in compiled.catalogue.names(mask):
            losers.setdefault(name, []).append(rank.key)
    return losers


def without_effect(sight: Sight) -> Iterator[Piece]:
    """Find overrides and exceptions that change nothing."""
    meaningful, spoken = _meaningful(sight), _Spoken(sight)
    for n, place in enumerate(sight.compiled.places):
        for entry in place.overrides:
            yield from _for_unbounded(sight, place, entry)
        for entry in place.exceptions:
            if entry.speaks and entry.of in sight.unbounded_members:
                what = f"the exception for {sight.title(entry.of)} {sight.at_place(place)} has no effect on them"
                mend = "remove the exception, or unassign the unbounded rank"
                clear = (to_entry(place, entry, "--clear"),)
                yield Piece("no-effect-unbounded", entry.where, what, mend, (f"@{entry.of}",), clear)
        for entry in (*place.overrides, *place.exceptions):
            beyond = spoken.mask(entry) & ~meaningful[n]
            vain = sight.compiled.catalogue.names(_in_vain(sight, entry, beyond)) if beyond else ()
            if vain:
                what = f"{listed(vain)} for {sight.spoken(entry)} {sight.at_place(place)} does not apply there"
                mend = f"remove {listed(vain)} from that override"
                out = (to_entry(place, entry, f"--leave {','.join(vain)}"),)
                yield Piece("no-effect-kind", entry.where, what, mend, (entry.of,), out)
            repeated = sight.compiled.catalogue.names(_repeated(spoken, n, entry))
            if repeated:
                whose = f"{sight.spoken(entry)} {sight.at_place(place)}"
                what = f"the override for {whose} repeats {listed(repeated)} from above"
                mend = f"remove {listed(repeated)} from it"
                commands = leave(sight.compiled, place, entry, _repeated(spoken, n, entry))
                yield Piece("no-effect-repeated", entry.where, what, mend, (entry.of,), commands)


def _for_unbounded(sight: Sight, place: Place, entry: Override) -> Iterator[Piece]:
    rank = sight.charter.ranks.get(entry.of)
    if entry.speaks and rank is not None and rank.unbounded and not entry.above:
        what = f"the override for {rank.called} {sight.at_place(place)} has no effect: {rank.called} is unbounded"
        commands = (to_entry(place, entry, "--clear"),)
        yield Piece("no-effect-unbounded", entry.where, what, "remove the override", (rank.key,), commands)


def _in_vain(sight: Sight, entry: Override, beyond: int) -> int:
    """Return what an entry names one by one and is all ``beyond``, with what it implies where it is allowed.

    A pattern may well name some in vain.
    """
    catalogue, vain = sight.compiled.catalogue, 0
    for word in (*entry.allow, *entry.deny, *entry.bar):
        bit = catalogue.bit.get(word, 0)
        brought = catalogue.close(bit) if word in entry.allow else bit
        vain |= 0 if brought & ~beyond else bit
    return vain


def _meaningful(sight: Sight) -> list[int]:
    """Return, for each place, what matters there or in any place in it: what has a meaning, and all it rests on."""
    compiled = sight.compiled
    by_kind: dict[tuple[str, bool], int] = {}
    result = [0] * len(compiled.places)
    for n in range(len(compiled.places)):
        kind = (compiled.places[n].kind, n > 0)
        if kind not in by_kind:
            mask = 0
            for key in compiled.catalogue.names(compiled.has_meaning(n)):
                mask |= compiled.rests(key, n)
            by_kind[kind] = mask
        for above in compiled.chains[n]:
            result[above] |= by_kind[kind]
    return result


class _Spoken:
    """What each place says anything of, to anyone; ``but`` one entry."""

    def __init__(self, sight: Sight) -> None:
        self.sight, self.compiled = sight, sight.compiled
        self.all: list[int] = []
        self.twice: list[int] = []
        for place in sight.compiled.places:
            total = again = 0
            sets = (e for key in place.like for e in sight.charter.override_sets[key].overrides)
            for entry in (*place.overrides, *place.exceptions, *sets):
                mask = self.mask(entry)
                again |= total & mask
                total |= mask
            self.all.append(total)
            self.twice.append(again)

    def mask(self, entry: Override) -> int:
        """Return what an entry says anything of."""
        word = self.compiled.word_of(entry)
        return word.allow | word.deny | word.bar

    def but(self, place: int, entry: Override) -> int:
        """Return what a place says anything of by other entries."""
        return (self.all[place] & ~self.mask(entry)) | self.twice[place]


def _repeated(spoken: _Spoken, place: int, entry: Override) -> int:
    """Return what an entry says that is so without it: what the next place above says of it to the same, alone."""
    compiled, word = spoken.compiled, spoken.compiled.word_of(entry)
    left = (word.allow | word.deny) & ~spoken.but(place, entry)
    repeated = 0
    for above in reversed(compiled.chains[place][:-1]) if left else ():
        if not left & spoken.all[above]:
            continue
        same = next(
            (e for e in _entries(compiled.places[above], entry, compiled.places[place]) if e.label == entry.label), None
        )
        if same is not None:
            other = compiled.word_of(same)
            agreed = (word.allow & other.allow) | (word.deny & other.deny)
            repeated |= left & agreed & ~spoken.but(above, same)
        left &= ~spoken.all[above]
    rank = compiled.charter.ranks.get(entry.of)
    if rank is not None and not entry.above:
        repeated |= left & word.allow & compiled.granted(rank)
    return repeated


def _entries(above: Place, entry: Override, here: Place) -> tuple[Override, ...]:
    return above.exceptions if any(exception is entry for exception in here.exceptions) else above.overrides


def beats_exception(sight: Sight) -> Iterator[Piece]:
    """Find an entry for an automatic rank that beats a personal exception given further up (rule 5.4)."""
    compiled = sight.compiled
    for n, place in enumerate(compiled.places):
        for exception in place.exceptions:
            word = compiled.word_of(exception)
            for below in compiled.below[n][1:]:
                yield from _beaten(sight, n, below, exception, word)


def _beaten(sight: Sight, given: int, below: int, exception: Override, word: Word) -> Iterator[Piece]:
    compiled = sight.compiled
    between = [n for n in compiled.chains[below] if n > given and n in compiled.below[given]]
    again = 0
    for n in between:
        own = compiled.exception(n, exception.of)
        if own is not None:
            own_word = compiled.word_of(own)
            again |= own_word.allow | own_word.deny
    for entry in compiled.places[below].overrides:
        rank = sight.charter.ranks.get(entry.of)
        if rank is None or rank.held_by not in ("anyone", "members"):
            continue
        said_below = compiled.word_of(entry)
        against = ((word.allow & said_below.deny) | (word.deny & said_below.allow)) & ~again
        if against:
            names = listed(compiled.catalogue.names(against))
            who, where = sight.title(exception.of), sight.at_place(compiled.places[below])
            what = f"the override of {names} for {rank.called} {where} ends the exception for {who} {_in(sight, given)}"
            mend = f"repeat the exception for {exception.of} {where}"
            said_of = [("allow", word.allow & against), ("deny", word.deny & against)]
            words = " ".join(f"--{how} {','.join(compiled.catalogue.names(mask))}" for how, mask in said_of if mask)
            commands = (to_entry(compiled.places[below], exception, words, personal=True),)
            yield Piece("beats-exception", entry.where, what, mend, (f"@{exception.of}",), commands)


def _in(sight: Sight, place: int) -> str:
    return sight.at_place(sight.compiled.places[place])


class Opposite(NamedTuple):
    """An entry of a place that says the opposite of what the place ``above`` says to the same rank or group."""

    entry: Override
    above: int
    turned: int


def opposites(compiled: CompiledCharter) -> dict[int, list[Opposite]]:
    """Return, by place, the entries that say the opposite of what the nearest place above says of the same."""
    by_place: dict[int, list[Opposite]] = {}
    words_of = [
        {entry.label: compiled.word_of(entry) for entry in reversed(place.overrides)} for place in compiled.places
    ]
    for n, place in enumerate(compiled.places):
        for entry in place.overrides:
            word, settled, label = compiled.word_of(entry), 0, entry.label
            for above in reversed(compiled.chains[n][:-1]):
                other = words_of[above].get(label)
                if other is None:
                    continue
                turned = ((word.allow & other.deny) | (word.deny & other.allow)) & ~settled
                settled |= other.allow | other.deny
                if turned:
                    by_place.setdefault(n, []).append(Opposite(entry, above, turned))
    return by_place


def drifted(sight: Sight) -> Iterator[Piece]:
    """Find a place that says the opposite of what the nearest place above says to the same rank or group."""
    compiled = sight.compiled
    for n, entries in opposites(compiled).items():
        for entry, above, turned in entries:
            names = listed(compiled.catalogue.names(turned))
            section = compiled.places[above].called
            what = f"{compiled.places[n].called} contradicts {section} on {names} for {sight.spoken(entry)}"
            mend = f"remove {names} from that override, so that it follows {section}"
            commands = leave(compiled, compiled.places[n], entry, turned)
            yield Piece("drifted", entry.where, what, mend, (entry.of,), commands)


def seeing_denied(sight: Sight) -> Iterator[Piece]:
    """Find a place that denies being seen while other capabilities there do not rest on that (rule 5.6)."""
    compiled, catalogue = sight.compiled, sight.compiled.catalogue
    if sight.charter.rules.seeing is not None:
        return
    seeing = catalogue.mask(key for key in catalogue.keys if key.split(".")[-1] in _SEEING)
    for n, place in enumerate(compiled.places):
        for entry in place.overrides:
            rank = sight.charter.ranks.get(entry.of)
            denied = compiled.word_of(entry).deny & seeing
            if rank is None or not rank.automatic or not denied or n == 0:
                continue
            profile = sight.asked[rank.position].profile
            name = catalogue.names(denied)[0]
            can = sight.decider.reckoner.usable(profile, n) if profile else 0
            free = [key for key in catalogue.names(can) if not catalogue.rests_on(key) & denied]
            if free:
                what = f"{rank.called} may not use {name} {sight.at_place(place)}, but may use {listed(free)} there"
                commands = (f"ask-above charter set rules.seeing {name}",)
                yield Piece("seeing-denied", entry.where, what, f"set rules.seeing to {name}", (rank.key,), commands)


def gates(sight: Sight) -> Iterator[Piece]:
    """Find gates that admit nobody, or not the ranks which may change the place (rule 5.3)."""
    compiled = sight.compiled
    using = compiled.charter.rules.act(Act.OVERRIDES).using
    managing = compiled.catalogue.mask(using)
    for n in sorted(compiled.gated):
        place = compiled.places[n]
        where = place.gate.where if place.gate else place.where
        if sight.active > 1 and not _anyone_passes(sight, n):
            what = f"the gate of {place.called} admits no active member"
            commands = (f"ask-above place gate {place.key} --clear",)
            yield Piece("gate-nobody", where, what, "require a group or rank that a member has", (), commands)
        for rank, asked in zip(compiled.ranks, sight.asked, strict=True):
            if rank.unbounded or asked.profile is None or passes(compiled, asked.profile, n):
                continue
            if held(compiled, asked.profile, n, gated=False).mask & managing:
                what = f"the gate of {place.called} excludes {rank.called}, which may change the place"
                mend = f"admit {rank.called} at the gate, or silence this advice"
                yield Piece("gate-shuts-keepers", where, what, mend, (rank.key,))


def passed(decider: Decider, member: str, at: Instant) -> frozenset[int]:
    """Return the places with a gate that admits a member, by number; none for whoever is not active."""
    asked, compiled = decider.people.ask(member, at), decider.compiled
    profile = asked.profile if asked.is_active else None
    return frozenset(n for n in compiled.gated if profile is not None and passes(compiled, profile, n))


def _anyone_passes(sight: Sight, place: int) -> bool:
    return any(
        asked.is_active
        and asked.profile is not None
        and not sight.unbounded_members.issuperset(keys)
        and passes(sight.compiled, asked.profile, place)
        for asked, keys in sight.alike
    )
