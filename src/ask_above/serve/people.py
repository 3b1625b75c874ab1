"""Whom other programs mean by a user name, a number or a group; after a change only those who differ are looked at."""

from __future__ import annotations

from collections.abc import Iterator
from threading import Lock

from ask_above.charter.names import SITE
from ask_above.people.register import Member, Register


def user_name(member: Member) -> str:
    """Return what a member signs in with, as far as is known: the user name, else the address, else the key."""
    return member.user_name or member.email or member.key


class PeopleIndex:
    """The members of registers by what provisioning asks for; members are told in the order of their keys.

    Each question names its register: reading and writing requests may ask about two that follow one another.
    """

    def __init__(self) -> None:
        self._register: Register | None = None
        self._keys: dict[tuple[str, str], set[str]] = {}
        self._turn = Lock()

    def _find(self, register: Register, word: tuple[str, str]) -> list[str]:
        with self._turn:
            self._follow(register)
            return sorted(self._keys.get(word, ()))

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

    def named(self, register: Register, name: str) -> str | None:
        """Return the key of who has a user name, in any case, and is not retired."""
        return next(iter(self._find(register, ("name", name.casefold()))), None)

    def numbered(self, register: Register, number: str) -> str | None:
        """Return the key of who has a number elsewhere, and is not retired."""
        return next(iter(self._find(register, ("number", number))), None)

    def retired(self, register: Register, name: str) -> str | None:
        """Return the key of who had a user name and is retired."""
        return next(iter(self._find(register, ("retired", name.casefold()))), None)

    def in_group(self, register: Register, group: str) -> list[str]:
        """Return the keys of who was put into a group and is not retired."""
        return self._find(register, ("group", group))

    def given(self, register: Register, rank: str) -> list[str]:
        """Return the keys of who is given a rank on the whole site, at any time, and is not retired."""
        return self._find(register, ("rank", rank))


def _words(register: Register, key: str) -> Iterator[tuple[str, str]]:
    member = register.members.get(key)
    if member is None:
        return
    if member.status == "retired":
        yield "retired", user_name(member).casefold()
        return
    yield "name", user_name(member).casefold()
    if member.external_id:
        yield "number", member.external_id
    for group in member.groups:
        yield "group", group
    for each in register.of(key):
        if each.place == SITE:
            yield "rank", each.rank
