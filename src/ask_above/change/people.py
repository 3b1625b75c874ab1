"""Edits of the register: members, their status and groups, and the ranks they are given."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from ask_above.change.draft import (
    Done,
    Draft,
    EditError,
    RowChange,
    assignment_row,
    changed_member,
    ended,
    given,
    member_row,
)
from ask_above.change.items import no_field
from ask_above.change.parts import coverage
from ask_above.change.steps import Put
from ask_above.charter.moments import HOW_TO_WRITE, Period, is_date, period
from ask_above.charter.names import RESERVED, SITE, is_key, nearest
from ask_above.decide.words import day, ending, in_place
from ask_above.errors import UnknownNameError
from ask_above.people.register import KINDS, OUT, STATUSES, Assignment, Member, Status
from ask_above.visible import has_unseen

WRITTEN = ("keep", "remove")
"""What may become of what someone wrote, beside handing it to a member."""

_FIELDS = ("name", "email", "phone", "kind", "groups", "note", "user_name", "external_id")
_ADDRESS = re.compile(r"[^\s@,;<>]+@[^\s@,;<>]+")


class MemberAdd(NamedTuple):
    """Add a member; who becomes active is given the ranks that come on joining."""

    key: str
    fields: Mapping[str, str] = {}
    status: str = "active"

    def on(self, draft: Draft) -> Done:
        if not is_key(self.key) or self.key in RESERVED:
            # the name was typed where the key belongs: the command that was meant is told
            if " " in self.key.strip() and not self.fields.get("name"):
                first = self.key.split()[0].lower()
                raise EditError(
                    f"'{self.key}' is a name, and the key comes before it: "
                    f"ask-above member add {first if is_key(first) else 'KEY'} {shlex.quote(self.key)}"
                )
            raise EditError(
                f"'{self.key}' cannot be the key of a member; small letters, digits, - and _, such as petra"
            )
        if self.key in draft.register.members:
            raise EditError(f"There is a member '{self.key}' already.")
        if self.key in draft.charter.ranks:
            raise EditError(f"'{self.key}' is the key of a rank; give the member another one.")
        _check_fields(self.fields, _FIELDS)
        row = dict.fromkeys(member_row(Member(self.key)), "")
        # whoever waits, or is invited, has not been active yet
        joined = draft.day if self.status == Status.ACTIVE else ""
        row |= {"key": self.key, "kind": "person", "status": self.status, "joined": joined, **self.fields}
        _check_row(draft, row)
        rows = [RowChange("members", self.key, None, row)]
        rows += _on_joining(draft, self.key, self.status, first=True)
        verb = "invite" if self.status == Status.INVITED else "add"
        what = (
            f"{verb} {row['name'] or self.key} ({self.status})"
            if verb == "add"
            else f"invite {row['name'] or self.key}"
        )
        return Done(what, (), tuple(rows))


HANDED = "what they wrote goes to"
"""How the journal says that somebody's texts were handed to a member."""


class MemberStatus(NamedTuple):
    """Accept, vouch, lock, retire or restore: give a member another status.

    ``written`` is what becomes of what someone wrote who leaves: keep, remove, or the key of a member who takes it.
    """

    key: str
    status: str
    written: str = ""

    def on(self, draft: Draft) -> Done:
        member = draft.member(self.key)
        if self.status not in STATUSES:
            raise EditError(f"'{self.status}' is no status of a member; one of {', '.join(STATUSES)}.")
        verbs = {"active": "restore", "locked": "lock", "retired": "retire", "pending": "let join", "invited": "invite"}
        if self.status == Status.ACTIVE and member.status in OUT:
            return self._restored(draft, member)
        verb = (
            {"pending": "vouch for", "invited": "accept"}.get(member.status, "restore")
            if self.status == Status.ACTIVE
            else verbs[self.status]
        )
        what = f"{verb} {member.called}"
        if member.status == self.status:
            raise EditError(f"{member.called} is already {self.status}.")
        if self.key == draft.charter.owner and self.status in OUT:
            raise EditError(
                f"{member.called} is the owner, who cannot be locked or retired. Hand over first: "
                "ask-above member hand-over MEMBER"
            )
        if self.written and self.written not in WRITTEN:
            heir = draft.member(self.written)
            if heir.key == self.key or heir.status in OUT:
                raise EditError(f"{heir.called} is leaving or has left; name another member for what was written.")
            what += f"; {HANDED} {heir.called}"
        elif self.written:
            what += f"; what they wrote is {'kept' if self.written == 'keep' else 'to be removed'}"
        rows = [changed_member(member, _with_status(draft, member, self.status))]
        if self.status == Status.ACTIVE and not member.joined:
            rows += _on_joining(draft, self.key, self.status, first=member.status in (Status.PENDING, Status.INVITED))
        return Done(what, (), tuple(rows))

    def _restored(self, draft: Draft, member: Member) -> Done:
        """Bring somebody back as they were: who waited before they were locked waits again (rule 4.7)."""
        row = changed_member(member, _with_status(draft, member, member.restored))
        back = "" if member.restored == "active" else f" ({member.restored}, as they were)"
        return Done(f"restore {member.called}{back}", (), (row,))


