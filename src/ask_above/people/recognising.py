"""Who somebody is whom a list, a directory or a provider names: one way for all of them.

By what the source itself gave, then by external id, then by user name. A key or an address alone links nobody: whoever
has it is likely the same person, and somebody has to say so.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Collection, Container, Iterable, Iterator, Mapping, Sequence
from operator import attrgetter
from threading import Lock
from typing import Final, NamedTuple

from ask_above.charter.names import RESERVED, SITE, is_key
from ask_above.errors import AskAboveError
from ask_above.people.directory import folded
from ask_above.people.register import Member, Register

CALLED: Final = {"user_name": "user name", "external_id": "external id", "email": "address"}
"""What is unique, and what people call it."""
_UNIQUE: Final = {
    "user_name": ("user_name", "key"),
    "external_id": ("external_id",),
    "email": ("email",),
    "key": ("user_name",),
}
"""Which of another member's fields each is held against."""
_FIELDS: Final = [(field, attrgetter(field), others) for field, others in _UNIQUE.items()]
_UMLAUTS = str.maketrans({"ä": "ae", "ö": "oe", "ü": "ue", "Ä": "Ae", "Ö": "Oe", "Ü": "Ue"})


class Double(NamedTuple):
    """A member has in a field, which is unique, what another has, who is named by key."""

    member: Member
    field: str
    other: str


class TwoPeopleError(AskAboveError, ValueError):
    """What is known of somebody points at two different members."""


class Known(NamedTuple):
    """What a source knows of somebody: its own number, an external id, a user name; and what links nobody alone."""

    number: str = ""
    external_id: str = ""
    user_name: str = ""
    key: str = ""
    email: str = ""
    name: str = ""


def known_of(cells: Mapping[str, str]) -> Known:
    """Return what a row of a list says of somebody; a number of its own no list has."""
    return Known(**{name: cells.get(name, "") for name in ("external_id", "user_name", "email", "name")})


class Recogniser:
    """The members of registers by what others know them by; after a change only those who differ are looked at.

    Each question names its register: two that follow one another may be asked about at once.
    """

    def __init__(self) -> None:
        self._register: Register | None = None
        self._keys: dict[tuple[str, str], set[str]] = {}
        self._turn = Lock()

    def find(self, register: Register, what: str, value: str) -> list[str]:
        """Return the keys of those of whom this is so, in order; of what is unique, whatever the case."""
        with self._turn:
            self._follow(register)
            return sorted(self._keys.get((what, value), ()))

    def _follow(self, register: Register) -> None:
        if self._register is None:
            for key in register.members:
                self._put(register, key)
        elif self._register is not register:
            for key in register.differing(self._register):
                for word in _words(self._register, key):
                    self._keys.get(word, set()).discard(key)
                self._put(register, key)
        self._register = register

    def _put(self, register: Register, key: str) -> None:
        for word in _words(register, key):
            self._keys.setdefault(word, set()).add(key)

    def who(self, register: Register, known: Known) -> str | None:
        """Return the key of the member who is meant beyond doubt; ``None`` where there is none.

        What several members have recognises nobody. Raises :class:`TwoPeopleError` where two of the things that are
        known point at different members.
        """
        keys_of: dict[str, str] = {}
        for what, value in (
            ("external_id", known.number),
            ("external_id", known.external_id),
            ("user_name", known.user_name),
        ):
            keys = self.find(register, what, value.casefold()) if value else []
            # what two members share tells neither
            if len(keys) == 1:
                keys_of.setdefault(keys[0], value)
        if len(keys_of) > 1:
            said = " and ".join(f"{value} is {register.members[key].called_by_key}" for key, value in keys_of.items())
            raise TwoPeopleError(f"Two members are meant at once: {said}.")
        return next(iter(keys_of), None)

    def likely(self, register: Register, known: Known) -> list[str]:
        """Return the members who are likely the same person, by address, key or full name, the likeliest first."""
        keys = self.find(register, "email", known.email.casefold()) if known.email else []
        keys += [known.key] if known.key in register.members else []
        if known.name and not known.email:
            keys += self.find(register, "called", folded(known.name))
        keys += self.find(register, "key", _older_key(known.name)) if not known.name.isascii() else []
        return list(dict.fromkeys(keys))

    def doubles(self, register: Register, members: Iterable[Member]) -> list[Double]:
        """Return what these share with others of the register."""
        doubles: list[Double] = []
        with self._turn:
            self._follow(register)
            for member in members:
                own = {member.key}
                for field, value_of, others in _FIELDS:
                    value = value_of(member).casefold()
                    for other_field in others if value else ():
                        keys = self._keys.get((other_field, value), own)
                        if keys != own:
                            doubles += [Double(member, field, other) for other in sorted(keys - own)]
        return doubles


