"""A register whose members are read as they are asked about, all of it as of one moment.

A question about one member of a large community reads that member's rows and no more; whoever asks for all of them gets
all of them.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from contextlib import ExitStack
from itertools import islice
from typing import TYPE_CHECKING, Any

from ask_above.charter.charter import Charter
from ask_above.charter.where import Where
from ask_above.collecting import without_collecting
from ask_above.errors import StoreError
from ask_above.people.register import Assignment, Member, Register
from ask_above.people.rows import assignments_of, members_of

if TYPE_CHECKING:
    from ask_above.store.database import Transaction

_AT_ONCE = 5_000
_AT_FIRST = 500
"""So many members are read together before all are."""
_FEW_TIMES = 3
"""Of how many goes it is asked which of these names others have; after that all such names are read."""
_ONE_BY_ONE = 20
"""A member who is read alone takes as long as so many who are read together."""


def _odd(where: Where) -> StoreError:
    return StoreError(f"{where.file} holds rows that cannot be meant. What is wrong with them: ask-above check")


class _RowSource:
    """What reads rows, one member's or everybody's; each is read once."""

    def __init__(self, connection: Transaction, charter: Charter, where: Where, size: int) -> None:
        self.connection, self.charter, self.where, self.size = connection, charter, where, size
        self.members: dict[str, Member | None] = {}
        self.given: dict[str, list[Assignment]] = {}
        self.all: tuple[dict[str, Member], dict[str, list[Assignment]]] | None = None
        self.reading: ExitStack | None = None
        self._keys: list[str] | None = None
        self._singly = self._asked_shared = 0
        self._all_shared: frozenset[str] | None = None
        self._alike: list[list[str]] | None = None

    def keys(self) -> list[str]:
        """Return the members' keys, in the order in which they came."""
        if self._keys is None:
            from ask_above.store.rows import first_keys

            self._keys = first_keys(self.connection, None)
        return self._keys

    def names(self) -> list[tuple[str, str, str]]:
        """Return the members' keys, names and user names, in the order in which they came."""
        from ask_above.store.rows import read_names

        return read_names(self.connection)

    @without_collecting()
    def alike(self, apart: Iterable[str]) -> list[list[str]]:
        """Return members who are alike by their rows together; one of each is read, all of them in a few goes."""
        self.read(apart)
        if self._alike is None:
            from ask_above.store.rows import read_forms

            self._alike = [*read_forms(self.connection).values()]
            self.read(keys[0] for keys in self._alike)
        return self._alike

    def naming(self, field: str, keys: Collection[str]) -> list[str]:
        """Return members with an assignment of some ranks, places or sources, after reading these members together."""
        from ask_above.store.rows import keys_naming

        members = keys_naming(self.connection, field, keys)
        self.read(members)
        return members

    def member(self, key: str) -> Member | None:
        """Return one member."""
        if self.all is not None:
            return self.all[0].get(key)
        self.read((key,))
        return self.members[key] if self.all is None else self.all[0].get(key)

    def of(self, key: str) -> list[Assignment]:
        """Return one member's assignments."""
        if self.all is not None:
            return self.all[1].get(key, [])
        self.read((key,))
        return self.given[key] if self.all is None else self.all[1].get(key, [])

    def first(self) -> list[str]:
        """Return the keys of the members who came first, after reading them together; everybody where all are known."""
        if self.all is not None:
            return [*self.all[0]]
        from ask_above.store.rows import first_keys

        keys = first_keys(self.connection, _AT_FIRST)
        self.read(keys)
        return keys

    @without_collecting()
    def everybody(self) -> tuple[dict[str, Member], dict[str, list[Assignment]]]:
        """Return all members and assignments; those that were read before are the very same."""
        if self.all is None:
            people, given = self._read(None)
            # the very same objects as before: what was worked out for them stays true
            people |= {key: member for key, member in self.members.items() if member is not None}
            given |= {key: each for key, each in self.given.items() if each}
            self.all = people, given
        return self.all

    def read(self, keys: Iterable[str]) -> None:
        """Read some members together, those who are not known yet."""
        unknown = [] if self.all is not None else [key for key in keys if key not in self.members]
        self._singly += len(unknown) == 1
        # so many one by one take as long as all together: whoever goes on wants everybody
        if self._singly > max(_AT_FIRST, self.size // _ONE_BY_ONE):
            self.everybody()
            return
        for start in range(0, len(unknown), _AT_ONCE):
            new = unknown[start : start + _AT_ONCE]
            people, given = self._read(new)
            for key in new:
                self.members[key], self.given[key] = people.get(key), given.get(key, [])

    def _read(self, keys: list[str] | None) -> tuple[dict[str, Member], dict[str, list[Assignment]]]:
        from ask_above.store.rows import read_assignments, read_members

        people = members_of(read_members(self.connection, keys), self.charter, self.where)
        given = assignments_of(read_assignments(self.connection, keys), self.charter, people or {}, self.where)
        if people is None or given is None:
            raise _odd(self.where)
        shared = self._shared(people)
        for member in [member for member in people.values() if member.name in shared]:
            people[member.key] = member._replace(distinct=member.key)
        return people, given

    def _shared(self, people: Mapping[str, Member]) -> Collection[str]:
        """Return the names that others have too, of these people or, where it is asked again and again, of all."""
        from ask_above.store.rows import shared_names

        self._asked_shared += 1
        if self._asked_shared <= _FEW_TIMES and len(people) <= _AT_FIRST:
            return shared_names(self.connection, [member.name for member in people.values()])
        if self._all_shared is None:
            self._all_shared = shared_names(self.connection)
        return self._all_shared


class _MembersOnDemand(Mapping[str, Member]):
    def __init__(self, source: _RowSource) -> None:
        self.source = source

    def __getitem__(self, key: str) -> Member:
        member = self.source.member(key)
        if member is None:
            raise KeyError(key)
        return member

    def __contains__(self, key: object) -> bool:
        return isinstance(key, str) and self.source.member(key) is not None

    def __iter__(self) -> Iterator[str]:
        # whoever looks for a few who can do something has found them before all are read
        first = self.source.first()
        yield from first
        if len(first) < self.source.size:
            yield from islice(self.source.everybody()[0], len(first), None)

    def __len__(self) -> int:
        return self.source.size

    def values(self) -> Any:
        return self.source.everybody()[0].values()

    def items(self) -> Any:
        return self.source.everybody()[0].items()

    def keys(self) -> Any:
        return self.source.everybody()[0].keys()


class _Given(Mapping[str, list[Assignment]]):
    def __init__(self, source: _RowSource) -> None:
        self.source = source

    def __getitem__(self, key: str) -> list[Assignment]:
        assignments = self.source.of(key)
        if not assignments:
            raise KeyError(key)
        return assignments

    def __iter__(self) -> Iterator[str]:
        return iter(self.source.everybody()[1])

    def __len__(self) -> int:
        return len(self.source.everybody()[1])


def read_register_on(connection: Transaction, charter: Charter, name: str) -> Register:
    """Return the whole register within a transaction; raises ``StoreError`` where a row cannot be meant."""
    source = _RowSource(connection, charter, Where(name, 0, 1), 0)
    members, given = source.everybody()
    made = Register(members, (), name)
    made.given_by(given)
    return made


def register_of(connection: Transaction, charter: Charter, name: str, size: int) -> Register:
    """Return a register that reads rows over a connection as they are needed; it goes on being as of one moment."""
    source = _RowSource(connection, charter, Where(name, 0, 1), size)
    made = Register(_MembersOnDemand(source), (), name)
    made.given_by(_Given(source), source)
    return made


def hold_open(register: Register, reading: ExitStack) -> None:
    """Let a reading last as long as anybody knows the register that needs it, or one made of it: not the one who read.

    A community may outlive the home that it was opened from.
    """
    if isinstance(register.members, _MembersOnDemand):
        register.members.source.reading = reading
