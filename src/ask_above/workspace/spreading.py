"""Everyone everywhere as a data set, for a register that no machine holds: part by part, here or by workers.

A part's members are brought down to what they are; what they are is put together, worked out once, and joined back. A
part holds no more than its own members and what they are.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from ask_above.bulk.places import CompiledPlaces
from ask_above.bulk.table import Sweep
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant
from ask_above.charter.where import Where
from ask_above.decide.classes import ClassState, MemberClasses
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.profile import Profile
from ask_above.errors import QuestionError
from ask_above.files.charter_json import dumped, loaded
from ask_above.files.export import FolderTarget, Long
from ask_above.people.register import Register
from ask_above.people.rows import ASSIGNMENT_ORDER, MEMBER_ORDER, assignments_of, members_of
from ask_above.workspace.auditing import Spread

if TYPE_CHECKING:
    from numpy.typing import NDArray


_SIZE: Final = 50_000
"""How many members are read at a time, more or less."""
_USUAL: Final = {"kind": "person", "status": "active"}
_ROWS = 1 << 20
"""How many rows of an export are made at a time."""
Kind = tuple[Profile | None, bool]
"""What members are at a moment: their profile, and whether they are the owner."""


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


class PartKinds(NamedTuple):
    """What the members of a part are: each kind once, by its number; and how many members there are."""

    kinds: dict[int, Kind]
    members: int
    given: int


class Usable(NamedTuple):
    """What kinds can use: for each a row of bits over pairs of a place and a capability, both by number."""

    numbers: NDArray[np.int64]
    bits: NDArray[np.bool_]
    places: tuple[str, ...]
    capabilities: tuple[str, ...]


def export_spread(
    charter: Charter,
    people: str,
    out: Path,
    *,
    at: Instant,
    capabilities: Sequence[str] = (),
    members: bool = False,
    cluster: str | None = None,
    told: Callable[[int, int], None] | None = None,
) -> tuple[int, int]:
    """Write who can use what where into a folder of Parquet files; returns how many rows, and of how many members.

    ``people`` is a folder of Parquet files or a database's URL; ``capabilities`` are those that are asked for, all
    where there are none. Raises :class:`QuestionError` where a row cannot be meant, and writes nothing then.
    """
    parts, content = people_parts(people), dumped(charter)
    compiled = CompiledCharter(charter)
    wanted = tuple(capabilities) or compiled.catalogue.keys
    with Spread(cluster) as spread, FolderTarget(out) as target:
        folder = target.folder_of("members")
        work = [(part, content, at, str(folder / _named(n))) for n, part in enumerate(parts)]
        kinds: dict[int, Kind] = {}
        counted = 0
        parts_kinds: list[PartKinds] = []
        for n, written in enumerate(spread.run(write_members, work), 1):
            _put_together(kinds, written.kinds)
            counted += written.members
            parts_kinds.append(written)
            if told:
                told(n, len(parts) * (2 if members else 1))
        _check_given(people, sum(written.given for written in parts_kinds))
        if not members:
            writer = target.table("usable", {"profile": Long, "place": str, "capability": str})
            rows = 0
            for columns in usable_of(compiled, kinds, wanted):
                writer.write(columns)
                rows += len(columns["profile"])
            return rows, counted
        usable = target.folder_of("usable")
        whole = _bits(compiled, kinds, wanted)
        rows = 0
        joins = [
            (str(folder / _named(n)), str(usable / _named(n)), _some(whole, written.kinds))
            for n, written in enumerate(parts_kinds)
        ]
        for n, count in enumerate(spread.run(write_usable, joins), len(parts) + 1):
            rows += count
            if told:
                told(n, len(parts) * 2)
        return rows, counted


def _check_given(people: str, found: int) -> None:
    """Raise where assignments were left over, or counted twice: for members who are not there, or are there twice."""
    there = count_given(people)
    if there is not None and there != found:
        what = "are those of no member" if found < there else "belong to a member who stands in it twice"
        raise QuestionError(
            f"{abs(there - found)} of the {there} assignments in '{people}' {what}; nothing was written."
        )


def _named(n: int) -> str:
    return f"part-{n:05}.parquet"


def _put_together(known: dict[int, Kind], more: Mapping[int, Kind]) -> None:
    for number, kind in more.items():
        if known.setdefault(number, kind) != kind:
            raise QuestionError("Two kinds of members have one number; that should not happen once in a million years.")


def number_of(kind: Kind) -> int:
    """Return the number of a kind, which is the same wherever it is made."""
    profile, owner = kind
    form: object = (owner, None)
    if profile is not None:
        held = profile.automatic, sorted(profile.placed), sorted(profile.groups)
        form = (owner, *held, profile.exceptions, profile.pending)
    return int.from_bytes(hashlib.blake2b(repr(form).encode(), digest_size=8).digest(), "big") >> 1


@lru_cache(maxsize=2)
def _compiled(said: bytes) -> CompiledCharter:
    """Return a charter made ready; a worker does that once."""
    charter = loaded(said)
    if charter is None:
        raise QuestionError("This worker has another version of Ask Above; all of them need the same.")
    return CompiledCharter(charter)


def write_members(part: PeoplePart, said: bytes, at: Instant, out: str) -> PartKinds:
    """Bring the members of a part down to what they are, and write each with its number: what a worker does."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    compiled = _compiled(said)
    register = _register(part, compiled.charter)
    ready = MemberClasses(compiled, register)
    numbers: dict[ClassState, int] = {}
    kinds: dict[int, Kind] = {}
    rows = np.empty(len(register.members), dtype=np.int64)
    for n, member_class in enumerate(ready.all()):
        state = member_class.only or ready.at(member_class, at)
        number = numbers.get(state)
        if number is None:
            kind = state.profile, state.owner
            number = numbers[state] = number_of(kind)
            kinds[number] = kind
        rows[n] = number
    table = pa.table({"member": pa.array(list(register.members), pa.string()), "profile": pa.array(rows)})
    pq.write_table(table, out)
    return PartKinds(kinds, len(rows), len(register.assignments))


