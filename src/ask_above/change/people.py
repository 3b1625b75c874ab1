"""Edits of the register: members, their status and groups, and the ranks they are given."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from ask_above.change.draft import Done, Draft, EditError, Need, RowChange, assignment_row, member_row
from ask_above.change.steps import Put
from ask_above.charter.moments import HOW_TO_WRITE, parse, period
from ask_above.charter.names import RESERVED, SITE, is_key
from ask_above.decide.words import in_place
from ask_above.errors import UnknownNameError
from ask_above.people.register import KINDS, STATUSES, Assignment, Member

WRITTEN = ("keep", "remove")
"""What may become of what someone wrote, beside handing it to a member."""

_ADDRESS = re.compile(r"[^\s@,;<>]+@[^\s@,;<>]+")


class MemberAdd(NamedTuple):
    """Add a member; who becomes active is given the ranks that come on joining."""

    key: str
    fields: Mapping[str, str] = {}
    status: str = "active"

    def on(self, draft: Draft) -> Done:
        """Work it out."""
        if not is_key(self.key) or self.key in RESERVED:
            raise EditError(
                f"'{self.key}' cannot be the key of a member; small letters, digits, - and _, such as petra"
            )
        if self.key in draft.register.members:
            raise EditError(f"There is a member '{self.key}' already.")
        row = dict.fromkeys(member_row(Member(self.key)), "")
        row |= {"key": self.key, "kind": "person", "status": self.status, "joined": draft.day, **self.fields}
        _check_row(draft, row)
        rows = [RowChange("members", self.key, None, row)]
        rows += _on_joining(draft, self.key, self.status, first=True)
        verb = "invite" if self.status == "invited" else "add"
        what = (
            f"{verb} {row['name'] or self.key} ({self.status})"
            if verb == "add"
            else f"invite {row['name'] or self.key}"
        )
        needs = [Need("people", what), *_conferring(draft, self.key, (), _groups(row), what)]
        return Done(what, (), tuple(rows), tuple(needs))


class MemberStatus(NamedTuple):
    """Accept, vouch, lock, retire or restore: give a member another status.

    ``written`` is what becomes of what someone wrote who leaves: keep, remove, or the key of a member who takes it.
    """

    key: str
    status: str
    written: str = ""

    def on(self, draft: Draft) -> Done:
        """Work it out."""
        member = draft.member(self.key)
        if self.status not in STATUSES:
            raise EditError(f"'{self.status}' is no status of a member; one of {', '.join(STATUSES)}.")
        said = {"active": "restore", "locked": "lock", "retired": "retire", "pending": "let join", "invited": "invite"}
        verb = (
            {"pending": "vouch for", "invited": "accept"}.get(member.status, "restore")
            if self.status == "active"
            else said[self.status]
        )
        what = f"{verb} {member.called}"
        if member.status == self.status:
            raise EditError(f"{member.called} is {self.status} already.")
        if self.key == draft.charter.owner and self.status in ("locked", "retired"):
            raise EditError(f"{member.called} is the owner, who can be neither locked nor retired; hand over first.")
        if self.written and self.written not in WRITTEN:
            what += f"; what they wrote goes to {draft.member(self.written).called}"
        elif self.written:
            what += f"; what they wrote is {'kept' if self.written == 'keep' else 'to be removed'}"
        before = member_row(member)
        rows = [RowChange("members", self.key, before, {**before, "status": self.status})]
        joins = member.status in ("pending", "invited") and self.status == "active"
        rows += _on_joining(draft, self.key, self.status, first=joins)
        kind = (
            "people" if member.status in ("pending", "invited") and self.status in ("active", "pending") else "account"
        )
        return Done(what, (), tuple(rows), (Need(kind, what, member=self.key),))


class MemberSet(NamedTuple):
    """Change a member's name, address, kind, note or groups."""

    key: str
    fields: Mapping[str, str]

    def on(self, draft: Draft) -> Done:
        """Work it out."""
        member = draft.member(self.key)
        before = member_row(member)
        after = {**before, **self.fields}
        if after == before:
            raise EditError(f"Nothing changes for {member.called}.")
        _check_row(draft, after)
        what = f"set {', '.join(name for name in self.fields if before[name] != after[name])} of {member.called}"
        needs = [Need("account", what, member=self.key)] if set(self.fields) - {"groups"} else []
        if before["groups"] != after["groups"]:
            needs += [Need("people", what), *_conferring(draft, self.key, member.groups, _groups(after), what)]
        return Done(what, (), (RowChange("members", self.key, before, after),), tuple(needs))


class Assign(NamedTuple):
    """Give a member a rank; ``only``: this and nothing else of what they were given, at that place."""

    member: str
    rank: str
    place: str = SITE
    since: str = ""
    until: str = ""
    why: str = ""
    only: bool = False

    def on(self, draft: Draft) -> Done:
        """Work it out."""
        rank, member = draft.rank(self.rank), draft.member(self.member)
        place = draft.charter.places[self.place] if draft.place_path(self.place) else None
        if rank.automatic:
            raise EditError(f"{rank.title} is held without being given, so it can be neither given nor taken.")
        given = [each for each in draft.register.of(self.member) if each.place == self.place]
        when = _period(draft, self.since, self.until)
        same = [e for e in given if e.rank == self.rank]
        if any((e.period.said_from, e.period.said_until) == (self.since, self.until) for e in same) and not self.only:
            raise EditError(f"{member.called} has {rank.title} there already.")
        where = in_place(place.title if place else "", site=self.place == SITE)
        span = (f" from {self.since}" if self.since else "") + (f" until {self.until}" if self.until else "")
        what = f"give {member.called} {rank.title} {where}{span}{', and nothing else there' if self.only else ''}"
        new = Assignment(self.member, self.rank, self.place, when, draft.by, self.why)
        # one that is open to be replaced by another period of the same rank is changed, not doubled
        gone = [e for e in given if e.rank == self.rank or self.only]
        rows = [RowChange("assignments", str(e.number), assignment_row(e), None) for e in gone]
        rows.append(RowChange("assignments", "0", None, assignment_row(new)))
        needs = [Need("assign", what, self.rank, self.place, self.member)]
        needs += [Need("unassign", what, e.rank, self.place, self.member) for e in gone if e.rank != self.rank]
        return Done(what, (), tuple(rows), tuple(needs))


