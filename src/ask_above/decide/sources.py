"""Where a rank has a capability from: its own words, or a rank that it builds on (rule 3.1)."""

from __future__ import annotations

from ask_above.charter.ladder import Rank
from ask_above.charter.where import Where
from ask_above.decide.compiled import CompiledCharter


def source_of(compiled: CompiledCharter, rank: Rank, capability: str) -> tuple[Where, str]:
    """Return where a rank has a capability from, and how it says so: builds-on, then bundle or pattern."""
    catalogue = compiled.catalogue
    words = catalogue.carriers(rank.grants, capability)
    if words:
        best = capability if capability in words else words[0]
        return rank.grants.where, _through(compiled, best, capability)
    for key in rank.builds_on:
        base = compiled.charter.ranks[key]
        if compiled.carried[base.position] & catalogue.bit[capability]:
            where, how = source_of(compiled, base, capability)
            return where, f", through {base.title}{how}"
    return rank.where, ""


def _through(compiled: CompiledCharter, word: str, capability: str) -> str:
    """Say which word of ``grants`` it is that brings a capability, where it is not its own name."""
    if word == capability:
        return ""
    catalogue = compiled.catalogue
    what = "the bundle " if word in catalogue.bundles else "the pattern " if word.endswith("*") else ""
    direct = catalogue.expand(word) & catalogue.bit[capability]
    return f", by {what}{word}" if direct else f", implied by {what}{word}"
