"""What the steps of an answer say, in the administrator's words."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import datetime
from typing import Final

from ask_above.charter.moments import Period, parse
from ask_above.charter.names import SITE, few
from ask_above.charter.places import Place
from ask_above.charter.rules import Act
from ask_above.charter.where import Where
from ask_above.people.register import Assignment

_TEXTS: Final[dict[str, str]] = {
    # who is asking (rules 4 and 5.1)
    "owner": "{who} is the owner and may do everything everywhere.",
    "status": "{who} is {status}, and then the answer to every question is no.",
    "pending": "{who} is pending, not yet vouched for: only what pending members hold counts.",
    "automatic": "{rank}: {by} holds it.",
    "assigned": "{rank}: given {place}{by}{period}{file}{why}.",
    "conferred": "{rank}: comes with the group {group} {place}.",
    "entry": "{rank}: what pending members hold.",
    "asked": "{rank}: as asked.",
    "no-ranks": "{who} holds no rank here.",
    # what ranks carry (rule 3)
    "carried": "{rank} carries {what}{how}{file}.",
    "withheld": "{rank} withholds {what}{file}.",
    "not-carried": "no rank that {who} has here carries {what}.",
    "unbounded": "{rank} is unbounded: gates, overrides, exceptions and bars do not stop it.",
    # places (rules 5.3 to 5.5)
    "gate-open": "The gate of {place} lets {who} in{by}{file}.",
    "gate-closed": "The gate of {place} does not let {who} in: {asks}{file}.",
    "allowed": "In {place}, {holder} is allowed {what}{file}{against}.",
    "denied": "In {place}, {holder} is denied {what}{file}{against}.",
    "allowed-pending": "In {place}, {holder} is allowed {what}{file}, but that is not given to someone pending.",
    "barred": "In {place}, {holder} is barred from {what}{file}, and nothing gives that back.",
    # use (rule 5.6)
    "no-meaning": "{what} cannot be used {kind}; {where}.",
    "not-held": "so {who} does not have {what} here.",
    "rests-on": "{what} needs {missing}, which {who} does not have here: {why}.",
    "usable": "so {who} has {what} here{rest}, and it can be used {kind}.",
    # acts (rule 6)
    "cannot-act": "{who} is {status}; only an active member may act on others.",
    "visitor-acts": "{who} is not signed in; only an active member may act on others.",
    "on-owner": "{target} is the owner, and nobody acts on the owner but the owner.",
    "on-oneself": "nobody moderates themselves.",
    "owner-act": "{who} is the owner.",
    "automatic-rank": "{rank} is held without being given ({by} holds it), so it can be neither given nor taken.",
    "kept": "{rank} is kept by {keeper}; nobody here edits, gives or takes it.",
    "paused": "{rank} is paused: nobody holds it, and it is given to nobody, until the pause is lifted.",
    "target-status": "{target} is {status}; a rank is given to someone active, pending or invited.",
    "after": "{rank} is given only to someone who has {needed} {place}, and {target} has not.",
    "apart": "{rank} and {other} may not be held together, and {target} has {other}.",
    "limit": "at most {limit} may hold {rank}, and with {target} it would be {count}.",
    "conditions": "the conditions of {rank} are met.",
    "open-join": "{rank} is open: members may join it themselves.",
    "no-capability": "{who} may not use {what} {place}: {why}",
    "behind-gate": "{who} may not use {what} {place}: {why}",
    "no-using": "no capability is set for this act and the catalogue lacks {default}, so it is the owner's alone.",
    "capability": "{who} may use {what} {place}.",
    "over": "{target} stands below {actor}{at}.",
    "over-level": "{target} stands below {actor} or level with it{at}.",
    "over-anyone": "whom it reaches does not depend on the ladder here.",
    "not-below": "{target} does not stand below {actor}{at}.",
    "not-level": "{target} stands above {actor}{at}.",
    "not-self": "one may not give oneself ranks here.",
    "self": "one may give oneself ranks here.",
    "list": "{what} may be acted on by {ranks}.",
    "not-on-list": "{ranks} may not act on {what}{file}.",
    "hand-on": "{target} would gain nothing that {who} does not hold there.",
    "hand-on-any": "one may hand on what one does not hold.",
    "not-held-gain": "{target} would gain {what} {place}, which {who} does not hold there{gates}.",
    "unbounded-gain": "{target} would become unbounded {place}, which takes someone unbounded there.",
    "no-assignment": "{target} has no assignment of {rank} {place}, in force or to come.",
    "own-up": "one's own rank may be given up, as nothing is gained by it.",
    "own-gain": "{target} would gain {what} {place} by giving {rank} up, and then one's own may not go.",
    "call-open": "anyone may call on {rank}.",
    "call-closed": "{rank} is closed to calls.",
}  # fmt: skip

_SHORT: Final[dict[str, str]] = {
    "cannot-act": "does not act while {status}",
    "visitor-acts": "not signed in",
    "automatic-rank": "held without being given",
    "kept": "kept by {keeper}",
    "no-capability": "lacks {what}",
    "paused": "is paused",
    "behind-gate": "kept out by the gate",
    "no-using": "the owner's alone",
    "not-below": "not below {actor_short}",
    "not-level": "above {actor_short}",
    "not-on-list": "not on its list",
    "not-held-gain": "may not hand on {what}",
    "unbounded-gain": "may not make unbounded",
}

HELD_BY: Final = {
    "anyone": "everyone, visitors too,",
    "visitors": "every visitor",
    "members": "every member",
    "bots": "every bot",
}

VERBS: Final = {Act.MODERATE: "moderate", Act.ASSIGN: "give", Act.MANAGE: "change", Act.CALL: "call on"}
"""What an act of a table of powers is called in a sentence about ranks."""


class LateWord:
    """A word of a step that is worked out when it is first read: of most answers nobody asks why."""

    __slots__ = ("_said", "_tell")

    def __init__(self, tell: Callable[[], str]) -> None:
        self._tell: Callable[[], str] | None = tell
        self._said = ""

    def __str__(self) -> str:
        tell = self._tell  # any number of threads may read it at once: what is said is there before this is gone
        if tell is not None:
            self._said = tell()
            self._tell = None
        return self._said

    def __reduce__(self) -> tuple[type[str], tuple[str]]:
        return str, (str(self),)


def say(code: str, words: Mapping[str, object]) -> str:
    """Return what a step says; a code that ends in ``/short`` says it in a few words."""
    code, short, _ = code.partition("/short")
    template = _SHORT.get(code, _TEXTS[code]) if short else _TEXTS[code]
    text = template.format(**words)
    return text if short or template.startswith("{what}") else upper(text)


def in_place(title: str, *, site: bool) -> str:
    """Say where."""
    return "on the whole site" if site else f"in {title}"


def in_places(places: Mapping[str, Place], keys: Iterable[str], most: int) -> str:
    """Say several places, the site in front; of more than so many the first."""
    found = list(keys)
    titles = [places[key].title or key for key in found if key != SITE]
    inside = few(titles, most)
    if SITE in found:
        return "on the whole site" + (f" and in {inside}" if titles else "")
    return f"in {inside}"


def in_file(where: Where) -> str:
    """Say where it is written, in brackets; nothing for what was never in a file."""
    return f" ({where})" if where.line else ""


def day(text: str) -> str:
    """Say a date as people do: 1 March 2026, with the time where there is one."""
    moment = parse(text)
    said = f"{moment.day} {moment:%B} {moment.year}"
    if isinstance(moment, datetime):
        said += f", {moment:%H:%M:%S}" if moment.second else f", {moment:%H:%M}"
        said += f" ({moment:%Z})" if moment.tzinfo else ""
    return said


def period(when: Period) -> str:
    """Say a period; nothing for one that is open on both sides."""
    return (f" from {day(when.said_from)}" if when.said_from else "") + ending(when)


def ending(when: Period) -> str:
    """Say when a period ends; nothing where it does not."""
    through = "through" if "T" not in when.said_until else "until"
    return f" {through} {day(when.said_until)}" if when.said_until else ""


def assigned(assignment: Assignment, by: str) -> dict[str, str]:
    """Return the words that an assignment brings to its step."""
    return {
        "by": f" by {by}" if by else "",
        "period": period(assignment.period),
        "file": in_file(assignment.where),
        "why": f": {assignment.why}" if assignment.why else "",
    }


def upper(text: str) -> str:
    """Return a text with a capital in front."""
    return text[:1].upper() + text[1:]