class Identities:
    """What says who some members are, letter case aside; a user name is held against keys too."""

    def __init__(self, members: Collection[Member]) -> None:
        self.members = members
        self._first: dict[str, dict[str, str]] = {}
        self._several: dict[tuple[str, str], list[str]] = {}

    def _of(self, field: str) -> dict[str, str]:
        """Return the first member with each value of a field; the others of the few that several have are beside it."""
        first_with = self._first.get(field)
        if first_with is None:
            first_with, value_of = self._first.setdefault(field, {}), attrgetter(field)
            for member in self.members:
                if value := value_of(member):
                    first = first_with.setdefault(value.casefold(), member.key)
                    if first is not member.key:
                        self._several.setdefault((field, value.casefold()), [first]).append(member.key)
        return first_with

    def _keys(self, field: str, value: str) -> Sequence[str]:
        first = self._of(field).get(value)
        return () if first is None else self._several.get((field, value), (first,))

    def shared(self, member: Member) -> Iterator[Double]:
        """Yield what a member shares with others."""
        for field, value_of, others in _FIELDS:
            for other_field in others if value_of(member) else ():
                for key in self._keys(other_field, value_of(member).casefold()):
                    if key != member.key:
                        yield Double(member, field, key)

    def doubles(self) -> Iterator[Double]:
        """Yield what any of them share; of very many members hardly any are looked at one by one."""
        doubtful = self._doubtful()
        for member in self.members if doubtful else ():
            if member.key in doubtful:
                yield from self.shared(member)

    def _doubtful(self) -> set[str]:
        names = self._of("user_name")
        crossed = names.keys() & self._of("key").keys() if names else ()
        found = [self._keys(field, value) for value in crossed for field in ("user_name", "key")]
        for field in ("external_id", "email"):
            self._of(field)
        return {key for keys in (*found, *self._several.values()) for key in keys}


def _words(register: Register, key: str) -> Iterator[tuple[str, str]]:
    member = register.members.get(key)
    if member is None:
        return
    yield "key", key.casefold()
    yield "user_name", user_name(member).casefold()
    for field in ("external_id", "email"):
        if getattr(member, field):
            yield field, getattr(member, field).casefold()
    yield "called", folded(member.name or key)
    if member.is_retired:
        return
    for group in member.groups:
        yield "group", group
    for assignment in register.of(key):
        if assignment.place == SITE:
            yield "rank", assignment.rank


def user_name(member: Member) -> str:
    """Return what a member signs in with, where it is known: the user name, else the key; never the address."""
    return member.user_name or member.key


def key_from(name: str) -> str:
    """Make a key from a name, letters of other scripts written in Latin ones; empty where nothing is left.

    >>> [key_from(name) for name in ("Zoë O'Hara", "Łukasz", "Größe", "Елена", "…")]
    ['zoe-o-hara', 'lukasz', 'groesse', 'elena', '']
    """
    from anyascii import anyascii

    plain = name if name.isascii() else anyascii(name.translate(_UMLAUTS))
    return re.sub(r"[^a-z0-9_]+", "-", plain.lower()).strip("-_")


def _older_key(name: str) -> str:
    """Return the key that earlier versions made of a name: letters that are not Latin were left out."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode()
    return re.sub(r"[^a-z0-9_]+", "-", plain.lower()).strip("-_")


def new_key(name: str, taken: Container[str], *, instead: str = "member") -> str:
    """Return a key for something new, made of a name, with a number where somebody has it already.

    >>> new_key("Ada Marsh", {"ada-marsh"}), new_key("…", {"member"}), new_key("site", set())
    ('ada-marsh-2', 'member-2', 'm-site')
    """
    base = key_from(name) or instead
    if not is_key(base) or base in RESERVED:
        base = f"m-{base}"
    key, n = base, 1
    while key in taken:
        n += 1
        key = f"{base}-{n}"
    return key
