"""What differs, in words: for the journal, for refusals, for edits by hand."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Final

from ask_above.change.difference import Difference
from ask_above.change.parts import DifferencePart, Given, Kind, State, entries
from ask_above.charter.names import listed
from ask_above.decide.words import in_place

_FIELDS: Final[Mapping[str, str]] = {
    "position": "the place on the ladder",
    "lists": "whom they may act on",
    "call_open": "call",
    "capabilities": "the catalogue",
    "email": "the address",
    "order": "the place among its neighbours",
    "parent": "the place it is in",
    "note": "the notes",
    "was": "the earlier status",
    "joined": "the day of joining",
    "user_name": "the user name",
    "external_id": "the external id",
}

_MOST = 12


def said(part: DifferencePart, state: State | None = None) -> str:
    """Say one part as a short sentence without a full stop, such as *Set limit of Board host*."""
    called = _called(part, state)
    if part.kind in (Kind.CHARTER, Kind.RULES, Kind.CATALOGUE, Kind.EXPECTATIONS):
        return f"Set {_FIELDS.get(part.field, part.field.replace('_', '-'))}"
    if part.field == "key":
        return f"Rename the {part.kind} {part.before} to {part.after}"
    if not part.field:
        verb = "Add" if part.before is None else "Remove"
        return f"{verb} the {part.kind} {called}"
    if part.field in ("overrides", "exceptions") and part.kind is Kind.PLACE:
        return f"Set what {called} says of {listed(spoken_of(part)[:_MOST])}"
    if part.field == "status":
        return f"Set the status of {called} from {part.before or '-'} to {part.after}"
    return f"Set {_FIELDS.get(part.field, part.field.replace('_', '-'))} of {called}"


def spoken_of(part: DifferencePart) -> list[str]:
    """Return of whom entries differ, as they are written; ``@`` stands before a member."""
    one, two = entries(part.before or ()), entries(part.after or ())
    at = "@" if part.field == "exceptions" else ""
    return [f"{at}{key}" for key in dict.fromkeys((*two, *one)) if one.get(key) != two.get(key)]


def _called(part: DifferencePart, state: State | None) -> str:
    thing: object = part.after if not part.field and part.after is not None else part.before if not part.field else None
    if state is not None and thing is None:
        known: Mapping[Kind, Mapping[str, object]] = {
            Kind.RANK: state.charter.ranks,
            Kind.PLACE: state.charter.places,
            Kind.GROUP: state.charter.groups,
            Kind.MEMBER: state.register.members,
        }
        thing = known.get(part.kind, {}).get(part.key)
    return str(getattr(thing, "called", part.key))


def sentences(difference: Difference) -> list[str]:
    """Say all that differs, one short sentence for each part."""
    found = list(dict.fromkeys(said(part, difference.after) for part in difference.parts))
    return found + list(_given(difference))


def _given(difference: Difference) -> Iterator[str]:
    for given in difference.given:
        yield given_said(given, difference)


def given_said(given: Given, difference: Difference) -> str:
    """Say what differs in a member's assignments of one rank at one place."""
    charter, members = difference.after.charter, difference.after.register.members
    old = difference.before
    member = members.get(given.member) or old.register.members.get(given.member)
    rank = charter.ranks.get(given.rank) or old.charter.ranks.get(given.rank)
    place = charter.places.get(given.place) or old.charter.places.get(given.place)
    who = member.called if member else given.member
    title = rank.called if rank else given.rank
    where = in_place(place.called if place else given.place, site=given.place == "site")
    if given.gained and given.lost:
        return f"Change the period of {title} for {who} {where}"
    if given.gained:
        return f"Assign {title} to {who} {where}"
    if given.lost:
        return f"Unassign {title} from {who} {where}"
    return f"Change the note of {title} for {who} {where}"
