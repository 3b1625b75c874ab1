"""Lists of people as they come from elsewhere: columns, separators, signs and dates recognised, and told.

What could be meant in two ways is a fault that says how to say it; nothing is guessed in silence. Lists for other
programs are written here as well.
"""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date
from itertools import chain
from typing import Any, Final, NamedTuple

from ask_above.charter.names import how_many, listed, nearest
from ask_above.errors import Fault, QuestionError
from ask_above.files.cells import unguarded
from ask_above.people.directory import folded
from ask_above.people.reading import MEMBER_COLUMNS, FileRow, FileRows
from ask_above.people.register import Member, Status

_USER = "urn:ietf:params:scim:schemas:core:2.0:User"
_GROUP = "urn:ietf:params:scim:schemas:core:2.0:Group"
_CALLED: Final = {
    "key": ("key", "member", "member key", "handle", "nickname"),
    "name": ("name", "full name", "display name", "member name", "person", "contact"),
    "first name": ("first name", "firstname", "given name", "forename", "vorname"),
    "last name": ("last name", "lastname", "surname", "family name", "nachname"),
    "email": ("email", "e mail", "mail", "email address", "e mail address", "mail address", "address"),
    "phone": ("phone", "telephone", "tel", "mobile", "phone number", "telephone number", "mobile number"),
    "kind": ("kind", "type"),
    "status": ("status", "state"),
    "joined": ("joined", "join date", "joined on", "member since", "since", "date joined", "entry date", "start"),
    "groups": ("groups", "group", "team", "teams", "section", "sections"),
    "note": ("note", "notes", "comment", "comments", "remark", "remarks"),
    "user_name": ("user name", "username", "login", "account"),
    "external_id": ("external id", "membership number", "member number", "member no", "number", "no"),
    "id": ("id",),
    "was": ("was",),
}
FIELDS: Final = (*MEMBER_COLUMNS, "first name", "last name")
_GIVEN_CALLED: Final = {
    "member": ("member", "name", "full name", "person", "who", "email", "e mail", "key", "member name"),
    "rank": ("rank", "role", "level", "position", "function"),
    "place": ("place", "where", "section", "channel", "board", "page"),
    "from": ("from", "since", "start", "starts", "begin", "begins"),
    "until": ("until", "to", "through", "end", "ends", "expires"),
    "by": ("by", "assigned by"),
    "why": ("why", "reason", "note"),
    "source": ("source",),
}
"""What people call the columns of a list of assignments."""
_ISO = re.compile(r"\d{4}-\d{2}-\d{2}.*")
_PARTS = re.compile(r"(\d{1,4})\s*[./-]\s*(\d{1,2})\s*[./-]\s*(\d{1,4})")
_ADDRESS = re.compile(r"[^@\s]+@[^@\s]+")
_TOTAL = re.compile(r"(sub)?totals?|sum|count|number of .*|\d+ (members|people|persons|rows|names)", re.IGNORECASE)
_SEPARATORS: Final = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}
_YEAR = 1000
_MONTHS = 12
_FIRST = 10
_OF_RANKS: Final = frozenset(("rank", "ranks", "role", "roles", "level", "position", "function"))
"""What people call a column of ranks, which a list of members does not have."""


def as_ldif(key: str, members: Sequence[Member], groups: Mapping[str, Sequence[str]], *, contacts: bool) -> str:
    """Return members and the groups and ranks they are in as LDIF, below ``dc=KEY``; those retired are left out.

    ``groups`` are titles with the keys of those who are in each. Without ``contacts`` neither names nor addresses are
    in it. A mapping with ``number: uid`` reads it back.
    """
    try:
        from ldif import LDIFWriter
    except ImportError:
        raise QuestionError("LDIF needs more packages: pip install 'ask-above[directory]'") from None
    out = io.BytesIO()
    writer = LDIFWriter(out)
    there = {member.key for member in members if not member.is_retired}
    for member in members:
        if member.key not in there:
            continue
        name = member.own_name if contacts else member.key
        attributes = {"objectClass": ["inetOrgPerson"], "uid": [member.key], "cn": [name], "sn": [name.split()[-1]]}
        if contacts and member.email:
            attributes["mail"] = [member.email]
        if contacts and member.phone:
            attributes["telephoneNumber"] = [member.phone]
        writer.unparse(_person(member.key, key), attributes)
    for title, keys in groups.items():
        inside = [_person(each, key) for each in keys if each in there]
        if inside:
            attributes = {"objectClass": ["groupOfNames"], "cn": [title], "member": inside}
            writer.unparse(f"cn={_escaped(title)},ou=groups,dc={key}", attributes)
    return out.getvalue().decode("utf-8")


