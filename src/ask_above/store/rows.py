"""The register's rows in the tables: read all of them, or write those that changed; what a folder's files last held."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from operator import itemgetter
from typing import Any

import sqlalchemy as sa

from ask_above.change.draft import RowChange
from ask_above.charter.names import SITE
from ask_above.errors import StoreError
from ask_above.store.entries import Entry, FileRecord
from ask_above.store.tables import ASSIGNMENT_COLUMNS as _ASSIGNMENT
from ask_above.store.tables import MEMBER_COLUMNS as _MEMBER
from ask_above.store.tables import assignments, folder_files, member_groups, members, notes, tokens

_IN_FILES = tuple("from" if name == "since" else name for name in _ASSIGNMENT)
"""The columns of assignments, as rows of the journal call them."""
_AT_ONCE = 5_000
_FEW = 10
Within = tuple[str, str]
"""From a key up to another, which is not meant any more; an empty one is no bound."""


def read_records(connection: sa.Connection, folder: str) -> dict[str, FileRecord]:
    """Return what was last written into each file of a folder, by the file's name."""
    columns = [folder_files.c[name] for name in ("name", *FileRecord._fields)]
    rows = connection.execute(sa.select(*columns).where(folder_files.c.folder == folder))
    return {name: FileRecord(content, before, number, bool(placed)) for name, content, before, number, placed in rows}


def write_record(connection: sa.Connection, folder: str, name: str, record: FileRecord) -> None:
    """Note what is written into a file."""
    same = (folder_files.c.folder == folder) & (folder_files.c.name == name)
    done = connection.execute(folder_files.update().where(same).values(**record._asdict()))
    if not done.rowcount:
        connection.execute(folder_files.insert().values(folder=folder, name=name, **record._asdict()))


def note_placed(connection: sa.Connection, folder: str) -> None:
    """Note that all files of the last change are in their places."""
    connection.execute(folder_files.update().where(folder_files.c.folder == folder).values(placed=True))


def read_members(
    connection: sa.Connection, keys: Sequence[str] | None = None, within: Within | None = None
) -> list[tuple[str, ...]]:
    """Return members' rows, in the order in which they came; all, those of some keys, or those within two."""

    def these(column: Any) -> list[Any]:
        return [*([] if keys is None else [column.in_(keys)]), *([] if within is None else _within(column, within))]

    joined = {member: ";".join(each) for member, each in _groups(connection, *these(member_groups.c.member)).items()}
    query = sa.select(*(members.c[name] for name in _MEMBER)).where(*these(members.c.key))
    # all rows at once: one by one they are fetched in many times the time
    rows = connection.execute(query.order_by(members.c.position, members.c.key)).all()
    return [(*row, joined.get(row[0], "")) for row in rows]


def _groups(connection: sa.Connection, *where: Any) -> dict[str, list[str]]:
    """Return the groups that members were put into, in their order."""
    groups: dict[str, list[str]] = {}
    query = sa.select(member_groups.c.member, member_groups.c.grp).where(*where)
    for member, group in connection.execute(query.order_by(member_groups.c.member, member_groups.c.position)).all():
        groups.setdefault(member, []).append(group)
    return groups


def read_assignments(
    connection: sa.Connection, keys: Sequence[str] | None = None, within: Within | None = None
) -> list[tuple[Any, ...]]:
    """Return the assignments' rows, in the order in which they came; all, some members', or those within two keys."""
    wanted = [assignments.c.number, *(assignments.c[name] for name in _ASSIGNMENT)]
    query = sa.select(*wanted).where(assignments.c.removed.is_(None)).order_by(assignments.c.number)
    if keys is not None:
        query = query.where(assignments.c.member.in_(keys))
    if within is not None:
        query = query.where(*_within(assignments.c.member, within))
    return [tuple(row) for row in connection.execute(query).all()]


def read_forms(connection: sa.Connection) -> dict[tuple[Any, ...], list[str]]:
    """Return who is alike, in the order in which they came: by status, kind, groups, and what they hold when where."""
    groups = _groups(connection)
    held: dict[str, list[tuple[str, ...]]] = {}
    wanted = [assignments.c[name] for name in ("member", "rank", "place", "since", "until")]
    query = sa.select(*wanted).where(assignments.c.removed.is_(None)).order_by(assignments.c.number)
    for member, *rest in connection.execute(query).all():
        held.setdefault(member, []).append(tuple(rest))
    forms: dict[tuple[Any, ...], list[str]] = {}
    people = sa.select(members.c.key, members.c.status, members.c.kind).order_by(members.c.position, members.c.key)
    for key, status, kind in connection.execute(people).all():
        forms.setdefault((status, kind, (*groups.get(key, ()),), (*held.get(key, ()),)), []).append(key)
    return forms