class MemberSet(NamedTuple):
    """Change a member's name, address, kind, note or groups."""

    key: str
    fields: Mapping[str, str]

    def on(self, draft: Draft) -> Done:
        member = draft.member(self.key)
        _check_fields(self.fields, _FIELDS)
        before = member_row(member)
        after = {**before, **self.fields}
        if after == before:
            raise EditError(f"Nothing changes for {member.called}.")
        _check_row(draft, after)
        named = (name for name in self.fields if before[name] != after[name])
        what = f"set {', '.join(name.replace('_', ' ') for name in named)} of {member.called}"
        return Done(what, (), (RowChange("members", self.key, before, after),))


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
        rank, member = draft.rank(self.rank), draft.member(self.member)
        place = draft.place(self.place)
        if rank.automatic:
            raise EditError(f"{rank.called} is automatic; nobody may assign or unassign it.")
        here = [assignment for assignment in draft.register.of(self.member) if assignment.place == self.place]
        same = [e for e in here if e.rank == self.rank]
        # a new end alone leaves the beginning, of what is in force or of what is still to come
        begun = next((e.period.said_from for e in same if e.period.contains(draft.at)), None)
        if begun is None and self.until and not self.since:
            to_come = [e.period for e in same if e.period.start is not None and e.period.start > draft.at]
            begun = min(to_come, key=lambda period: period.start or 0).said_from if to_come else None
        since = self.since or begun or ""
        when = given_period(draft, since, self.until)
        new = Assignment(self.member, self.rank, self.place, when, draft.by, self.why)
        # what would change nothing is no change, whatever it is recorded as
        if not self.only and coverage(same).since(draft.at) == coverage([new]).since(draft.at):
            return Done(f"{member.called} has {rank.called} {in_place(place.called, site=self.place == SITE)}")
        where = in_place(place.called, site=self.place == SITE)
        told = self.since or (since if self.until and same else "")
        span = (f" from {day(told)}" if told else "") + ending(when)
        what = f"assign {rank.called} to {member.called} {where}{span}{', and nothing else there' if self.only else ''}"
        # one that is open to be replaced by another period of the same rank is changed, not doubled
        there = coverage(same).since(draft.at) == coverage([new]).since(draft.at)  # then it stays as it is recorded
        gone = [e for e in here if (e.rank == self.rank and not there) or (e.rank != self.rank and self.only)]
        rows = [*map(ended, gone), *([] if there else [given(new)])]
        return Done(what, (), tuple(rows))


class Unassign(NamedTuple):
    """Take a rank from a member, at exactly one place."""

    member: str
    rank: str
    place: str = SITE

    def on(self, draft: Draft) -> Done:
        rank, member = draft.rank(self.rank), draft.member(self.member)
        where = in_place(draft.place(self.place).called, site=self.place == SITE)
        has = [e for e in draft.register.of(self.member) if (e.rank, e.place) == (self.rank, self.place)]
        if not has:
            raise EditError(
                f"{member.called} has no assignment of {rank.called} {where}."
                f"{_elsewhere(draft, self.member, self.rank)}"
            )
        what = f"unassign {rank.called} from {member.called} {where}"
        return Done(what, (), tuple(map(ended, has)))


