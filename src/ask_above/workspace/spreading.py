"""Everyone everywhere as a data set, for a register that no machine holds: part by part, here or by workers.

A part's members are brought down to what they are; what they are is put together, worked out once, and joined back. A
part holds no more than its own members and what they are.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

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
from ask_above.people.rows import assignments_of, members_of
from ask_above.workspace.auditing import Spread
from ask_above.workspace.people_parts import PeoplePart, count_given, people_parts, read_people

if TYPE_CHECKING:
    from numpy.typing import NDArray

_ROWS = 1 << 20
"""How many rows of an export are made at a time."""

Kind = tuple[Profile | None, bool]
"""What members are at a moment: their profile, and whether they are the owner."""


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
