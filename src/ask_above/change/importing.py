"""Merge a list of members into the register: new ones, changed ones, all or nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import NamedTuple

from ask_above.change.draft import Done, Draft, EditError, RowChange, changed_member, given, member_row
from ask_above.change.parts import coverage
from ask_above.change.people import Assign, given_period, good_address, on_joining_to, rows_on_joining
from ask_above.charter.moments import HOW_TO_WRITE, is_date
from ask_above.charter.names import RESERVED, SITE, few, how_many, is_key, nearest
from ask_above.charter.reading.context import KnownNames
from ask_above.errors import AskAboveError, Fault, FaultyFilesError
from ask_above.people.directory import Directory, NameKind
from ask_above.people.reading import MEMBER_COLUMNS, FileRow, FileRows, read_register
from ask_above.people.recognising import CALLED, Recogniser, TwoPeopleError, key_from, known_of, new_key
from ask_above.people.register import KINDS, OUT, STATUSES, Assignment, Member, Status
from ask_above.visible import has_unseen, is_plain, visible

COLUMNS = MEMBER_COLUMNS
_MOST_LIKELY = 3
_HIDDEN = "somebody who is here"
_UNIQUE = ("email", "user_name", "external_id")


class Import(NamedTuple):
    """Merge rows of members; ``status`` is what those are who have none, ``told`` hears how many rows are done.

    With ``retires`` the active members who stand in no row are retired; the owner never is. With ``link`` who is likely
    somebody that is here is taken for them; else such a row is a fault, which names them with ``shows``. ``given`` is
    the rank that all of them are given as well.
    """

    rows: FileRows
    status: str = ""
    told: Callable[[int, int], None] | None = None
    retires: bool = False
    link: bool = False
    shows: bool = True
    given: Assign | None = None

    def on(self, draft: Draft) -> Done:
        """Return the change; raises :class:`FaultyFilesError` with all that is wrong, by line."""
        file = self.rows.again()
        merger = _Merger(file, draft, self.status, link=self.link, shows=self.shows)
        rows = list(file.rows)
        changes: list[RowChange] = []
        for n, row in enumerate(rows):
            changes += merger.merge(row)
            if self.told and n % 500 == 0:
                self.told(n, len(rows))
        if file.faults:
            raise FaultyFilesError(file.faults)
        new = sum(row.table == "members" and row.before is None for row in changes)
        others = sum(row.table == "members" and row.before is not None for row in changes)
        gone = [_retired(draft.register.members[key]) for key in merger.absent] if self.retires else []
        changes += gone
        ranks = [*self._ranks(draft, merger)]
        changes += ranks
        what = f"import {self.rows.name}: {how_many(new, 'new member')}, {others} changed"
        what += f", {len(gone):,} retired" if gone else ""
        what += f"; assign {draft.rank(self.given.rank).called} to {len(ranks)} of them" if self.given else ""
        return Done(what, (), tuple(changes))

    def _ranks(self, draft: Draft, merger: _Merger) -> Iterator[RowChange]:
        """Yield the assignments that are news for whom the rows mean."""
        if self.given is None:
            return
        rank, spot = draft.rank(self.given.rank), draft.place(self.given.place)
        if rank.automatic:
            raise EditError(f"{rank.called} is automatic; nobody may assign or unassign it.")
        new = Assignment("", rank.key, spot.key, given_period(draft, self.given.since, self.given.until), draft.by)
        for member in merger.seen:
            has = [each for each in draft.register.of(member) if (each.rank, each.place) == (rank.key, spot.key)]
            joins = rank.on_joining and spot.key == SITE and member not in draft.register.members
            if not joins and coverage(has).since(draft.at) != coverage([*has, new]).since(draft.at):
                yield given(new._replace(member=member))


class ImportAssignments(NamedTuple):
    """Merge rows of assignments: those that the register does not hold are given, none is taken.

    One that does not say since when is none where somebody has that rank there already, for as long.

    ``told`` hears how many rows are done. The columns ``by`` and ``source`` count in an import by the owner or by
    nobody in particular; in others' imports they are passed over (rule 9.3).
    """

    rows: FileRows
    told: Callable[[int, int], None] | None = None

    def on(self, draft: Draft) -> Done:
        """Return the change; raises :class:`FaultyFilesError` with all that is wrong, by line."""
        file = self.rows.again()
        rows = list(file.rows)
        charter = draft.charter
        names = KnownNames(charter.ranks, charter.groups, charter.rules.timezone)
        names.places = charter.places
        members = FileRows("the register")
        members.rows = [FileRow(member_row(member), 0) for member in draft.register.members.values()]
        read = read_register(members, file, names, "charter.yaml")
        if file.faults:
            raise FaultyFilesError(file.faults)
        changes: list[RowChange] = []
        new: set[object] = set()
        trusted = draft.by in ("", charter.owner)
        passed = not trusted and any(assignment.by or assignment.source for assignment in read.assignments)
        for n, to_assign in enumerate(read.assignments):
            if not trusted:
                to_assign = to_assign._replace(by=draft.by, source="")  # noqa: PLW2901 (the same, by whoever makes the change)
            same = to_assign[:4]
            if same not in new and not _is_held(draft, to_assign):
                new.add(same)
                changes.append(given(to_assign))
            if self.told and n % 500 == 0:
                self.told(n, len(rows))
        said = " (columns by and source passed over)" if passed else ""
        return Done(f"import {self.rows.name}: {how_many(len(changes), 'new assignment')}{said}", (), tuple(changes))


def _is_held(draft: Draft, given: Assignment) -> bool:
    """Whether the register holds an assignment, or, where it does not say since when, one that lasts as long."""
    has = [held for held in draft.register.of(given.member) if held[:3] == given[:3]]
    lasts = given.period.start is None and coverage(has).since(draft.at) == coverage([*has, given]).since(draft.at)
    return lasts or any(held.period == given.period for held in has)


def _retired(member: Member) -> RowChange:
    return changed_member(member, {"status": "retired", "was": member.status})


def absent(rows: FileRows, draft: Draft) -> list[str]:
    """Return the active members whom no row means; never the owner, and no bot."""
    merger = _Merger(rows, draft, "active", link=True)
    for row in rows.rows:
        merger.seen.setdefault(row.cells.get("key") or merger.key_for(row), row.line)
    return merger.absent


class _Merger:
    def __init__(self, rows: FileRows, draft: Draft, status: str, *, link: bool, shows: bool = True) -> None:
        self.rows, self.draft, self.status, self.link, self.shows = rows, draft, status, link, shows
        self.seen: dict[str, int] = {}
        self.known = draft.register.members
        self.people = Recogniser()
        self.taken = {*self.known, *draft.charter.ranks}
        self.unique: dict[tuple[str, str], int] = {}
        self.directory = Directory(draft.charter, draft.register)
        # where there is a rank for those who wait, active is a decision that a list has to state
        entry = any(rank.entry for rank in draft.charter.ranks.values())
        self.must_say = entry and not status
        self.joining = rows_on_joining(draft)
        new = {"kind": "person", "status": status or "active"}
        self.dates: dict[str, bool] = {}
        self.fresh = {**dict.fromkeys(COLUMNS, ""), **new}

    def merge(self, row: FileRow) -> Iterator[RowChange]:
        """Yield what one row changes."""
        cells = dict(row.cells)
        key = cells.get("key") or self.key_for(row)
        if not key:
            return
        old = self.known.get(key)
        if not self._good(row, cells, key, old):
            return
        before = None if old is None else member_row(old)
        after = (before or self.fresh).copy()
        if cells.get("groups"):
            cells["groups"] = ";".join(filter(None, map(self._group, cells["groups"].split(";"))))
        for column, value in cells.items():
            if value:
                after[column] = value
        after["key"] = key
        # whoever has been active once was given what comes on joining then
        first = old is None or (old.status in (Status.PENDING, Status.INVITED) and not old.joined)
        if first and after["status"] == Status.ACTIVE and not after["joined"]:
            after["joined"] = self.draft.day
        self._remember(old, after)
        if after != before:
            yield RowChange("members", key, before, after)
            if self.joining and first and after["status"] == Status.ACTIVE:
                yield from on_joining_to(self.draft, key, self.joining)

    def _group(self, said: str) -> str:
        """Return the key of a group by key or title; what is neither stays, and is a fault."""
        known = self.directory.find(said.strip(), NameKind.GROUP) if said.strip() else None
        return said.strip() if known is None else known.key

    @property
    def absent(self) -> list[str]:
        """The active members whom no row has meant; never the owner, and no bot."""
        owner = self.draft.charter.owner
        people = ((key, m) for key, m in self.known.items() if m.is_active and m.kind == "person")
        return [key for key, _ in people if key not in self.seen and key != owner]

    @staticmethod
    def _remember(old: Member | None, after: dict[str, str]) -> None:
        """Let a row remember the status there was before a lock or a retirement, and forget it afterwards."""
        if after["status"] in OUT and old is not None and old.status not in OUT:
            after["was"] = old.status
        elif after["status"] not in OUT:
            after["was"] = ""

    def key_for(self, row: FileRow) -> str:
        """Return the key of whoever a row without one means, else one made from the name; empty where it is a fault."""
        cells = row.cells
        name = cells.get("name", "")
        known = known_of(cells)
        try:
            key = self.people.who(self.draft.register, known)
        except TwoPeopleError as error:
            self._fault(row, "external_id", "two-people", str(error)[:-1], "what is known of one member")
            return ""
        likely = self.people.likely(self.draft.register, known) if key is None else []
        if key is None and likely and self.link and (len(likely) == 1 or known.email):
            key = likely[0]
        # two people of one name are two people until somebody says otherwise
        elif likely:
            members = [self.known[each] for each in likely]
            who = few((each.called_by_key for each in members), _MOST_LIKELY, "or") if self.shows else _HIDDEN
            expected = "a column key that says who is meant" + ("" if self.link else ", or --link to link them")
            self._fault(row, "name", "likely", f"{name or known.email} is likely {who}", expected)
            return ""
        if key is None:
            called = name or known.email.partition("@")[0] or known.user_name or known.external_id
            if not called:
                self._fault(row, "name", "nobody", "this row says nothing of who it is", "a name, an address or a key")
                return ""
            key = new_key(called, self.taken)
            self.taken.add(key)
        return key

    def _good(self, row: FileRow, cells: Mapping[str, str], key: str, old: Member | None) -> bool:
        count = len(self.rows.faults)
        if old is None and (not is_key(key) or key in RESERVED):
            message, expected = (
                f"'{key}' cannot be the key of a member",
                "small letters, digits, - and _, such as petra",
            )
            self._fault(row, "key", "bad-key", message, expected)
        for column, cell in () if is_plain("".join(cells.values())) else cells.items():
            if has_unseen(cell.replace("\n", "") if column == "note" else cell):
                message = f"the {column} holds a character that cannot be seen: {visible(cell)}"
                self._fault(row, column, "odd-sign", message, "plain text in one line")
        joined = cells.get("joined", "")
        if joined not in self.dates:
            self.dates[joined] = is_date(joined)
        if not self.dates[joined]:
            self._fault(row, "joined", "bad-date", f"'{cells['joined']}' is no date", HOW_TO_WRITE)
        if key in self.seen:
            self._fault(row, "key", "twice", f"'{key}' stands on line {self.seen[key]} already", "each member once")
        self.seen[key] = row.line
        self._check_unique(row, cells, key)
        for column, options in (("kind", KINDS), ("status", STATUSES)):
            cell = cells.get(column, "")
            if cell and cell not in options:
                self._fault(
                    row,
                    column,
                    "unknown-word",
                    f"'{cell}' is no {column} of a member",
                    f"one of {', '.join(options)}",
                    nearest(cell, options),
                )
        if old is None and self.must_say and not cells.get("status"):
            message = "the status must be said here, as the charter has a rank for those who wait"
            self._fault(row, "status", "missing", message, "active or pending, in the file or by --status")
        if cells.get("groups"):
            self._check_groups(row, cells["groups"])
        return len(self.rows.faults) == count

    def _check_unique(self, row: FileRow, cells: Mapping[str, str], key: str) -> None:
        """Note addresses that are none, and what is somebody else's, here or on another line."""
        address = cells.get("email", "")
        if address and not good_address(address):
            expected = "an address such as petra@river.example"
            self._fault(row, "email", "bad-address", f"'{address}' is no e-mail address", expected)
            return
        login, number = cells.get("user_name", ""), cells.get("external_id", "")
        member = Member(key, email=address, user_name=login, external_id=number)
        doubles = self.people.doubles(self.draft.register, (member,))
        others = [(double.field, f"is that of {double.other}") for double in doubles]
        for field, value in zip(_UNIQUE, (address, login, number), strict=True):
            if value and (at := self.unique.setdefault((field, value.casefold()), row.line)) != row.line:
                others.append((field, f"stands on line {at} already"))
        for field, whose in others:
            said = cells.get(field) or key
            called = CALLED.get(field, field)
            self._fault(row, field, "twice", f"the {called} '{said}' {whose}", f"one member for each {called}")

    def _check_groups(self, row: FileRow, said: str) -> None:
        for group in filter(None, said.split(";")):
            if self._group(group) not in self.draft.charter.groups:
                near = nearest(group.strip(), self.draft.charter.groups)
                self._fault(
                    row,
                    "groups",
                    "unknown-group",
                    f"there is no group '{group.strip()}'",
                    "groups separated by ;",
                    near,
                )

    def _fault(
        self, row: FileRow, column: str, code: str, message: str, expected: str, near: tuple[str, ...] = ()
    ) -> None:
        self.rows.fault(row, column, code, message, expected, near)


__all__ = ["COLUMNS", "AskAboveError", "Fault", "Import", "ImportAssignments", "key_from"]