def _person(member: str, key: str) -> str:
    return f"uid={_escaped(member)},ou=people,dc={key}"


def _escaped(text: str) -> str:
    """Return a value as it stands in a name of an entry (RFC 4514)."""
    found = "".join(f"\\{sign}" if sign in ',+"\\<>;=' else sign for sign in text)
    return f"\\{found}" if found.startswith(("#", " ")) else found


def as_scim(members: Iterable[Member], groups: Mapping[str, Sequence[str]], *, contacts: bool) -> Iterator[str]:
    """Yield members, then groups, as SCIM resources, one a line; those retired are left out."""
    there = set()
    for member in members:
        if member.is_retired:
            continue
        there.add(member.key)
        user: dict[str, Any] = {"schemas": [_USER], "id": member.key, "userName": member.key}
        if contacts:
            user["userName"] = member.user_name or member.email or member.key
            user |= {"displayName": member.name} if member.name else {}
            user |= {"emails": [{"value": member.email, "type": "work"}]} if member.email else {}
            user |= {"phoneNumbers": [{"value": member.phone, "type": "work"}]} if member.phone else {}
            user |= {"externalId": member.external_id} if member.external_id else {}
        yield json.dumps({**user, "active": member.status != Status.LOCKED}, ensure_ascii=False)
    for title, keys in groups.items():
        inside = [{"value": key, "type": "User"} for key in keys if key in there]
        yield json.dumps({"schemas": [_GROUP], "displayName": title, "members": inside}, ensure_ascii=False)


class Understood(NamedTuple):
    """What was understood of a list: each column and the field that it is, and what else one should know."""

    columns: tuple[tuple[str, str], ...]
    notes: tuple[str, ...]
    rows: tuple[Mapping[str, str], ...]


def read_people(
    name: str, raw: bytes, mapping: Mapping[str, str], *, days_first: bool = False
) -> tuple[FileRows, Understood]:
    """Return the rows of a list of people by fields, and what was understood of it.

    ``mapping`` says for columns which field they are; an empty field leaves the column out. ``days_first`` settles what
    could be two days.
    """
    notes: list[str] = []
    text = _decoded(raw, notes)
    rows = FileRows(name)
    if "\x00" in text:
        rows.faults.append(Fault(name, 1, 1, "", "not-text", "this is no text file", "a CSV file"))
        return rows, Understood((), (), ())
    separator = _separator(text)
    if separator != ",":
        notes.append(f"The cells are separated by {_SEPARATORS[separator]}.")
    records = _records(rows, text, separator)
    header = next(records, None)
    if header is None:
        if not rows.faults:
            rows.faults.append(Fault(name, 1, 1, "", "empty-file", "the file is empty", "a first line of columns"))
        return rows, Understood((), (), ())
    if not mapping and _is_a_person(header[1]):
        notes.append("The first line has no headings; it is read as a person.")
        records, header = chain([header], records), (header[0], _headings(header[1]))
    fields = _fields(rows, [cell.strip() for cell in header[1]], mapping, text)
    file_rows = list(_rows(rows, fields, records, notes)) if not rows.faults else []
    for row in file_rows:
        if _TOTAL.fullmatch(row.cells.get("name", row.cells.get("key", "")).strip()) and "@" not in row.cells.get(
            "email", ""
        ):
            message = f"'{row.cells.get('name') or row.cells.get('key')}' looks like a total, not like a person"
            rows.fault(row, "name", "total-row", message, "a person; remove this line from the file")
    _dates(file_rows, notes, rows, "joined", days_first=days_first)
    rows.rows = file_rows
    columns = tuple(zip([cell.strip() for cell in header[1]], fields, strict=True))
    return rows, Understood(columns, tuple(notes), tuple(row.cells for row in file_rows[:_FIRST]))


def column_of_ranks(raw: bytes, mapping: Mapping[str, str]) -> str:
    """Return the heading of the ranks of a list of assignments, which says who and which; empty for another list."""
    text = _decoded(raw, [])
    first = next(_records(FileRows(""), text, _separator(text)), (1, []))[1]
    fields = dict(zip(_given_fields(first, mapping), map(str.strip, first), strict=True))
    return fields.get("rank", "") if "member" in fields else ""


