"""What makes the report a page that can be asked: its data, its pictures, its cards of ranks, its policy."""

from __future__ import annotations

import re
from base64 import b64encode
from collections.abc import Callable, Iterator, Sequence
from hashlib import sha256
from typing import TYPE_CHECKING, Any, Final

from ask_above.ask.choosing import sees
from ask_above.ask.compare import carrier
from ask_above.ask.describe.claims import doing, under_headings
from ask_above.ask.describe.describer import Describer
from ask_above.ask.page_answers import ACTOR, HOLE, TARGET, page_answers
from ask_above.charter.ladder import Rank
from ask_above.charter.names import listed
from ask_above.community import Community
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.explain import source_of
from ask_above.decide.profile import ask_anybody
from ask_above.decide.words import in_file
from ask_above.show.grid import ANYHOW, BESIDES, GIVEN, MEANINGLESS, NO, TAKEN, YES, marks
from ask_above.show.impact import by_who, power_lines, where_in_words
from ask_above.visible import visible

if TYPE_CHECKING:
    from ask_above.store.entries import Entry


_FIRST = 2
"""How many things are told of what one has from elsewhere before it is opened."""
CODES: Final = {YES: "y", BESIDES: "b", ANYHOW: "a", GIVEN: "+", TAKEN: "-", NO: ".", MEANINGLESS: "/"}
"""The letter that a mark has in the page's data, which keeps it small."""
HOLES: Final = (HOLE, ACTOR, TARGET)
_HOLES: Final = re.compile(f"([{''.join(HOLES)}])")
BUDGET: Final = 8_000_000
"""How many bytes a page has at most; what is asked about is left out before that, what is read is not."""
PARTS: Final = (
    {"members": True, "plain_places": True},
    {"members": False, "plain_places": True},
    {"members": False, "plain_places": False},
)
"""What can be asked about, the most first."""


def card(describer: Describer, rank: Rank) -> dict[str, Any]:
    """Return a rank's card as plain data."""
    compiled = describer.compiled
    return {
        "key": rank.key,
        "title": rank.called,
        "color": rank.color or "",
        "place": rank.position + 1,
        "holders": len(describer.holders.keys(rank.key)),
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
    yield from _part(compiled, f"through {' and '.join(titles[key].called for key in rank.builds_on)}", beyond)
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


def carried_rows(decider: Decider) -> list[dict[str, Any]]:
    """Return the grid's rows with their headings: for each rank the mark, and why, by what ranks grant."""
    compiled, rows = decider.compiled, []
    for key, row in zip(compiled.catalogue.keys, marks(decider, None), strict=True):
        capability = compiled.catalogue.capabilities[key]
        cells = [
            {"mark": mark, "why": _why(decider, rank, key, mark), "rank": rank.key}
            for rank, mark in zip(compiled.ranks, row, strict=True)
        ]
        said = {"key": key, "heading": capability.heading, "about": doing(compiled, key), "risk": capability.risk}
        rows.append(said | {"cells": cells})
    return rows


def _why(decider: Decider, rank: Rank, key: str, mark: str) -> str:
    if mark == NO:
        return f"{rank.called} does not grant {key}."
    if mark == ANYHOW:
        return f"{rank.called} does not grant {key} itself; it {carrier(decider.compiled, rank, key)}."
    if mark == TAKEN:
        return f"{rank.called} withholds {key}{in_file(rank.withhold.where)}."
    if rank.unbounded:
        return f"{rank.called} is unbounded and may do everything."
    where, how = source_of(decider.compiled, rank, key)
    return f"{rank.called} grants {key}{how}{in_file(where)}."


def place_marks(decider: Decider, place: int) -> list[str]:
    """Return the marks of all cells at a place, a text of ``CODES`` for each row."""
    return ["".join(map(CODES.__getitem__, row)) for row in marks(decider, place)]


def page_data(
    community: Community,
    *,
    members: bool,
    plain_places: bool,
    told: Callable[[int, int], None] | None = None,
    most: int | None = None,
) -> dict[str, Any] | None:
    """Return what the page looks up when it is asked: the answers, and the marks of the grid at every place.

    ``None`` where that is sure to take more than ``most`` bytes.
    """
    decider, at = community.decider, community.names.moment()
    answers = page_answers(decider, at, members=members, plain_places=plain_places, told=told, most=most)
    if answers is None:
        return None
    data, layer_places = answers
    rows: dict[str, int] = {}
    data["marks"] = [[rows.setdefault(row, len(rows)) for row in place_marks(decider, n)] for n in layer_places]
    data["markRows"] = list(rows)
    data["signs"] = {letter: mark for mark, letter in CODES.items()}
    return data


def readable(data: Any) -> Any:
    """Return the data of a page with what is no plain text in its texts written out; holes for names stay."""
    if isinstance(data, str):
        return "".join(part if part in HOLES else visible(part, breaks=True) for part in _HOLES.split(data))
    if isinstance(data, dict):
        return {key: readable(value) for key, value in data.items()}
    return [*map(readable, data)] if isinstance(data, list) else data


def policy_hash(text: str) -> str:
    """Return by what the page's policy knows a script or styles of its own: all others are refused."""
    return f"sha256-{b64encode(sha256(text.encode()).digest()).decode()}"


def in_classes(svg: str, rules: dict[str, str]) -> str:
    """Return a picture without styles of its own, which the policy refuses; ``rules`` takes them."""
    svg = re.sub(r"<style.*?</style>|<!--.*?-->", "", svg, flags=re.DOTALL)  # comments repeat the titles

    def named(found: re.Match[str]) -> str:
        return f'class="{rules.setdefault(found[1], f"s{len(rules)}")}"'

    return re.sub(r'\bstyle="([^"]*)"', named, svg)


def as_seen(
    community: Community, viewer: str | None, since: Community | None, entries: Sequence[Entry]
) -> tuple[Community, Community | None, Sequence[Entry]]:
    """Return a community, as it is and as it was, with the names that a member may see; the journal names everyone."""
    everyone, own = sees(community.decider, community.names.moment(), viewer)
    if everyone:
        return community, since, entries

    def hidden(side: Community) -> Community:
        members = {
            key: member._replace(name="", email="", phone="", note="")
            for key, member in side.register.members.items()
            if not (own and key == viewer)
        }
        return side.after(register=side.register.changed(members))

    return hidden(community), None if since is None else hidden(since), ()


def shifts_since(before: Community, after: Community, *, members: bool) -> dict[str, Any]:
    """Return who has gained and lost what between two states, folded as ``impact`` folds it."""
    old, new = (side if members else Community(side.charter) for side in (before, after))
    impact = old.impact(new)
    return {
        "groups": [
            {
                "gains": gains,
                "head": f"{who} {'gained' if gains else 'lost'}{when}",
                "parts": [(listed(names), where_in_words(impact, places)) for places, names in parts.items()],
            }
            for (who, gains, when), parts in by_who(impact)
        ],
        "powers": power_lines(impact),
        "turned": [{"holds": turned.holds, "text": turned.text} for turned in impact.turned],
    }