def _register(part: PeoplePart, charter: Charter) -> Register:
    read, where = read_people(part), Where(Path(part.where).name or "the database", 0, 1)
    members = members_of(read.members, charter, where)
    given = None if members is None else assignments_of(read.assignments, charter, members, where)
    if members is None or given is None or len(members) < len(read.members):
        bounds = f"from {part.low or 'the first'} to {part.high.rstrip(chr(0)) or 'the last'}"
        raise QuestionError(
            f"Some of the members {bounds} cannot be meant: the columns are those of members.csv and assignments.csv, "
            "each key stands once, and each rank, place and group must be the charter's."
        )
    register = Register(members, (), where.file)
    register.given_by(given)
    return register


def usable_of(
    compiled: CompiledCharter, kinds: Mapping[int, Kind], wanted: Sequence[str]
) -> Iterator[dict[str, list[Any]]]:
    """Yield, place by place, what each kind can use there."""
    numbers = np.array(list(kinds), dtype=np.int64)
    for place, bits in _swept(compiled, kinds, wanted):
        which, who = np.nonzero(bits)
        if len(which):
            named = [wanted[n] for n in which.tolist()]
            yield {"profile": numbers[who].tolist(), "place": [place] * len(which), "capability": named}


def _swept(
    compiled: CompiledCharter, kinds: Mapping[int, Kind], wanted: Sequence[str]
) -> Iterator[tuple[str, NDArray[np.bool_]]]:
    """Yield each place, and which of the wanted capabilities each kind can use there."""
    states = [ClassState(profile, owner=owner) for profile, owner in kinds.values()]
    if not states:
        return
    numbers = [compiled.catalogue.keys.index(name) for name in wanted]
    order = sorted(range(len(wanted)), key=numbers.__getitem__)
    back = np.argsort(order)
    for place, words in Sweep(compiled.keep(CompiledPlaces), states).run(capabilities=sorted(numbers)):
        bits = np.unpackbits(words.view(np.uint8), axis=1, bitorder="little")[:, : len(states)]
        yield compiled.places[place].key, bits.astype(bool)[back]


def _bits(compiled: CompiledCharter, kinds: Mapping[int, Kind], wanted: Sequence[str]) -> Usable:
    found = [bits for _, bits in _swept(compiled, kinds, wanted)]
    count = len(compiled.places) * len(wanted)
    bits = np.concatenate(found).T if found else np.zeros((0, count), dtype=bool)
    numbers = np.array(list(kinds), dtype=np.int64)
    return Usable(numbers, bits, tuple(place.key for place in compiled.places), tuple(wanted))


def _some(whole: Usable, kinds: Mapping[int, Kind]) -> Usable:
    at = {number: n for n, number in enumerate(whole.numbers.tolist())}
    numbers = np.array(list(kinds), dtype=np.int64)
    return whole._replace(numbers=numbers, bits=whole.bits[[at[number] for number in kinds]])


def write_usable(source: str, out: str, usable: Usable) -> int:
    """Join what kinds can use to the members of a part, and write it, a row for each right: what a worker does."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    people = pq.read_table(source)
    keys, profiles = np.array(people["member"].to_pylist(), dtype=object), people["profile"].to_numpy()
    places, names = pa.array(usable.places), pa.array(usable.capabilities)
    text = pa.dictionary(pa.int32(), pa.string())
    schema = pa.schema([("member", text), ("place", text), ("capability", text)])
    rows = 0
    with pq.ParquetWriter(out, schema) as writer:
        for number, bits in zip(usable.numbers.tolist(), usable.bits, strict=True):
            pairs = np.flatnonzero(bits)
            mine = keys[profiles == number]
            step = max(1, _ROWS // max(1, len(pairs)))
            for start in range(0, len(mine) if len(pairs) else 0, step):
                some = mine[start : start + step]
                at, of = np.divmod(np.tile(pairs, len(some)), len(usable.capabilities))
                who = np.repeat(np.arange(len(some), dtype=np.int32), len(pairs))
                columns = [
                    pa.DictionaryArray.from_arrays(pa.array(index.astype(np.int32)), values)
                    for index, values in ((who, pa.array(some)), (at, places), (of, names))
                ]
                writer.write_table(pa.table(columns, schema=schema))
                rows += len(who)
    return rows