def _given_fields(columns: Sequence[str], mapping: Mapping[str, str]) -> list[str]:
    """Return what each column of a list of assignments is, as ``mapping`` says or it is called; empty for nothing."""
    called = {said: field for field, names in _GIVEN_CALLED.items() for said in names}
    called |= {folded(column): field for column, field in mapping.items()}
    return [called.get(folded(column), "") for column in columns]


def read_given(
    name: str, raw: bytes, mapping: Mapping[str, str], *, days_first: bool = False
) -> tuple[FileRows, list[str]]:
    """Return the rows of a list of assignments by their columns, as they are written there, and what was understood.

    Members, ranks and places stay as they are called; dates are in ISO 8601 where they are numbers. Of several columns
    that say who is meant the second is ``member 2``, and so on; of anything else there is one.
    """
    notes: list[str] = []
    text, rows = _decoded(raw, notes), FileRows(name)
    records = _records(rows, text, _separator(text))
    columns = [cell.strip() for cell in next(records, (1, []))[1]]
    fields = _given_fields(columns, mapping)
    for n, field in enumerate(fields):
        if field == "member" and field in fields[:n]:
            fields[n] = f"member {n}"
        elif field and field in fields[:n]:
            message, mend = _twice(field, columns[fields.index(field)], columns[n])
            source = text.partition("\n")[0].rstrip("\r")
            at = source.find(columns[n]) + 1
            rows.faults.append(Fault(rows.name, 1, at, columns[n], "twice", message, mend, "", (), source))
    left_out = [column for column, field in zip(columns, fields, strict=True) if column and not field]
    notes += [f"Left out: {listed(left_out)}."] if left_out else []
    every_row = list(_rows(rows, fields, records, notes)) if not rows.faults else []
    file_rows = [row for row in every_row if row.cells.get("rank") or not any(row.cells.values())]
    if without := len(every_row) - len(file_rows):
        of = "it" if without == 1 else "them"
        notes.append(f"{how_many(without, 'row names', 'rows name')} no rank: nothing is assigned by {of}.")
    for field in ("from", "until"):
        _dates(file_rows, notes, rows, field, days_first=days_first)
    rows.rows = file_rows
    return rows, notes


def _is_a_person(cells: Sequence[str]) -> bool:
    """Whether a first line is no line of headings: a cell of it is an address, and none is called as a field is."""
    called = {said for names in _CALLED.values() for said in names}
    return any(_ADDRESS.fullmatch(cell.strip()) for cell in cells) and not any(folded(cell) in called for cell in cells)


def _headings(cells: Sequence[str]) -> list[str]:
    """Return headings for a line of a person: by what its cells look like."""
    headings: list[str] = []
    for cell in map(str.strip, cells):
        field = (
            "email"
            if _ADDRESS.fullmatch(cell)
            else "joined"
            if _ISO.fullmatch(cell) or _PARTS.fullmatch(cell)
            else "name"
        )
        headings.append(field if field not in headings else "")
    return headings


def _decoded(raw: bytes, notes: list[str]) -> str:
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        notes.append("It is not in UTF-8, and was read as Windows-1252: look whether names are spelled right.")
        return raw.decode("cp1252", errors="replace")


def _separator(text: str) -> str:
    first = text.partition("\n")[0]
    return max(_SEPARATORS, key=lambda sign: (first.count(sign), sign == ","))


def _records(rows: FileRows, text: str, separator: str) -> Iterator[tuple[int, list[str]]]:
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator, strict=True)
    line = 1
    try:
        for record in reader:
            if any(cell.strip() for cell in record):
                yield line, record
            line = reader.line_num + 1
    except csv.Error as error:
        rows.faults.append(Fault(rows.name, line, 1, "", "not-csv", f"this cannot be read as CSV: {error}", "cells"))


def _fields(rows: FileRows, columns: Sequence[str], mapping: Mapping[str, str], text: str) -> list[str]:
    """Return the field of each column, empty where it is left out."""
    called = {said: field for field, names in _CALLED.items() for said in names}
    given = {folded(column): field for column, field in mapping.items()}
    fields: list[str] = []
    source = text.partition("\n")[0].rstrip("\r")
    for column in columns:
        field = given.get(folded(column), column if column in FIELDS else called.get(folded(column)))
        fields.append(field or "")
        at = source.find(column) + 1 if column else 1
        wrong = _wrong(column, field, fields[:-1], columns, called)
        if wrong is not None:
            code, message, expected, near = wrong
            rows.faults.append(Fault(rows.name, 1, at, column, code, message, expected, "", near, source))
    if not {"key", "name", "email", "first name", "last name", "external_id"} & set(fields) and not rows.faults:
        message = "no column says who is meant"
        rows.faults.append(Fault(rows.name, 1, 1, "", "missing", message, "a column with key, name or email"))
    return fields


