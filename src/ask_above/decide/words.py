"""What the steps of an answer say, in the administrator's words."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import date, datetime, tzinfo
from typing import Final

from ask_above.charter.moments import Period, parse
from ask_above.charter.names import SITE, few, upper
from ask_above.charter.places import Place
from ask_above.charter.where import Where
from ask_above.people.register import Assignment

_TEXTS: Final[dict[str, str]] = {
    # who is asking (rules 4 and 5.1)
    "owner": "{who} is the owner and may do everything.",
    "status": "{who} is {status}, so every answer is no.",
    "pending": "{who} is pending: only the ranks of pending members apply.",
    "automatic": "{rank}: automatic for {by}.",
    "assigned": "{rank} {place}{period}{by}{file}{why}.",
    "conferred": "{rank} {place}, conferred by the group {group}.",
    "entry": "{rank}: the entry rank of pending members.",
    "asked": "{rank}: the rank in question.",
    "no-ranks": "{who} has no rank here.",
    # what ranks grant (rule 3)
    "carried": "the rank {rank} grants {what}{how}{file}.",
    "withheld": "the rank {rank} withholds {what}{file}.",
    "not-carried": "none of {who}'s ranks here grants {what}.",
    "unbounded": "{rank} is unbounded: gates, overrides, exceptions and bars do not apply.",
    # places (rules 5.3 to 5.5)
    "gate-open": "the gate of {place} admits {who}{by}{file}.",
    "gate-closed": "the gate of {place} does not admit {who}: {asks}{file}.",
    "allowed": "the place {place} allows {what} to {holder}{file}{against}.",
    "denied": "the place {place} denies {what} to {holder}{file}{against}.",
    "allowed-pending": "the place {place} allows {what} to {holder}{file}, but not to pending members.",
    "barred": "the place {place} bars {holder} from {what}{file}; nothing overrides a bar.",
    # use (rule 5.6)
    "no-meaning": "{what} does not apply {kind}; {where}.",
    "not-held": "so {who} may not use {what} here.",
    "rests-on": "{what} needs {missing}, which {who} may not use here: {why}.",
    "usable": "so {who} may use {what} here{rest}; it applies {kind}.",
    # acts (rule 6)
    "cannot-act": "{who} is {status}; only active members may act on others.",
    "visitor-acts": "{who} is not signed in; only active members may act on others.",
    "on-owner": "{target} is the owner; only the owner may act on the owner.",
    "on-oneself": "members may not moderate themselves.",
    "owner-act": "{who} is the owner.",
    "automatic-rank": "{rank} is automatic for {by}; nobody may assign or unassign it.",
    "kept": "{rank} is kept by {keeper}; nobody here may edit, assign or unassign it.",
    "paused": "{rank} is paused; until it goes on, nobody has it and nobody may assign it.",
    "target-status": "{target} is {status}; only active, pending or invited members get ranks.",
    "after": "{rank} requires {needed} {place}, which {target} does not have.",
    "apart": "nobody may have both {rank} and {other}; {target} has {other}.",
    "limit": "at most {limit} may have {rank}; with {target} it would be {count}.",
    "conditions": "{rank}: all conditions are met.",
    "open-join": "{rank} is open: active members may join it.",
    "no-capability": "{who} may not use {what} {place}: {why}",
    "behind-gate": "{who} may not use {what} {place}: {why}",
    "no-using": "owner only: the rules name no capability for this act, and there is no {default}.",
    "capability": "{who} may use {what} {place}.",
    "over": "{target} stands below {actor}{at}.",
    "over-level": "{target} stands below or level with {actor}{at}.",
    "over-anyone": "this act does not depend on the ladder.",
    "not-below": "{target} does not stand below {actor}{at}.",
    "not-level": "{target} stands above {actor}{at}.",
    "not-self": "members may not assign ranks to themselves.",
    "self": "members may assign ranks to themselves.",
    "list": "{ranks} may act on {what}.",
    "not-on-list": "{ranks} may not act on {what} (not listed){file}.",
    "hand-on": "{target} would gain only what {who} may use there.",
    "hand-on-any": "members may hand on capabilities that they may not use.",
    "not-held-gain": "{target} would gain {what} {place}, which {who} may not use there{gates}.",
    "unbounded-gain": "{target} would become unbounded {place}; only unbounded members may do that.",
    "no-assignment": "{target} has no current or future assignment of {rank} {place}.",
    "own-up": "members may give up a rank if they gain nothing by it.",
    "own-gain": "{target} may not give up {rank}: they would gain {what} {place}.",
    "call-open": "any active member may call {rank}.",
    "call-closed": "{rank} is closed to calls.",
}  # fmt: skip

_SHORT: Final[dict[str, str]] = {
    "cannot-act": "{status}",
    "visitor-acts": "not signed in",
    "automatic-rank": "automatic",
    "kept": "kept by {keeper}",
    "no-capability": "lacks {what}",
    "paused": "paused",
    "behind-gate": "not admitted by the gate",
    "no-using": "owner only",
    "not-below": "not below {actor_short}",
    "not-level": "above {actor_short}",
    "not-on-list": "not listed",
    "not-held-gain": "may not hand on {what}",
    "unbounded-gain": "may not make unbounded",
}

HELD_BY: Final = {
    "anyone": "everyone, visitors included",
    "visitors": "every visitor",
    "members": "every member",
    "bots": "every bot",
}


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
    """Say several places, the site in front; of more than so many the first. One that is gone is said by its key."""
    found = list(keys)
    titles = [(key in places and places[key].called) or key for key in found if key != SITE]
    inside = few(titles, most)
    if SITE in found:
        return "on the whole site" + (f" and in {inside}" if titles else "")
    return f"in {inside}"


def with_risk(what: str, risk: str) -> str:
    """Say something with its risk, in brackets; a low one goes without saying."""
    return what if risk == "low" else f"{what} ({risk} risk)"


def in_file(where: Where) -> str:
    """Say where it is written, in brackets; nothing for what was never in a file."""
    return f" ({where})" if where.line else ""


def day(text: str) -> str:
    """Say a date as people do: 1 Mar 2026, with the time where there is one."""
    moment = parse(text)
    written = _date(moment)
    if isinstance(moment, datetime):
        written += f", {moment:%H:%M:%S}" if moment.second else f", {moment:%H:%M}"
        written += f" ({moment:%Z})" if moment.tzinfo else ""
    return written


def minute(at: str | datetime, zone: tzinfo) -> str:
    """Say when something was done, to the minute, as it was in a time zone: 1 Mar 2026, 18:05."""
    moment = (datetime.fromisoformat(at) if isinstance(at, str) else at).astimezone(zone)
    return f"{_date(moment)}, {moment:%H:%M}"


def _date(moment: date) -> str:
    return f"{moment.day} {moment:%b} {moment.year}"


def period(when: Period) -> str:
    """Say a period that has begun; nothing for one that is open on both sides."""
    return span(when.said_from, when.said_until, "since")


def ending(when: Period) -> str:
    """Say when a period ends; nothing where it does not."""
    return span("", when.said_until)


def span(begins: str, ends: str, word: str = "from") -> str:
    """Say from when until when, as it is written in a register; nothing for one that is open on both sides."""
    through = "until" if "T" in ends else "through"
    return (f" {word} {day(begins)}" if begins else "") + (f" {through} {day(ends)}" if ends else "")


def assigned(assignment: Assignment, by: str) -> dict[str, str]:
    """Return the words that an assignment brings to its step."""
    return {
        "by": f", assigned by {by}" if by else "",
        "period": period(assignment.period),
        "file": in_file(assignment.where),
        "why": f": {assignment.why}" if assignment.why else "",
    }
