"""Small communities for one rule at a time."""

from __future__ import annotations

from typing import Any

from ask_above import Community
from generated import ASSIGNMENT_COLUMNS, MEMBER_COLUMNS, as_csv
from standard import as_yaml

CAPABILITIES = {
    "Posts": {
        "place.see": "See a place",
        "post.write": "Write a post",
        "post.edit": {"about": "Change a post", "authored": "true"},
        "post.publish": {"about": "Publish", "implies": ["post.write"]},
        "post.pin": {"about": "Pin a post", "needs": ["post.write"]},
        "voice.speak": {"about": "Speak aloud", "kinds": ["stage"]},
    },
    "People": {
        "member.mute": "Keep someone from writing",
        "member.ban": "Keep someone out",
        "rank.assign": "Give ranks",
        "rank.manage": "Change ranks",
        "rank.call": "Call on closed ranks",
    },
}
PLACES = [
    {
        "key": "hall",
        "title": "The Hall",
        "kind": "section",
        "places": [{"key": "desk", "title": "The Desk", "kind": "board"}, {"key": "stage", "kind": "stage"}],
    },
    {"key": "yard", "kind": "board"},
]


def rank(key: str, *grants: str, **fields: Any) -> dict[str, Any]:
    """A rank; fields are written with _ for -."""
    return {"key": key, "title": key.title(), "grants": list(grants)} | {
        k.replace("_", "-"): v for k, v in fields.items()
    }


def member(key: str, **fields: str) -> dict[str, str]:
    return {"key": key, "name": key.title()} | fields


def held(who: str, which: str, place: str = "", **fields: str) -> dict[str, str]:
    """An assignment; ``since`` and ``until`` bound it."""
    return {
        "member": who,
        "rank": which,
        "place": place,
        "from": fields.get("since", ""),
        "until": fields.get("until", ""),
    }


def texts(*ranks: dict[str, Any], members: Any = (), assignments: Any = (), **charter: Any) -> dict[str, str]:
    """The files of a community with these ranks, highest first; other keys of the charter with _ for -."""
    whole = {"charter": "1", "key": "small", "capabilities": CAPABILITIES, "ranks": list(ranks), "places": PLACES}
    whole |= {key.replace("_", "-"): value for key, value in charter.items()}
    files = {"charter.yaml": as_yaml(whole)}
    if members:
        files["members.csv"] = as_csv(list(members), MEMBER_COLUMNS)
        files["assignments.csv"] = as_csv(list(assignments), ASSIGNMENT_COLUMNS)
    return files


def community(*ranks: dict[str, Any], members: Any = (), assignments: Any = (), **charter: Any) -> Community:
    return Community.from_texts(texts(*ranks, members=members, assignments=assignments, **charter))


def place(key: str, kind: str = "board", **differs: Any) -> dict[str, Any]:
    return {"key": key, "kind": kind, **differs}