class HandOver(NamedTuple):
    """Hand the ownership to another member."""

    member: str

    def on(self, draft: Draft) -> Done:
        member = draft.member(self.member)
        if not member.is_active:
            raise EditError(f"{member.called} is {member.status}; the owner has to be active.")
        if draft.charter.owner == self.member:
            raise EditError(f"{member.called} is the owner already.")
        what = f"make {member.called} the owner"
        return Done(what, (Put(("owner",), self.member),))


def _elsewhere(draft: Draft, member: str, rank: str) -> str:
    """Say where else someone has a rank."""
    places = [assignment.place for assignment in draft.register.of(member) if assignment.rank == rank]
    if places:
        return f" They have it at: {', '.join(places)}"
    return ""


def given_period(draft: Draft, since: str, until: str) -> Period:
    """Return the period of an assignment; raises :class:`EditError` for one that cannot be, or is over."""
    for said in (since, until):
        if not is_date(said):
            raise EditError(f"'{said}' is no moment; write {HOW_TO_WRITE}.")
    when = period(since, until, draft.charter.zone)
    if when.end is not None and when.start is not None and when.end <= when.start:
        raise EditError(f"It ends ({until}) before it starts ({since}).")
    if when.end is not None and when.end <= draft.at:
        raise EditError(f"{until} is past. To remove a rank: ask-above unassign")
    return when


def _check_fields(fields: Mapping[str, Any], known: Sequence[str]) -> None:
    """Raise where a member has no such field, or none that is set so."""
    for name in fields:
        if name not in known:
            raise no_field("a member", name, known)


def _with_status(draft: Draft, member: Member, status: str) -> dict[str, str]:
    """Return the cells of a member's other status; what a lock or a retirement takes the place of is remembered."""
    row = {"status": status, "was": ""}
    if status in OUT:
        row["was"] = member.was if member.status in OUT else member.status
    if status == Status.ACTIVE and not member.joined and member.status not in OUT:
        row["joined"] = draft.day
    return row


def _groups(row: Mapping[str, str]) -> Sequence[str]:
    return [word for word in row["groups"].split(";") if word]


def _check_row(draft: Draft, row: Mapping[str, str]) -> None:
    """Hold a member's row to what may stand in it."""
    for column, options in (("kind", KINDS), ("status", STATUSES)):
        if row[column] not in options:
            raise EditError(f"'{row[column]}' is no {column} of a member; one of {', '.join(options)}.")
    if row["email"] and not good_address(row["email"]):
        raise EditError(f"'{row['email']}' is no e-mail address.")
    if not is_date(row["joined"]):
        raise EditError(f"'{row['joined']}' is no date; write {HOW_TO_WRITE}.")
    for key in _groups(row):
        if key not in draft.charter.groups:
            raise UnknownNameError("group", key, nearest(key, draft.charter.groups))


def good_address(text: str) -> bool:
    """Whether a text can be an e-mail address: something, one @, a name with a dot or a plain host."""
    return _ADDRESS.fullmatch(text) is not None and not has_unseen(text) and text.count('"') == 0


def _on_joining(draft: Draft, key: str, status: str, *, first: bool) -> Iterator[RowChange]:
    """Yield the ranks given to everyone who becomes active for the first time (rule 4.7)."""
    if first and status == Status.ACTIVE:
        yield from on_joining_to(draft, key, rows_on_joining(draft))


def rows_on_joining(draft: Draft) -> dict[str, dict[str, str]]:
    """Return by rank what is recorded of someone who is given it on joining."""
    when = given_period(draft, draft.day, "")
    ranks = [rank.key for rank in draft.charter.ranks.values() if rank.on_joining and not rank.paused]
    return {rank: assignment_row(Assignment("", rank, SITE, when, draft.by, "on joining")) for rank in ranks}


def on_joining_to(draft: Draft, key: str, rows: Mapping[str, Mapping[str, str]]) -> Iterator[RowChange]:
    """Yield those of the rows that are news for a member."""
    has = {assignment.rank for assignment in draft.register.of(key) if assignment.place == SITE}
    for rank, row in rows.items():
        if rank not in has:
            yield RowChange("assignments", "0", None, {**row, "member": key})
