"""The journal, and what happened to somebody, as far as whoever asks may see it."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple

from ask_above.ask.advice.accounts import Beside
from ask_above.ask.choosing import sees
from ask_above.change.draft import RowChange
from ask_above.change.people import HANDED
from ask_above.charter.moments import Instant, instant
from ask_above.charter.names import listed, titled
from ask_above.decide.names import Names
from ask_above.decide.words import in_place, span
from ask_above.errors import AmbiguousNameError, Fault, FaultyFilesError
from ask_above.files.folder import fetched
from ask_above.files.signins import SIGNINS, signins_in
from ask_above.people.directory import NameKind
from ask_above.people.register import Status
from ask_above.printing import prints
from ask_above.store.entries import Entry

if TYPE_CHECKING:
    from ask_above.workspace.storage import Storage

_COLUMNS = {"name": "name", "email": "address", "phone": "telephone number", "note": "notes", "kind": "kind"}
"""What a history tells of a record, and what it is called; ``rules.contacts`` governs all of it but the kind."""


class Event(NamedTuple):
    """One thing that happened to a member: ``what`` in a sentence, in which change, when, and by whom.

    ``at`` has a time zone. ``by`` is a key, empty for the maintainer of the files; ``name`` what they were called then.
    """

    number: int
    at: datetime
    what: str
    by: str
    name: str
    why: str


@prints
class History(NamedTuple):
    """What happened to a member, the first first; ``hidden`` tells that values of contact details were left out.

    ``called`` is the member's name with the key, the key alone where the name is left out; ``timezone`` that of the
    charter, in which times are shown.
    """

    member: str
    events: tuple[Event, ...]
    hidden: bool
    called: str = ""
    timezone: str = "UTC"

    def __repr__(self) -> str:
        return f"<History of {self.member}: {len(self.events)} events>"


def concerns(entry: Entry, key: str) -> bool:
    """Whether an entry was made by a member, or changes something of theirs."""
    return entry.who == key or any(whose(row) == key for row in entry.rows)


def waiting_since(entries: Sequence[Entry]) -> dict[str, Instant]:
    """Return since when members are pending or invited whom a change made so."""
    since: dict[str, Instant] = {}
    for entry in entries:
        for row in entry.rows if entry.kind != "import" else ():  # which says what was so already
            after, before = (row.after or {}).get("status"), (row.before or {}).get("status")
            if row.table == "members" and after in (Status.PENDING, Status.INVITED) and after != before:
                since[row.key] = instant(datetime.fromisoformat(entry.at))
    return since


def heirs_of(entries: Sequence[Entry], names: Names) -> dict[str, list[str]]:
    """Return for each member what the journal says was handed to them: the names of those who wrote it."""
    writers: dict[str, list[str]] = {}
    for entry in entries:
        if entry.undone_by is not None:
            continue
        for writer, heir in _HANDED.findall(entry.what):
            # by a name that several have by now nobody is meant for certain
            with suppress(AmbiguousNameError):
                known = names.directory.find(heir, NameKind.MEMBER)
                if known is not None:
                    writers.setdefault(known.key, []).append(writer)
    return writers


def beside(home: Storage, names: Names) -> Beside:
    """Return what stands beside charter and register in a folder; where a sign-in has a fault none counts."""
    heirs, faults = heirs_of(home.entries(), names), list[Fault]()
    content = fetched(home.file, SIGNINS, faults)
    try:
        sign_ins = [] if content is None else signins_in(SIGNINS, content, names.charter, names.register)
    except FaultyFilesError as error:
        return Beside((), heirs, error.faults)
    return Beside(sign_ins, heirs, faults)


_HANDED = re.compile(rf"retire ([^;]+); {HANDED} ([^;]+)", re.IGNORECASE)


_OWNER = re.compile(r"^owner: *['\"]?([\w-]+)", re.MULTILINE)


def _owner_in(text: str) -> str:
    """Return the owner that a piece of the charter names: its line, or the key alone."""
    line = _OWNER.search(text)
    return line[1] if line else text.strip()


def whose(row: RowChange) -> str:
    """Return the member whose row it is."""
    return row.key if row.table == "members" else (row.after or row.before or {})["member"]


def history_of(entries: Sequence[Entry], names: Names, member: str, viewer: str | None = None) -> History:
    """Return what happened to a member; raises :class:`UnknownNameError`.

    Of names, addresses and notes only what ``rules.contacts`` lets ``viewer`` see; without a viewer all of it.
    """
    known = names.member(member)
    everyone, own = sees(names.decider, names.moment(), viewer)

    def named(who: str) -> bool:
        return everyone or (own and viewer == who)

    shown = named(known.key)
    events = [
        Event(entry.number, datetime.fromisoformat(entry.at), what, entry.who, maker, entry.why)
        for entry in entries
        for maker in [entry.name if named(entry.who) else ""]
        for what in _events(entry, known.key, names, named)
    ]
    called = titled(known.name if shown else "", known.key, known.key)
    return History(known.key, tuple(events), not shown, called, names.charter.rules.timezone)


def _events(entry: Entry, key: str, names: Names, named: Callable[[str], bool]) -> Iterator[str]:
    rows, shown = [row for row in entry.rows if whose(row) == key], named(key)
    if entry.kind == "import":
        yield from (f"as the files had it: {_stood(row, names, named)}" for row in rows)
        return
    for _, _, *texts in entry.splices if "owner" in entry.what else ():
        was, now = map(_owner_in, texts)
        if was != now and key in (was, now):
            yield "became the owner" if now == key else "is the owner no longer"
    for row in rows:
        if row.table == "members":
            yield from _record(row.before, row.after, names, shown=shown)
    given = [row for row in rows if row.table == "assignments"]
    for row in given:
        # one that names something else now: another rank instead, or the same by another key
        if row.before is not None and row.after is not None and _spot(row.before) != _spot(row.after):
            yield f"{_rank(row.before, names)} → {given_rank(row.after, names)}"
            given = [each for each in given if each is not row]
    gone = [row.before for row in given if row.before is not None]
    come = [row.after for row in given if row.after is not None]
    for cells in come:
        before = next((each for each in gone if _spot(each) == _spot(cells)), None)
        if before is not None:
            gone.remove(before)
        yield f"{given_rank(cells, names)}{': changed' if before else ' assigned'}"
    for cells in gone:
        yield f"{_rank(cells, names)} unassigned"


def _stood(row: RowChange, names: Names, named: Callable[[str], bool]) -> str:
    """Say what somebody was, or had, before the first change: nobody made it so then."""
    cells = row.after or {}
    if row.table == "members":
        inside = _groups(cells, names)
        return f"{cells['status']}{f', in {listed(inside)}' if inside else ''}"
    maker = cells.get("by", "")
    giver = names.register.members.get(maker) if named(maker) else None
    by = f", assigned by {giver.called if giver else maker}" if maker else ""
    return f"{given_rank(cells, names)}{by}"


def _spot(cells: Mapping[str, str]) -> tuple[str, str]:
    return cells["rank"], cells.get("place", "")


def _record(
    before: Mapping[str, str] | None, after: Mapping[str, str] | None, names: Names, *, shown: bool
) -> Iterator[str]:
    if after is None:
        yield "removed from the register"
        return
    known = before or {}
    was, now = _groups(known, names), _groups(after, names)
    if before is None:
        yield f"added, {after.get('status', 'active')}"
    elif known.get("status") != after.get("status"):
        yield f"{known.get('status')} → {after.get('status')}"
    yield from (f"put into {group}" for group in now if group not in was)
    yield from (f"taken out of {group}" for group in was if group not in now)
    for column, called in _COLUMNS.items() if before else ():
        old, new = known.get(column, ""), after.get(column, "")
        if old != new:
            yield f"{called}: {old or '-'} → {new or '-'}" if shown or column == "kind" else f"{called} changed"


def _groups(cells: Mapping[str, str], names: Names) -> list[str]:
    """Return the groups of a member's row, as sentences name them."""
    known = names.charter.groups
    keys = filter(None, cells.get("groups", "").split(";"))
    return [f"the group {known[key].called if key in known else key}" for key in keys]


def _rank(cells: Mapping[str, str], names: Names) -> str:
    rank, place = names.charter.ranks.get(cells["rank"]), names.charter.places.get(cells.get("place") or "site")
    title = rank.called if rank else cells["rank"]
    where = place.called if place else cells.get("place", "")
    return f"{title} {in_place(where, site=not cells.get('place'))}"


def given_rank(cells: Mapping[str, str], names: Names) -> str:
    """Say the rank of an assignment's row, where, and from when until when."""
    return f"{_rank(cells, names)}{span(cells.get('from', ''), cells.get('until', ''))}"