def keys_naming(connection: sa.Connection, field: str, keys: Collection[str]) -> list[str]:
    """Return members with an assignment of some ranks, places or sources, in the order in which assignments came."""
    there = assignments.c.removed.is_(None)
    # the whole site is written as no place
    wanted = ["" if field == "place" and key == SITE else key for key in keys]
    named = sa.select(assignments.c.member).where(there, assignments.c[field].in_(wanted))
    first = sa.select(assignments.c.member).where(there, assignments.c.member.in_(named)).group_by(assignments.c.member)
    return [*connection.execute(first.order_by(sa.func.min(assignments.c.number))).scalars()]


def _within(column: Any, within: Within) -> list[Any]:
    low, high = within
    return [*([column >= low] if low else []), *([column < high] if high else [])]


def key_ranges(connection: sa.Connection, size: int) -> list[Within]:
    """Return bounds of keys with so many members between them, more or less, in the database's own order of keys."""
    numbered = sa.select(members.c.key, sa.func.row_number().over(order_by=members.c.key).label("n")).subquery()
    wanted = sa.select(numbered.c.key).where(numbered.c.n % size == 0).order_by(numbered.c.n)
    bounds = [str(key) for key in connection.execute(wanted).scalars()]
    return list(zip(["", *bounds], [*bounds, ""], strict=True))


def read_names(connection: sa.Connection) -> list[tuple[str, str, str]]:
    """Return members' keys, names and user names, in the order in which they came."""
    query = sa.select(members.c.key, members.c.name, members.c.user_name).order_by(members.c.position, members.c.key)
    return [(key, name, user_name) for key, name, user_name in connection.execute(query).all()]


def shared_names(connection: sa.Connection, names: Sequence[str] | None = None) -> frozenset[str]:
    """Return the names that several members have, of some or of all."""
    which = members.c.name != "" if names is None else members.c.name.in_({*names} - {""})
    query = sa.select(members.c.name).where(which).group_by(members.c.name)
    return frozenset(connection.execute(query.having(sa.func.count() > 1)).scalars())


def first_keys(connection: sa.Connection, most: int | None) -> list[str]:
    """Return the keys of so many members, or of all, in the order in which they came."""
    query = sa.select(members.c.key).order_by(members.c.position, members.c.key).limit(most)
    return [*connection.execute(query).scalars()]


def count_of(connection: sa.Connection) -> int:
    """Return how many members there are."""
    return int(connection.execute(sa.select(sa.func.count()).select_from(members)).scalar() or 0)


def write_rows(connection: sa.Connection, entry: Entry) -> list[RowChange]:
    """Write an entry's rows; returns them with the numbers that new assignments were given."""
    new = [row for row in entry.rows if row.before is None and int(row.key if row.table != "members" else 0) == 0]
    if len(new) == len(entry.rows) and len(new) > _FEW:
        return _write_many(connection, new, entry)
    return [_write_row(connection, row, entry) for row in entry.rows]


def _write_many(connection: sa.Connection, rows: list[RowChange], entry: Entry) -> list[RowChange]:
    """Write many new rows, thousands at a time."""
    people = [row for row in rows if row.table == "members"]
    last = connection.execute(sa.select(sa.func.max(members.c.position))).scalar() or 0
    values = _picked(people, _MEMBER)
    _insert(connection, members, (*_MEMBER, "position"), [(*row, n) for n, row in enumerate(values, last + 1)])
    _insert_some(connection, member_groups, [g for row in people for g in _group_values(row.key, row.after or {})])
    _insert_some(connection, notes, [value for row in people for value in _note_values(row, entry)])
    given = [row for row in rows if row.table == "assignments"]
    first = (connection.execute(sa.select(sa.func.max(assignments.c.number))).scalar() or 0) + 1
    numbered = [RowChange(row.table, str(n), None, row.after) for n, row in enumerate(given, first)]
    values = _picked(given, _IN_FILES)
    _insert(connection, assignments, (*_ASSIGNMENT, "number"), [(*row, n) for n, row in enumerate(values, first)])
    if given and connection.dialect.name == "postgresql":
        connection.execute(
            sa.text("SELECT setval(pg_get_serial_sequence('assignments', 'number'), max(number)) FROM assignments")
        )
    return [*people, *numbered]


