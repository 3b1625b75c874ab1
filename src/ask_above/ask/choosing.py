"""Choose members by what they hold and are, and list what somebody may see of them."""

from __future__ import annotations

from collections.abc import Sequence

from ask_above.ask.tables import Holder
from ask_above.charter.moments import Instant, as_instant, parse
from ask_above.charter.names import nearest
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Asked, How
from ask_above.errors import QuestionError, UnknownNameError
from ask_above.people.register import STATUSES, Member

LIST_COLUMNS = ("key", "name", "email", "phone", "kind", "status", "joined", "groups", "ranks", "note", "where")
_GUARDED = ("name", "email", "phone", "note")
"""What ``rules.contacts`` governs."""


def choose(
    decider: Decider,
    at: Instant,
    *,
    holding: str | None = None,
    group: str | None = None,
    status: str | None = None,
    joined_before: str | None = None,
    named: str = "",
    place: str | None = None,
    viewer: str | None = None,
) -> list[str]:
    """Return the members who fit all that is asked, in the register's order.

    ``holding`` is a rank recorded for them anywhere now, ``named`` a part of their key, name or address, ``place`` one
    for which a rank is recorded for them. Nobody is found by what ``viewer`` may not see of them (rule 8). Raises
    :class:`UnknownNameError` and :class:`QuestionError`.
    """
    charter = decider.compiled.charter
    if holding is not None and holding not in charter.ranks:
        raise UnknownNameError("rank", holding, nearest(holding, charter.ranks))
    if group is not None and group not in charter.groups:
        raise UnknownNameError("group", group, nearest(group, charter.groups))
    if status is not None and status not in STATUSES:
        raise QuestionError(f"'{status}' is no status; one of {', '.join(STATUSES)}.")
    before, part = _moment(decider, joined_before), named.casefold()
    everyone, _ = sees(decider, at, viewer)

    def fits(asked: Asked) -> bool:
        """Whether all who are like them may be meant."""
        if (status is not None and asked.status != status) or (group is not None and group not in asked.groups):
            return False
        spots = {holding.place for holding in asked.recorded if holding.assignment is not None}
        if place is not None and decider.compiled.place_at[place] not in spots:
            return False
        return holding is None or any(decider.compiled.ranks[each.rank].key == holding for each in asked.recorded)

    def is_meant(member: Member) -> bool:
        known = (member.key, member.name, member.email) if everyone or viewer == member.key else (member.key,)
        if named and not any(part in said.casefold() for said in known):
            return False
        joined = _moment(decider, member.joined or None) if before is not None else None
        return before is None or (joined is not None and joined < before)

    fitting = {key for asked, keys in decider.alike(at) if fits(asked) for key in keys}
    if not named and before is None:
        return decider.in_order(fitting)
    register = decider.people.register
    register.read(fitting)
    return [key for key in decider.in_order(fitting) if is_meant(register.members[key])]


def _moment(decider: Decider, said: str | None) -> Instant | None:
    if said is None:
        return None
    try:
        return as_instant(parse(said), decider.compiled.charter.zone)
    except ValueError:
        raise QuestionError(f"'{said}' is no date; write it as 2026-12-01.") from None


def member_rows(
    decider: Decider,
    at: Instant,
    keys: Sequence[str],
    columns: Sequence[str],
    viewer: str | None,
    holding: str | None = None,
) -> list[list[str]]:
    """Return a row for each member; what ``viewer`` may not see of somebody is left empty.

    ``where`` is where, and until when, they hold the rank ``holding``; whether it counts is told by the status.
    """
    everyone, oneself = sees(decider, at, viewer)
    rows = []
    decider.people.register.read(keys)
    for key in keys:
        asked = decider.people.ask(key, at)
        member = asked.member
        if member is None:
            continue
        shown = everyone or (oneself and key == viewer)
        cells = {
            "key": key,
            "name": member.name,
            "email": member.email,
            "phone": member.phone,
            "kind": member.kind,
            "status": member.status,
            "joined": member.joined,
            "groups": ";".join(member.groups),
            "ranks": ", ".join(decider.compiled.ranks[e.rank].called for e in asked.recorded if e.how != How.AUTOMATIC),
            "note": member.note,
            "where": _where(decider, asked, holding),
        }
        rows.append([cells[column] if shown or column not in _GUARDED else "" for column in columns])
    return rows


def _where(decider: Decider, asked: Asked, holding: str | None) -> str:
    mine = tuple(each for each in asked.recorded if decider.compiled.ranks[each.rank].key == holding)
    return Holder(asked, mine).where(decider.compiled) or "on the whole site" if mine else ""


def sees(decider: Decider, at: Instant, viewer: str | None) -> tuple[bool, bool]:
    """Return whether somebody sees everyone's contacts, and their own; the maintainer of the files, no viewer, does."""
    if viewer is None:
        return True, True
    pair = decider.compiled.charter.rules.contacts
    can = decider.usable(decider.people.ask(viewer, at), 0)
    if pair is None:
        return decider.people.ask(viewer, at).rules_all, True
    bit = decider.compiled.catalogue.bit
    return bool(can & bit[f"{pair}.all"]), bool(can & bit[f"{pair}.own"])
