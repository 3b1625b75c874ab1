"""What makes the report a page that can be asked: its data, its pictures, its policy, and for whom it is made."""

from __future__ import annotations

import re
from base64 import b64encode
from collections.abc import Callable, Sequence
from hashlib import sha256
from typing import TYPE_CHECKING, Any, Final

from ask_above.ask.choosing import sees
from ask_above.ask.page_answers import ACTOR, HOLE, TARGET, page_answers
from ask_above.charter.names import listed
from ask_above.community import Community
from ask_above.show.cells import CODES, place_marks
from ask_above.show.impact import by_who, power_lines, where_in_words
from ask_above.visible import visible

if TYPE_CHECKING:
    from ask_above.store.entries import Entry

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


def page_data(
    community: Community, *, members: bool, plain_places: bool, told: Callable[[int, int], None] | None = None
) -> dict[str, Any]:
    """Return what the page looks up when it is asked: the answers, and the marks of the grid at every place."""
    decider, at = community.decider, community.names.moment()
    data, layer_places = page_answers(decider, at, members=members, plain_places=plain_places, told=told)
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