def _wrong(
    column: str, field: str | None, before: Sequence[str], columns: Sequence[str], called: Mapping[str, str]
) -> tuple[str, str, str, tuple[str, ...]] | None:
    """Return what is wrong with a column: a code, a message, what to do, and the nearest field."""
    if field is None and column:
        near = nearest(folded(column), called)
        expected = f'--map "{column}=FIELD" with one of {listed(FIELDS, "or")}; --map "{column}=" leaves it out'
        if folded(column) in _OF_RANKS:
            expected += "; ranks are given afterwards, from a file with the columns member and rank"
        return (
            "unknown-column",
            f"the column '{column}' is none that is known",
            expected,
            tuple(called[each] for each in near[:1]),
        )
    if field and field not in FIELDS:
        return "unknown-field", f"there is no field '{field}'", listed(FIELDS, "or"), nearest(field, FIELDS)
    if field and field in before:
        return "twice", *_twice(field, columns[before.index(field)], column), ()
    return None


def _twice(field: str, one: str, other: str) -> tuple[str, str]:
    return f"two columns are the {field}: '{one}' and '{other}'", f'--map "{other}=" leaves one out'


def _rows(
    rows: FileRows, fields: Sequence[str], records: Iterable[tuple[int, list[str]]], notes: list[str]
) -> Iterator[FileRow]:
    """Yield the rows; those that stand twice, cell by cell, are one."""
    seen: dict[tuple[str, ...], int] = {}
    folded_rows = 0
    for line, record in records:
        cells = [unguarded(cell.strip()) for cell in record]
        if len(cells) > len(fields):
            message = (
                f"this row has {how_many(len(cells), 'cell')}, the first line names {how_many(len(fields), 'column')}"
            )
            rows.faults.append(
                Fault(rows.name, line, 1, "", "too-many-cells", message, "a cell with a comma in quotes")
            )
            continue
        if tuple(cells) in seen:
            folded_rows += 1
            continue
        seen[tuple(cells)] = line
        row = {field: cell for field, cell in zip(fields, cells, strict=False) if field}
        parts = [row.pop(part, "") for part in ("first name", "last name")]
        if any(parts):
            row["name"] = row.get("name") or " ".join(filter(None, parts))
        if "groups" in row:
            row["groups"] = ";".join(word.strip() for word in re.split(r"[;,|]", row["groups"]) if word.strip())
        source = ", ".join(record)
        yield FileRow(row, line, lambda line, _, source=source: (line, 1, source))  # type: ignore[misc]
    if folded_rows:
        notes.append(f"{how_many(folded_rows, 'row')} said the same as another, and count once.")


def _dates(rows: list[FileRow], notes: list[str], faults: FileRows, field: str, *, days_first: bool) -> None:
    """Write dates in ISO 8601; day and month are told apart by all dates of the column together."""
    said = [(n, row.cells[field]) for n, row in enumerate(rows) if row.cells.get(field)]
    odd = [(n, match) for n, text in said if not _ISO.fullmatch(text) and (match := _PARTS.fullmatch(text))]
    if not odd:
        return
    firsts, seconds = [int(m[1]) for _, m in odd], [int(m[2]) for _, m in odd]
    year_first = all(first >= _YEAR for first in firsts)
    day_first = any(first > _MONTHS for first in firsts)
    month_first = any(second > _MONTHS for second in seconds)
    if days_first and not (year_first or month_first):
        day_first = True
    if not year_first and day_first == month_first:
        row = rows[odd[0][0]]
        message = f"'{odd[0][1][0]}' could be two days"
        faults.fault(row, field, "bad-date", message, "dates such as 2026-12-01, or --days-first")
        return
    for n, match in odd:
        a, b, c = (int(part) for part in match.groups())
        year, month, day = (a, b, c) if year_first else (c, b, a) if day_first else (c, a, b)
        try:
            iso = date(year + (2000 if year < 100 else 0), month, day).isoformat()  # noqa: PLR2004 (a year in short)
        except ValueError:
            faults.fault(rows[n], field, "bad-date", f"'{match[0]}' is no day", "dates such as 2026-12-01")
            continue
        rows[n] = rows[n]._replace(cells={**rows[n].cells, field: iso})
    order = "year, month, day" if year_first else "day, month, year" if day_first else "month, day, year"
    notes.append(f"Dates were read as {order}.")