def _picked(rows: Sequence[RowChange], names: Sequence[str]) -> list[tuple[str, ...]]:
    """Return cells of rows, in an order; one that a row has not is empty."""
    pick = itemgetter(*names)
    try:
        return [pick(row.after or {}) for row in rows]
    except KeyError:
        return [tuple((row.after or {}).get(name, "") for name in names) for row in rows]


def _write_row(connection: sa.Connection, row: RowChange, entry: Entry) -> RowChange:
    if row.table == "members":
        return _write_member(connection, row, entry)
    key = int(row.key)
    here = assignments.update().where(assignments.c.number == key)
    if row.after is None:
        _one(connection.execute(here.values(removed=entry.number)), row)
    elif row.before is None and key:  # it comes back under its old number, which entries of the journal name
        connection.execute(here.values(removed=None, **_assignment_values(row.after)))
    elif row.before is None:
        made = connection.execute(assignments.insert().values(**_assignment_values(row.after))).inserted_primary_key
        return row._replace(key=str(made[0] if made else 0))
    else:
        _one(connection.execute(here.values(**_assignment_values(row.after))), row)
    return row


def _one(done: sa.CursorResult[Any], row: RowChange) -> None:
    """Raise where what was to be changed is not there, so that files and register never come to differ unseen."""
    if done.rowcount != 1:
        cells = row.before or {}
        what = f"{cells.get('rank')} of {cells.get('member')}"
        raise StoreError(
            f"The register does not hold what was to be changed: {what}. Nothing was done. Look again, and plan the "
            "change anew."
        )


def _write_member(connection: sa.Connection, row: RowChange, entry: Entry) -> RowChange:
    connection.execute(member_groups.delete().where(member_groups.c.member == row.key))
    if row.after is None:
        connection.execute(members.delete().where(members.c.key == row.key))
        # whoever is given the key next is somebody else
        connection.execute(tokens.delete().where(tokens.c.member == row.key))
        return row
    groups = _group_values(row.key, row.after)
    if groups:
        connection.execute(member_groups.insert(), groups)
    for note in _note_values(row, entry):
        connection.execute(notes.insert().values(**note))
    if row.before is None:
        last = connection.execute(sa.select(sa.func.max(members.c.position))).scalar() or 0
        connection.execute(members.insert().values(position=last + 1, **_member_values(row.after)))
    else:
        connection.execute(members.update().where(members.c.key == row.key).values(**_member_values(row.after)))
    return row


def _insert_some(connection: sa.Connection, table: sa.Table, rows: Sequence[dict[str, Any]]) -> None:
    """Insert rows that all have the columns of the first, if there are any."""
    if rows:
        names = tuple(rows[0])
        _insert(connection, table, names, [tuple(map(row.__getitem__, names)) for row in rows])


def _insert(connection: sa.Connection, table: sa.Table, names: Sequence[str], rows: Sequence[tuple[Any, ...]]) -> None:
    """Insert many rows, thousands at a time; the statement is compiled once, as doing so for each row costs most."""
    if not rows:
        return
    statement = table.insert().values({name: sa.bindparam(name) for name in names}).compile(connection.engine)
    order = statement.positiontup
    again = None if order is None else [names.index(name) for name in order]
    for start in range(0, len(rows), _AT_ONCE):
        some: Any = rows[start : start + _AT_ONCE]
        if again is None:
            some = [dict(zip(names, row, strict=True)) for row in some]
        elif again != list(range(len(names))):
            some = list(map(itemgetter(*again), some))
        connection.exec_driver_sql(str(statement), some)


def _member_values(cells: Mapping[str, str]) -> dict[str, Any]:
    return {name: cells.get(name, "") for name in _MEMBER}


def _note_values(row: RowChange, entry: Entry) -> list[dict[str, Any]]:
    """Return what is kept of a note that an entry sets: when, and by whom."""
    said = (row.after or {}).get("note", "")
    if not said or said == (row.before or {}).get("note", ""):
        return []
    return [{"member": row.key, "at": entry.at, "by": entry.who, "text": said}]


def _group_values(key: str, cells: Mapping[str, str]) -> list[dict[str, Any]]:
    said = cells.get("groups")
    groups = list(dict.fromkeys(word for word in said.split(";") if word)) if said else ()
    return [{"member": key, "grp": group, "position": n, "source": ""} for n, group in enumerate(groups)]


def _assignment_values(cells: Mapping[str, str]) -> dict[str, Any]:
    return {name: cells.get(said, "") for name, said in zip(_ASSIGNMENT, _IN_FILES, strict=True)}
