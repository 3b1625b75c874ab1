"""Changed copies of a charter, one small change at a time; the charter itself stays as it is.

Nothing here checks who may make a change, or writes a file: these are the changes themselves.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from ask_above.charter.catalogue import Catalogue, Words
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.places import Gate, Override, Place
from ask_above.charter.rules import ActRule


def with_rank(charter: Charter, rank: Rank) -> Charter:
    """Put a rank in the place of the one with its key."""
    return charter._replace(ranks={**charter.ranks, rank.key: rank})


def in_order(charter: Charter, keys: Sequence[str]) -> Charter:
    """Put the ranks into this order, highest first."""
    return charter._replace(ranks={key: charter.ranks[key]._replace(position=n) for n, key in enumerate(keys)})


def moved(charter: Charter, rank: str, *, above: str | None = None, below: str | None = None) -> Charter:
    """Move a rank directly above or below another."""
    keys = [key for key in charter.ranks if key != rank]
    at = keys.index(above) if above is not None else keys.index(below or "") + 1
    return in_order(charter, [*keys[:at], rank, *keys[at:]])


def with_place(charter: Charter, place: Place) -> Charter:
    """Put a place in the place of the one with its key."""
    return charter._replace(places={**charter.places, place.key: place})


def with_gate(charter: Charter, place: str, gate: Gate | None) -> Charter:
    """Give a place another gate, or none."""
    return with_place(charter, charter.places[place]._replace(gate=gate))


def with_act(charter: Charter, rule: ActRule) -> Charter:
    """Set what an act takes."""
    return charter._replace(rules=charter.rules._replace(acts={**charter.rules.acts, rule.act: rule}))


def without(catalogue: Catalogue, words: Words, mask: int) -> Words:
    """Return words that name what these do, less a set: a word that names some of it is written out for the rest."""
    kept: list[str] = []
    for word in words:
        named = catalogue.expand(word)
        kept += catalogue.names(named & ~mask) if named & mask else [word]
    return Words(tuple(dict.fromkeys(kept)), words.where)


def adding(words: Words, names: Iterable[str]) -> Words:
    """Return words with some names more."""
    return Words(tuple(dict.fromkeys((*words, *names))), words.where)


def granting(charter: Charter, rank: str, names: Sequence[str]) -> Charter:
    """Grant capabilities to a rank, and withhold nothing of them or of what they imply."""
    catalogue, here = charter.catalogue, charter.ranks[rank]
    given = catalogue.close(catalogue.mask(names))
    carried = catalogue.close(catalogue.expand_all(here.grants))
    missing = [name for name in names if not carried & catalogue.bit[name]]
    grants = adding(here.grants, missing) if missing else here.grants
    return with_rank(charter, here._replace(grants=grants, withhold=without(catalogue, here.withhold, given)))


def withholding(charter: Charter, rank: str, names: Sequence[str]) -> Charter:
    """Withhold capabilities from a rank: take them out of its grants, withhold what comes another way."""
    catalogue, here = charter.catalogue, charter.ranks[rank]
    mask = catalogue.mask(names)
    grants = without(catalogue, here.grants, mask)
    comes = catalogue.close(catalogue.expand_all(grants))
    if here.builds_on:
        comes |= mask
    return with_rank(
        charter, here._replace(grants=grants, withhold=adding(here.withhold, catalogue.names(comes & mask)))
    )


def saying(
    charter: Charter, place: str, of: str, word: str, names: Sequence[str], *, above: bool = False, member: bool = False
) -> Charter:
    """Let a place say something of some capabilities for a rank, a group or, with ``member``, a member.

    ``word`` is allow, deny or bar; ``clear`` takes what is said of them back. An entry with nothing left goes.
    """
    catalogue, here = charter.catalogue, charter.places[place]
    entries = here.exceptions if member else here.overrides
    old = next((each for each in entries if (each.of, each.above) == (of, above)), None)
    entry = _said(catalogue, old or Override(of, above), word, names)
    kept = [entry if each is old else each for each in entries] if old else [*entries, entry]
    left = tuple(each for each in kept if each.allow or each.deny or each.bar)
    return with_place(charter, here._replace(exceptions=left) if member else here._replace(overrides=left))


def _said(catalogue: Catalogue, entry: Override, word: str, names: Sequence[str]) -> Override:
    """Return an entry that says a word of some capabilities, and nothing that goes against it (rule 2.6)."""
    mask = catalogue.mask(names)
    given = catalogue.close(mask)
    if word == "allow":
        allow = adding(entry.allow, names)
        return entry._replace(
            allow=allow, deny=without(catalogue, entry.deny, given), bar=without(catalogue, entry.bar, given)
        )
    allow = _not_giving(catalogue, entry.allow, mask) if word != "clear" else without(catalogue, entry.allow, mask)
    deny, bar = without(catalogue, entry.deny, mask), without(catalogue, entry.bar, mask)
    if word == "deny":
        deny = adding(deny, names)
    elif word == "bar":
        bar = adding(bar, names)
    return entry._replace(allow=allow, deny=deny, bar=bar)


def _not_giving(catalogue: Catalogue, words: Words, mask: int) -> Words:
    """Return words that give none of a set, by name or by what they imply; the rest of what they give stays."""
    given = catalogue.close(catalogue.expand_all(words))
    if not given & mask:
        return words
    bringing = catalogue.mask(name for name in catalogue.names(given) if catalogue.close(catalogue.bit[name]) & mask)
    kept = given & ~bringing
    trimmed = without(catalogue, words, bringing)
    missing = kept & ~catalogue.close(catalogue.expand_all(trimmed))
    return adding(trimmed, catalogue.names(missing))
