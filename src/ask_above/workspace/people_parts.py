"""A register too large to hold: a Parquet data set, or a database's tables, read by ranges of members' keys."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any, Final, NamedTuple

from ask_above.errors import QuestionError
from ask_above.people.rows import ASSIGNMENT_ORDER, MEMBER_ORDER

_SIZE: Final = 50_000
"""How many members are read at a time, more or less."""
_USUAL: Final = {"kind": "person", "status": "active"}


class PeoplePart(NamedTuple):
    """Members from one key up to another, with their assignments; an empty key is no bound.

    ``files`` are the data set's files of members with their row groups; ``where`` is its folder, or a database's URL.
    """

    where: str
    low: str
    high: str
    files: tuple[tuple[str, tuple[int, ...]], ...] = ()


class PeopleRead(NamedTuple):
    """A part's rows, in the order that members and assignments are made of."""

    members: list[tuple[Any, ...]]
    assignments: list[tuple[Any, ...]]


def people_parts(where: str, size: int = _SIZE) -> list[PeoplePart]:
    """Return the parts of a register: a folder with ``members`` and ``assignments`` in Parquet, or a database's URL.

    Raises :class:`QuestionError` where it is neither.
    """
    if "://" in where:
        return _of_database(where, size)
    folder = Path(where)
    files = sorted((folder / "members").rglob("*.parquet")) if (folder / "members").is_dir() else []
    if not files:
        raise QuestionError(f"'{where}' holds no members: it wants Parquet files in members/, and in assignments/.")
    return [part for file in files for part in _of_file(folder, file, size)]


def count_given(where: str) -> int | None:
    """Return how many assignments a data set holds; ``None`` for a database, which gives each to the range it is in."""
    if "://" in where:
        return None
    import pyarrow.parquet as pq

    files = sorted((Path(where) / "assignments").rglob("*.parquet"))
    return sum(int(_opened(pq.ParquetFile, file).metadata.num_rows) for file in files)


def read_people(part: PeoplePart) -> PeopleRead:
    """Return a part's rows."""
    return _from_database(part) if "://" in part.where else _from_files(part)


# -- Parquet


def _of_file(folder: Path, file: Path, size: int) -> Iterable[PeoplePart]:
    import pyarrow.parquet as pq

    opened = _opened(pq.ParquetFile, file)
    meta = opened.metadata
    _holds_keys(opened.schema_arrow, "key", file.name)
    column = next(n for n in range(meta.num_columns) if meta.schema.column(n).path == "key")
    some: list[int] = []
    rows, low, high = 0, None, None
    for n in range(meta.num_row_groups):
        said = meta.row_group(n).column(column).statistics
        bounds = (said.min, said.max) if said is not None and said.has_min_max else ("", None)
        low = bounds[0] if low is None else min(low, bounds[0])
        high = bounds[1] if not some else (None if high is None or bounds[1] is None else max(high, bounds[1]))
        some, rows = [*some, n], rows + meta.row_group(n).num_rows
        if rows >= size or n == meta.num_row_groups - 1:
            # nothing lies between a key and the same with the least sign behind it
            yield PeoplePart(str(folder), low or "", "" if high is None else f"{high}\0", ((str(file), tuple(some)),))
            some, rows, low, high = [], 0, None, None


def _holds_keys(schema: Any, column: str, name: str) -> None:
    """Refuse what has no column of keys, or one that is no text."""
    from pyarrow import types

    if column not in schema.names:
        raise QuestionError(f"'{name}' has no column '{column}'.")
    kind = schema.field(column).type
    text = kind.value_type if types.is_dictionary(kind) else kind
    if not (types.is_string(text) or types.is_large_string(text)):
        raise QuestionError(f"The column '{column}' of '{name}' holds {kind}; keys are text.")


def _opened(kind: Any, file: Path) -> Any:
    import pyarrow as pa

    try:
        return kind(file)
    except (pa.ArrowInvalid, OSError) as error:
        raise QuestionError(f"'{file.name}' cannot be read as Parquet: {error}") from None


def _from_files(part: PeoplePart) -> PeopleRead:
    import pyarrow as pa
    import pyarrow.dataset as ds
    import pyarrow.parquet as pq

    tables = [_opened(pq.ParquetFile, Path(file)).read_row_groups(list(groups)) for file, groups in part.files]
    people = pa.concat_tables(tables)
    members = _rows(people, MEMBER_ORDER)
    folder = Path(part.where) / "assignments"
    if not folder.is_dir():
        return PeopleRead(members, [])
    given = _opened(lambda each: ds.dataset(each, format="parquet"), folder)
    if not given.files:
        return PeopleRead(members, [])
    _holds_keys(given.schema, "member", folder.name)
    field = ds.field("member")
    wanted = field >= part.low
    if part.high:
        wanted &= field < part.high
    table = given.to_table(filter=wanted)
    mine = {row[0] for row in members}
    return PeopleRead(members, [row for row in _rows(table, ASSIGNMENT_ORDER) if row[1] in mine])


def _rows(table: Any, order: Iterable[str]) -> list[tuple[Any, ...]]:
    """Return rows in an order of columns; a missing one is empty, and groups may be a list."""
    columns = []
    for name in order:
        if name == "number" or name not in table.column_names:
            columns.append([0 if name == "number" else _USUAL.get(name, "")] * table.num_rows)
            continue
        usual = _USUAL.get(name, "")
        values = table[name].to_pylist()
        columns.append([";".join(v) if isinstance(v, list) else usual if v is None else str(v) for v in values])
    return list(zip(*columns, strict=True))


# -- a database


def _of_database(url: str, size: int) -> list[PeoplePart]:
    from ask_above.store.database import Store
    from ask_above.store.rows import key_ranges

    store = Store(url)
    with store.reading() as connection:
        if store.schema_on(connection) is None:
            raise QuestionError(f"{store.name} holds no register.")
        return [PeoplePart(url, low, high) for low, high in key_ranges(connection, size)]


def _from_database(part: PeoplePart) -> PeopleRead:
    from ask_above.store.database import Store
    from ask_above.store.rows import read_assignments, read_members

    with Store(part.where).reading() as connection:
        within = part.low, part.high
        return PeopleRead(read_members(connection, within=within), read_assignments(connection, within=within))
