"""What people call things: a member by key or full name, a rank, place or group by key or title, in any case.

A key that is written exactly is meant, whatever else it might be. Else what is written is compared without case, spaces
and signs between words; what several have is asked about and never guessed.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Iterator, Mapping
from enum import StrEnum
from functools import cached_property
from typing import NamedTuple

from ask_above.charter.charter import Charter
from ask_above.charter.names import few, nearest
from ask_above.errors import AmbiguousNameError, UnknownNameError
from ask_above.people.register import Register

_BETWEEN = re.compile(r"[\s_\-]+")
_MOST_TOLD = 6
_MOST_NEAR = 3


class NameKind(StrEnum):
    """What a name may be the name of."""

    MEMBER = "member"
    RANK = "rank"
    PLACE = "place"
    GROUP = "group"
    SET = "override set"


class Known(NamedTuple):
    """Something that has a name."""

    kind: NameKind
    key: str
    title: str = ""
    user_name: str = ""

    @property
    def names(self) -> set[str]:
        """The names as they are compared."""
        return {folded(self.key), folded(self.title), folded(self.user_name)} - {""}

    @property
    def spelled(self) -> str:
        """The key, and the title where that says more."""
        return f"{self.key} ({self.title})" if self.title and folded(self.title) != folded(self.key) else self.key


def folded(text: str) -> str:
    """Return a name without what people leave out or write otherwise: case, width, spaces, ``-`` and ``_``."""
    return _BETWEEN.sub(" ", unicodedata.normalize("NFKC", text).casefold()).strip()


class Directory:
    """All names of one charter and one register."""

    def __init__(self, charter: Charter, register: Register) -> None:
        self.charter, self.register = charter, register
        self._folded: dict[NameKind, dict[str, list[Known]]] = {}
        self._people = _People(register)

    def after(self, charter: Charter, register: Register) -> Directory:
        """Return the names after a change; what has been made ready of them is shared where it is still so."""
        other = Directory(charter, register)
        if charter is self.charter:
            other._folded = self._folded
        other._people = self._people
        return other

    @cached_property
    def _keys(self) -> Mapping[NameKind, Mapping[str, object]]:
        charter = self.charter
        return {
            NameKind.MEMBER: self.register.members,
            NameKind.RANK: charter.ranks,
            NameKind.PLACE: charter.places,
            NameKind.GROUP: charter.groups,
            NameKind.SET: charter.override_sets,
        }

    def find(self, name: str, *kinds: NameKind) -> Known | None:
        """Return what a name means: of the first of the kinds that has the key, else of the first that has the name.

        What texts call one of several of a name, ``Crew (crew-b)``, is a name of it too. ``None`` where nothing of
        these kinds has it. Raises :class:`ask_above.AmbiguousNameError` where several of one kind do.
        """
        for kind in kinds:
            if name in self._keys[kind]:
                return Known(kind, name)
        for kind in kinds if name.endswith(")") else ():
            if key := self._as_told(kind, name):
                return Known(kind, key)
        for kind in kinds:
            same_name = self._by_name(kind).get(folded(name), [])
            if len(same_name) > 1:
                raise AmbiguousNameError(kind, name, tuple(known.spelled for known in same_name[:_MOST_TOLD]))
            if same_name:
                return same_name[0]
        return None

    def _as_told(self, kind: NameKind, name: str) -> str | None:
        """Return the key of what is called by a name with something in brackets behind it, which tells it apart."""
        if kind is NameKind.MEMBER:
            title, _, key = name[:-1].rpartition(" (")
            member = self.register.members.get(key)
            return key if member is not None and folded(member.name) == folded(title) else None
        called = ((key, getattr(thing, "called", "")) for key, thing in self._keys[kind].items())
        return next((key for key, said in called if folded(said) == folded(name)), None)

    def key(self, name: str, *kinds: NameKind) -> str:
        """Return the key of what a name means; raises :class:`ask_above.UnknownNameError` with the nearest names."""
        known = self.find(name, *kinds)
        if known is None:
            few_kinds = () if NameKind.MEMBER in kinds else [key for kind in kinds for key in self._keys[kind]]
            raise UnknownNameError(_one_of(kinds), name, self.nearest(name, *kinds), known=few_kinds)
        return known.key

    def also(self, found: Known, name: str, *kinds: NameKind) -> list[Known]:
        """Return what else of other kinds has the name."""
        others = [kind for kind in kinds if kind is not found.kind]
        return [
            known
            for kind in others
            for known in (
                [Known(kind, name)] if name in self._keys[kind] else self._by_name(kind).get(folded(name), [])
            )
        ]

    def nearest(self, name: str, *kinds: NameKind) -> tuple[str, ...]:
        """Return the keys of what is called most like a name, by key or title."""
        called: dict[str, str] = {}
        for kind in kinds:
            for known in self._all(kind):
                called.setdefault(known.key, known.key)
                called.setdefault(folded(known.title), known.key) if known.title else None
        # a first name, or another word of a name, is meant before anything that is merely written like it
        word = folded(name)
        whole = [key for said, key in called.items() if word and word in said.split()]
        like = [called[each] for each in nearest(word, called)]
        return tuple(dict.fromkeys((*whole[:_MOST_NEAR], *like)))[:_MOST_NEAR]

    def nearer(self, unknown: UnknownNameError) -> UnknownNameError:
        """Return the error with what is nearest by key, title or full name, where it is about one of these."""
        if unknown.what not in [*NameKind]:
            return unknown
        kind = NameKind(unknown.what)
        hint = unknown.hint or self.other(unknown.name, kind)
        near = () if hint else self.nearest(unknown.name, kind)
        return UnknownNameError(unknown.what, unknown.name, near, hint, () if hint else unknown.known)

    def other(self, name: str, wanted: NameKind) -> str:
        """Say what else a name is that is none of the kind that is wanted; nothing where it is the name of nothing."""
        known = self.find(name, *(kind for kind in NameKind if kind not in (wanted, NameKind.SET)))
        if known is None:
            return ""
        if known.kind is NameKind.PLACE and wanted is NameKind.MEMBER:
            return f"'{name}' is a place; say it after 'in': in {known.key}."
        ask = f"; to ask about the rank, type rank:{known.key}" if known.kind is NameKind.RANK else ""
        return f"'{name}' is a {known.kind}{ask}."

    def _by_name(self, kind: NameKind) -> Mapping[str, list[Known]]:
        if kind is NameKind.MEMBER:
            return self._people.by_name(self.register)
        known = self._folded.get(kind)
        if known is None:
            known = self._folded[kind] = {}
            for each in self._all(kind):
                for name in each.names:
                    known.setdefault(name, []).append(each)
        return known

    def _all(self, kind: NameKind) -> Iterator[Known]:
        charter = self.charter
        if kind is NameKind.MEMBER:
            yield from (Known(kind, key, called) for key, called, _ in self.register.names())
        elif kind is NameKind.SET:
            yield from (Known(kind, key) for key in charter.override_sets)
        else:
            named = {NameKind.RANK: charter.ranks, NameKind.PLACE: charter.places, NameKind.GROUP: charter.groups}[kind]
            yield from (Known(kind, key, getattr(each, "title", "")) for key, each in named.items())


class _People:
    """The members by name: what was made ready for one register serves those that were made of it."""

    def __init__(self, register: Register) -> None:
        self._ready: tuple[Register, dict[str, list[Known]]] = (register, {})

    def by_name(self, register: Register) -> Mapping[str, list[Known]]:
        """Return the members of a register by their names as these are compared."""
        of, known = self._ready
        if not known:
            known = {}
            for key, called, user_name in register.names():
                person = Known(NameKind.MEMBER, key, called, user_name)
                for name in person.names:
                    known.setdefault(name, []).append(person)
        elif of is not register:
            known = self._renewed(known, of, register)
        self._ready = register, known
        return known

    @staticmethod
    def _renewed(known: Mapping[str, list[Known]], of: Register, register: Register) -> dict[str, list[Known]]:
        renewed = dict(known)
        for key in register.differing(of):
            for side, comes in ((of, False), (register, True)):
                member = side.members.get(key)
                if member is None:
                    continue
                person = Known(NameKind.MEMBER, key, member.name, member.user_name)
                for name in person.names:
                    others = [each for each in renewed.get(name, ()) if each.key != key]
                    if comes:
                        others.append(person)
                    renewed[name] = others
        return renewed


def _one_of(kinds: Iterable[NameKind]) -> str:
    return few(kinds, _MOST_TOLD, "or")
