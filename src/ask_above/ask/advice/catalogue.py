"""Advice about capabilities: who grants them, what they need, how they were granted."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from ask_above.ask.advice.piece import Piece, Sight, leave
from ask_above.charter.catalogue import Words
from ask_above.charter.names import listed
from ask_above.charter.where import Where
from ask_above.decide.explain import source_of
from ask_above.decide.walk import held


def undecided(sight: Sight) -> Iterator[Piece]:
    """Find capabilities that no rank grants, no place allows, and ``nobody`` does not list."""
    compiled, catalogue = sight.compiled, sight.compiled.catalogue
    given = catalogue.mask(catalogue.nobody)
    for rank in compiled.ranks:
        given |= compiled.granted(rank)
    entries = [entry for place in compiled.places for entry in (*place.overrides, *place.exceptions)]
    entries += [entry for override_set in sight.charter.override_sets.values() for entry in override_set.overrides]
    for entry in entries:
        given |= compiled.word_of(entry).allow
    for key in catalogue.names(catalogue.everything & ~given):
        capability = catalogue.capabilities[key]
        brought = f" (add-on {capability.add_on})" if capability.add_on else ""
        mend = f"grant {key} to a rank, or list it under nobody"
        commands = (f"ask-above charter add nobody {key}",)
        yield Piece("undecided", capability.where, f"no rank grants {key}{brought}", mend, (), commands)


def meant_for_nobody(sight: Sight) -> Iterator[Piece]:
    """Find what stands under ``nobody`` and is granted, or allowed at a place, all the same."""
    compiled, catalogue = sight.compiled, sight.compiled.catalogue
    nobody = catalogue.mask(catalogue.nobody)
    for rank in compiled.ranks:
        for key in catalogue.names(0 if rank.unbounded else compiled.granted(rank) & nobody):
            what = f"{rank.called} grants {key}, which 'nobody' lists"
            commands = (f"ask-above rank withhold {rank.key} {key}",)
            mend = f"withhold {key}, or remove it from 'nobody'"
            yield Piece("meant-for-nobody", source_of(compiled, rank, key)[0], what, mend, (rank.key,), commands)
    for place in compiled.places if nobody else ():
        for entry in (*place.overrides, *place.exceptions):
            given = compiled.word_of(entry).allow & nobody
            if given:
                names = listed(catalogue.names(given))
                who = sight.title(entry.of) + ("+" if entry.above else "")
                what = f"{who} is allowed {names} {sight.at_place(place)}, which 'nobody' lists"
                yield Piece(
                    "meant-for-nobody", entry.where, what, "remove it there", (), leave(compiled, place, entry, given)
                )


def needs_unmet(sight: Sight) -> Iterator[Piece]:
    """Find a granted capability whose needs its rank holds nowhere (rule 5.6)."""
    compiled, catalogue = sight.compiled, sight.compiled.catalogue
    resting = {key: rests for key in catalogue.keys if (rests := catalogue.rests_on(key)) != catalogue.bit[key]}
    mask = catalogue.mask(resting)
    number = {key: n for n, key in enumerate(catalogue.keys)}
    for rank, asked in zip(compiled.ranks, sight.asked, strict=True):
        if rank.unbounded or asked.profile is None:
            continue
        for key in catalogue.names(compiled.granted(rank) & mask):
            # all of it may come with the rank, and a place take some, which is another matter
            if not resting[key] & ~compiled.granted(rank) or sight.usable_anywhere[rank.position] >> number[key] & 1:
                continue
            places = [n for n in range(len(compiled.places)) if compiled.has_meaning(n) & catalogue.bit[key]]
            # what it grants, and places take everywhere, it has to be granted no more
            missing = _always_missing(sight, resting[key], rank.position, places) & ~compiled.granted(rank)
            if places and missing:
                names = listed(catalogue.names(missing))
                what = f"{rank.called} grants {key}, which needs {names}; the rank has that nowhere"
                mend = f"grant {rank.called} {names}, or withhold {key}"
                commands = (f"ask-above rank grant {rank.key} {' '.join(catalogue.names(missing))}",)
                yield Piece("needs-unmet", source_of(compiled, rank, key)[0], what, mend, (rank.key,), commands)


def _always_missing(sight: Sight, rests: int, rank: int, places: list[int]) -> int:
    """Return what is missing at every place of all that a capability rests on; 0 where some place has all of it."""
    profile = sight.asked[rank].profile
    missing = rests
    for place in places:
        lacking = rests & ~held(sight.compiled, profile, place, gated=False).mask if profile else rests
        if not lacking:
            return 0
        missing &= lacking
    return missing


def wildcards(sight: Sight) -> Iterator[Piece]:
    """Find patterns in grants and allows that take in high risk (rule 2.7)."""
    compiled, catalogue = sight.compiled, sight.compiled.catalogue
    risky = catalogue.mask(key for key, each in catalogue.capabilities.items() if each.risk == "high")
    for rank in compiled.ranks:
        if rank.unbounded:
            continue
        for word in _patterns(sight, rank.grants):
            covered = catalogue.expand(word) & risky & compiled.granted(rank)
            command = f"ask-above rank withhold {rank.key} {{}}"
            grants = f"{rank.called} grants"
            yield from _wild(sight, word, covered, rank.grants.where, grants, (rank.key,), command)
    for place in compiled.places:
        for entry in (*place.overrides, *place.exceptions):
            for word in _patterns(sight, entry.allow):
                grants = f"{sight.title(entry.of)} is allowed {sight.at_place(place)}"
                yield from _wild(sight, word, catalogue.expand(word) & risky, entry.where, grants, (entry.of,), "")


def _wild(
    sight: Sight, word: str, covered: int, where: Where, said: str, concerned: tuple[str, ...], command: str
) -> Iterator[Piece]:
    if covered:
        names = listed(sight.compiled.catalogue.names(covered))
        commands = (command.format(" ".join(sight.compiled.catalogue.names(covered))),) if command else ()
        what = f"{said} {word}, which includes {names} (high risk)"
        yield Piece("wildcard-high-risk", where, what, f"name {names}, or withhold it", concerned, commands)


def _patterns(sight: Sight, words: Words | Iterable[str]) -> Iterator[str]:
    """Yield the patterns among words, those in bundles included."""
    for word in words:
        if word.endswith("*"):
            yield word
        elif word in sight.compiled.catalogue.bundles:
            yield from _patterns(sight, sight.compiled.catalogue.bundles[word].words)
