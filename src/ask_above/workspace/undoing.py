"""Take a change back, and look at a community as it was (rule 9.12)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from ask_above.change.draft import Done, EditError, RowChange, assignment_row, member_row
from ask_above.change.facts import OVER, Fact, facts
from ask_above.change.references import path_of
from ask_above.change.registering import changed
from ask_above.change.steps import Drop
from ask_above.charter.charter import Charter
from ask_above.files.merging import differing, hunks, merged
from ask_above.files.splice import Splice, apply, as_before, edited
from ask_above.files.yaml_text import compose, plain, read_yaml
from ask_above.people.register import Register
from ask_above.workspace.plans import Plan, check_register, named, read_charter
from ask_above.workspace.storage import Snapshot, Storage, opened, register_as_left

if TYPE_CHECKING:
    from ask_above.store.entries import Entry


def undo(home: Storage, number: int | None = None, *, by: str | None = None, why: str = "") -> Plan:
    """Plan to take back one change, the last that still stands where none is named.

    Raises :class:`EditError` where there is no such change, where it was undone already, and where something later
    depends on it: the message says what.
    """
    snapshot = home.read()
    if snapshot.loaded is None:
        raise EditError("Nothing has been changed by command yet, so there is nothing to undo.")
    entries = _entries(home, snapshot)
    entry = _wanted(entries, number)
    later = [each for each in entries if each.number > entry.number]
    names = opened(home, snapshot)
    plan = Plan(home, snapshot, (), by=named(names, by), why=why, at=names.moment())
    plan.kind, plan.undoes, plan.undone = "undo", entry.number, entry
    texts, after = dict(snapshot.texts), _earlier(snapshot, later)
    earlier = as_before(after, entry.splices)
    for name in dict.fromkeys(splice[0] for splice in entry.splices):
        if not (name in after and name in earlier):
            continue  # the charter came to name it, or names it no longer: what it holds is its own
        if name not in snapshot.texts:
            raise EditError(f"Change {entry.number} cannot be undone: the charter no longer names {name}.")
        texts[name] = _text_without(entry, later, (earlier[name], after[name], snapshot.texts[name]), name)
        plan.splices += list(differing(name, snapshot.texts[name], texts[name]))
    plan.texts = texts
    plan.rows = _rows_back(entry, later, snapshot.register)
    what = f"undo {entry.number}: {entry.what}"
    plan.done = [Done(what)]
    charter = _read(home, texts, entry, later) if plan.splices else snapshot.charter
    _nothing_left_behind(plan.rows, snapshot.register, entry.number)
    register = changed(snapshot.register, plan.rows, charter.zone)
    check_register(charter, register, what, plan.before)
    plan.after = plan.before.after(charter=charter, register=register)
    return plan


def _read(home: Storage, texts: Mapping[str, str], entry: Entry, later: Sequence[Entry]) -> Charter:
    """Read the charter without a change; raises :class:`EditError` that names the later change that rests on it."""
    try:
        return read_charter(home, texts, entry.what)
    except EditError as error:
        touching = [each for each in later if each.splices]
        if not touching:
            raise
        raise EditError(f"{_cannot(entry, touching[-1])} ({error})") from None


def _cannot(entry: Entry, other: Entry) -> str:
    return (
        f"Change {entry.number} cannot be undone: change {other.number} ({other.what}) changed the same since. "
        f"Undo that first: ask-above undo {other.number}"
    )


def as_of(home: Storage, number: int) -> tuple[Charter, Register]:
    """Return charter and register as they were after a change; 0 is before the first. Raises :class:`EditError`."""
    snapshot = home.read()
    entries = _entries(home, snapshot)
    if number < 0 or number > max((each.number for each in entries), default=0):
        raise no_change(number, entries)
    later = [
        each for each in entries if (each.number > number and each.kind != "import") or each.number > max(number, 1)
    ]
    charter = home.charter_of(_earlier(snapshot, later))
    register = register_as_left(snapshot, charter.zone)
    for entry in reversed(later):
        back = [row.back for row in reversed(entry.rows)]
        register = changed(register, back, charter.zone)
    return charter, register


class Lines(NamedTuple):
    """Lines of a file that a change replaced, ``old`` by ``new``; ``first`` is the number of the first after it."""

    file: str
    first: int
    old: Sequence[str]
    new: Sequence[str]


def lines_changed(home: Storage, entry: Entry) -> Iterator[Lines]:
    """Yield the lines of the charter's files that a change replaced, in their order."""
    snapshot = home.read()
    after = _earlier(snapshot, [each for each in _entries(home, snapshot) if each.number > entry.number])
    earlier = as_before(after, entry.splices)
    # a file that the charter came to name, or names no longer, is as it was
    for name in (name for name in earlier if name in after):
        old, shift = earlier[name].splitlines(), 0
        for hunk in hunks(earlier[name], after[name]):
            new = [line.rstrip("\r\n") for line in hunk.lines]
            yield Lines(name, hunk.start + shift + 1, old[hunk.start : hunk.end], new)
            shift += len(new) - (hunk.end - hunk.start)


def _entries(home: Storage, snapshot: Snapshot) -> list[Entry]:
    """Return the journal as far as a snapshot knows it."""
    last = snapshot.loaded.last if snapshot.loaded else 0
    return [entry for entry in home.entries() if entry.number <= last] if last else []


def no_change(number: int, entries: Sequence[Entry]) -> EditError:
    """Return what is raised where the journal has no change of a number: it says which is the last."""
    last = max((entry.number for entry in entries), default=0)
    return EditError(f"There is no change {number} in the journal; {f'the last is {last}' if last else 'it is empty'}.")


