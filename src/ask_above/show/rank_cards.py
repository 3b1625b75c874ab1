"""A rank as a card: three sentences, and what it may by heading, told apart by what it has it from."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ask_above.ask.describe.describer import Describer
from ask_above.ask.describe.sentences import doing, under_headings
from ask_above.charter.ladder import Rank
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.profile import ask_anybody

_FIRST = 2
"""How many things are told of what one has from elsewhere before it is opened."""


def card(describer: Describer, rank: Rank) -> dict[str, Any]:
    """Return a rank's card as plain data."""
    compiled = describer.compiled
    return {
        "key": rank.key,
        "title": rank.title,
        "color": rank.color or "",
        "place": rank.position + 1,
        "holders": len(describer.holders[rank.key]),
        "automatic": rank.automatic,
        "sentences": describer.card(rank),
        "rights": [*_rights(compiled, rank)],
        "elsewhere": describer.elsewhere(rank),
    }


def _rights(compiled: CompiledCharter, rank: Rank) -> Iterator[dict[str, Any]]:
    """Yield what a rank grants by where it comes from: itself, the ranks it builds on, automatic ranks."""
    if rank.unbounded:
        return
    carried, common = compiled.granted(rank), 0
    for holding in ask_anybody(compiled).holdings:
        common |= compiled.carried[holding.rank]
    through = 0
    for key in rank.builds_on:
        through |= compiled.granted(key)
    own = carried & ~through
    beyond = carried & through & ~own
    if rank.automatic:
        yield from _part(compiled, "", carried)
        return
    yield from _part(compiled, "", own)
    titles = compiled.charter.ranks
    yield from _part(compiled, f"through {' and '.join(titles[key].title for key in rank.builds_on)}", beyond)
    yield from _part(compiled, "as every member", common & ~carried)


def _part(compiled: CompiledCharter, source: str, mask: int) -> Iterator[dict[str, Any]]:
    if not mask:
        return
    rows: list[dict[str, Any]] = []
    for heading, keys in under_headings(compiled, compiled.catalogue.names(mask)).items():
        risks = {key: compiled.charter.catalogue.capabilities[key].risk for key in keys}
        rights = [{"key": key, "does": doing(compiled, key), "high": risks[key] == "high"} for key in keys]
        rows.append({"heading": heading, "rights": rights})
    does = [right["does"] for row in rows for right in row["rights"]]
    more = len(does) - _FIRST
    begins = "; ".join(does[:_FIRST]) + (f"; and {more} more" if more > 0 else "")
    yield {"source": source, "rows": rows, "begins": begins}