class Unassign(NamedTuple):
    """Take a rank from a member, at exactly one place."""

    member: str
    rank: str
    place: str = SITE

    def on(self, draft: Draft) -> Done:
        """Work it out."""
        rank, member = draft.rank(self.rank), draft.member(self.member)
        draft.place_path(self.place)
        where = in_place(draft.charter.places[self.place].title, site=self.place == SITE)
        given = [e for e in draft.register.of(self.member) if (e.rank, e.place) == (self.rank, self.place)]
        if not given:
            raise EditError(
                f"{member.called} was not given {rank.title} {where}.{_elsewhere(draft, self.member, self.rank)}"
            )
        what = f"take {rank.title} from {member.called} {where}"
        rows = tuple(RowChange("assignments", str(e.number), assignment_row(e), None) for e in given)
        return Done(what, (), rows, (Need("unassign", what, self.rank, self.place, self.member),))


class HandOver(NamedTuple):
    """Hand the ownership to another member."""

    member: str

    def on(self, draft: Draft) -> Done:
        """Work it out."""
        member = draft.member(self.member)
        if member.status != "active":
            raise EditError(f"{member.called} is {member.status}; the owner has to be active.")
        if draft.charter.owner == self.member:
            raise EditError(f"{member.called} is the owner already.")
        what = f"hand the ownership over to {member.called}"
        return Done(what, (Put(("owner",), self.member),), (), (Need("owner", what),))


def _elsewhere(draft: Draft, member: str, rank: str) -> str:
    """Say where else someone has a rank."""
    places = [each.place for each in draft.register.of(member) if each.rank == rank]
    if places:
        return f" They have it at: {', '.join(places)}"
    return ""


def _period(draft: Draft, since: str, until: str) -> Any:
    try:
        return period(since, until, draft.charter.zone)
    except ValueError:
        raise EditError(f"'{since or until}' is no moment; write {HOW_TO_WRITE}.") from None


def _groups(row: Mapping[str, str]) -> Sequence[str]:
    return [each for each in row["groups"].split(";") if each]


def _check_row(draft: Draft, row: Mapping[str, str]) -> None:
    """Hold a member's row to what may stand in it."""
    for column, options in (("kind", KINDS), ("status", STATUSES)):
        if row[column] not in options:
            raise EditError(f"'{row[column]}' is no {column} of a member; one of {', '.join(options)}.")
    if row["email"] and not good_address(row["email"]):
        raise EditError(f"'{row['email']}' is no e-mail address.")
    if not good_date(row["joined"]):
        raise EditError(f"'{row['joined']}' is no date; write {HOW_TO_WRITE}.")
    for key in _groups(row):
        if key not in draft.charter.groups:
            from ask_above.charter.names import nearest

            raise UnknownNameError("group", key, nearest(key, draft.charter.groups))


def good_address(text: str) -> bool:
    """Tell whether a text can be an e-mail address: something, one @, a name with a dot or a plain host."""
    return _ADDRESS.fullmatch(text) is not None


def good_date(text: str) -> bool:
    """Tell whether a text is empty or a date, or a date and time."""
    if not text:
        return True
    try:
        parse(text)
    except ValueError:
        return False
    return True


def _on_joining(draft: Draft, key: str, status: str, *, first: bool) -> Iterator[RowChange]:
    """Yield the ranks given to everyone who becomes active for the first time (rule 4.7)."""
    if first and status == "active":
        yield from on_joining_to(draft, key, rows_on_joining(draft))


def rows_on_joining(draft: Draft) -> dict[str, dict[str, str]]:
    """Return by rank what is recorded of someone who is given it on joining."""
    when = _period(draft, draft.day, "")
    ranks = [rank.key for rank in draft.charter.ranks.values() if rank.on_joining]
    return {rank: assignment_row(Assignment("", rank, SITE, when, draft.by, "on joining")) for rank in ranks}


def on_joining_to(draft: Draft, key: str, rows: Mapping[str, Mapping[str, str]]) -> Iterator[RowChange]:
    """Yield those of the rows that are news for a member."""
    has = {each.rank for each in draft.register.of(key) if each.place == SITE}
    for rank, row in rows.items():
        if rank not in has:
            yield RowChange("assignments", "0", None, {**row, "member": key})


def _conferring(draft: Draft, key: str, old: Sequence[str], new: Sequence[str], what: str) -> Iterator[Need]:
    """Yield what changing groups takes: it counts as giving or taking the ranks they confer (rule 9.2)."""
    from ask_above.people.register import reached_groups

    def reached(groups: Sequence[str]) -> frozenset[str]:
        return reached_groups(draft.charter, Member(key, groups=tuple(groups)))

    before, after = reached(old), reached(new)
    for changed, kind in ((after - before, "assign"), (before - after, "unconfer")):
        for group in sorted(changed):
            for conferred in draft.charter.groups[group].confers:
                yield Need(kind, what, conferred.rank, conferred.place, key)