def _wanted(entries: Sequence[Entry], number: int | None) -> Entry:
    """Return the change to be taken back."""
    if number is None:
        standing = [e for e in entries if e.undone_by is None and e.kind in ("change", "hand") and e.number > 1]
        if not standing:
            raise EditError("No change is left to undo.")
        return standing[-1]
    wanted = next((entry for entry in entries if entry.number == number), None)
    if wanted is None:
        raise no_change(number, entries)
    if wanted.number == 1 and wanted.kind == "import":
        raise EditError("The first entry took the register over from the CSV files; it cannot be undone.")
    if wanted.kind == "forget":
        raise EditError(f"Change {wanted.number} forgot somebody for good; it cannot be undone.")
    if wanted.undone_by is not None:
        raise EditError(f"Change {number} was undone already, by {wanted.undone_by}.")
    return wanted


# -- texts


def _earlier(snapshot: Snapshot, later: Sequence[Entry]) -> dict[str, str]:
    """Return the charter's files as they were before some entries, the last of which is the last there is."""
    texts = dict(snapshot.loaded.files if snapshot.loaded else snapshot.texts)
    for entry in reversed(later):
        texts = as_before(texts, entry.splices)
    return texts


def _text_without(entry: Entry, later: Sequence[Entry], texts: tuple[str, str, str], name: str) -> str:
    """Return a file's text as it is, less what one entry did to it: ``texts`` are before and after that, and now."""
    old, new, now = texts
    result = taken_back(old, new, now)
    if result is not None:
        return result
    text = new
    for other in later:
        for file, start, taken, put in other.splices:
            if file == name:
                text = apply(text, Splice(start, taken, put))
        if text and taken_back(old, new, text) is None:
            raise EditError(_cannot(entry, other))
    raise EditError(f"Change {entry.number} cannot be undone: {name} was edited by hand in the same lines since.")


def taken_back(before: str, after: str, now: str) -> str | None:
    """Return a text without what a change from ``before`` to ``after`` did; ``None`` where not all of it can go.

    Lines are put together first. Where that leaves something of the change, as things moved since, what it added is
    taken out where it stands now.
    """
    old, new, here = map(_facts, (before, after, now))
    # by lines first, as that keeps comments and order; facts then say whether all of it went
    result = merged(after, now, before)
    if result is not None:
        left = _facts(result)
        all_gone = left.isdisjoint((new - old) & here) and (old - new) - here <= left
        if all_gone and all(fact in new ^ old or fact[0] == OVER for fact in here ^ left):
            return result
    return _without_added(old, new, here, now)


def _facts(text: str) -> frozenset[Fact]:
    data: Any = read_yaml("", text.encode("utf-8")).data
    return facts(data)


def _without_added(old: frozenset[Fact], new: frozenset[Fact], here: frozenset[Fact], now: str) -> str | None:
    """Return a text without the rank, group or place that a change added, if that says the same wherever it stands."""
    made, gone = (_but_order(facts) for facts in (new - old, old - new))
    things = {fact[1][:2] for fact in made}
    if gone or len(things) != 1 or not made <= here:
        return None
    kind, *key = things.pop()
    data: Any = plain(compose(now))
    path = path_of(data, kind, key[0]) if kind in ("ranks", "groups", "places") and key else None
    if path is None:
        return None
    text, _ = edited(now, [Drop(path)])
    return text if _but_order(here - _facts(text)) == made else None


def _but_order(some: frozenset[Fact]) -> set[Fact]:
    """Return facts but where a rank or a place stands."""
    return {fact for fact in some if fact[0] != OVER and fact[1][-1] != "parent"}


# -- rows


def _rows_back(entry: Entry, later: Sequence[Entry], register: Register) -> list[RowChange]:
    """Return the rows that take an entry's rows back, where they are still as it left them."""
    back = []
    for row in reversed(entry.rows):
        if _now(register, row) != _plain(row.after):
            by = next((each for each in reversed(later) if any(_same(row, other) for other in each.rows)), None)
            said = f"{by.number} ({by.what}) changed the same since" if by else "what it concerns is no longer so"
            raise EditError(f"Change {entry.number} cannot be undone: {said}.")
        back.append(row.back)
    return back


def _nothing_left_behind(rows: Sequence[RowChange], register: Register, number: int) -> None:
    """Raise where a member would be taken out who was given something since."""
    taken = {row.key for row in rows if row.table == "assignments" and row.after is None}
    for row in rows:
        if row.table != "members" or row.after is not None:
            continue
        left = [assignment for assignment in register.of(row.key) if str(assignment.number) not in taken]
        if left:
            ranks = ", ".join(dict.fromkeys(each.rank for each in left))
            raise EditError(
                f"Change {number} cannot be undone: {row.key} was given {ranks} since; retire them instead."
            )


def _same(row: RowChange, other: RowChange) -> bool:
    return (row.table, row.key) == (other.table, other.key)


def _now(register: Register, row: RowChange) -> dict[str, str] | None:
    """Return a row as it stands in the register."""
    if row.table == "members":
        member = register.members.get(row.key)
        return None if member is None else _plain(member_row(member))
    cells = row.after or row.before or {}
    found = next((assignment for assignment in register.of(cells["member"]) if str(assignment.number) == row.key), None)
    return None if found is None else _plain(assignment_row(found))


def _plain(cells: Mapping[str, str] | None) -> dict[str, str] | None:
    return None if cells is None else {key: value for key, value in cells.items() if value}
