"""Places, what differs there, and the groups that it may differ for (rules 5.3 to 5.5)."""

from __future__ import annotations

from typing import NamedTuple

from ask_above.charter.catalogue import NO_WORDS, Words
from ask_above.charter.names import titled
from ask_above.charter.where import NOWHERE, Where


class Override(NamedTuple):
    """What a place, or an override set, says for one rank or group, or for one member as an exception.

    ``above`` marks an entry for a rank and every rank above it, written ``rank+``.
    """

    of: str
    above: bool = False
    allow: Words = NO_WORDS
    deny: Words = NO_WORDS
    bar: Words = NO_WORDS
    where: Where = NOWHERE

    @property
    def label(self) -> str:
        """The key as it is written: ``surveyor`` or ``surveyor+``."""
        return f"{self.of}+" if self.above else self.of

    @property
    def speaks(self) -> bool:
        """Whether it says anything."""
        return bool(self.allow or self.deny or self.bar)


class GateTerm(NamedTuple):
    """One thing that a gate asks for: a group, a rank, or a rank and every rank above it."""

    key: str
    group: bool = False
    above: bool = False

    def __str__(self) -> str:
        return f"{self.key}+" if self.above else self.key


class Gate(NamedTuple):
    """A condition for entering a place at all (rule 5.3)."""

    any: tuple[GateTerm, ...] = ()
    all: tuple[GateTerm, ...] = ()
    none: tuple[GateTerm, ...] = ()
    teaser: bool = False
    where: Where = NOWHERE


class Place(NamedTuple):
    """The site itself, a section, or a channel, page or board in it.

    ``distinct`` is what tells it from others of its title: its section, else its key.
    """

    key: str
    kind: str
    title: str = ""
    about: str = ""
    parent: str | None = None
    overrides: tuple[Override, ...] = ()
    exceptions: tuple[Override, ...] = ()
    gate: Gate | None = None
    like: tuple[str, ...] = ()
    where: Where = NOWHERE
    distinct: str = ""

    @property
    def called(self) -> str:
        """What people call it: its title, with what tells it from others of that title."""
        return titled(self.title, self.key, self.distinct)


class Conferred(NamedTuple):
    """A rank that a group gives to its members, at a place."""

    rank: str
    place: str


class Group(NamedTuple):
    """A set of members; it includes the members of other groups, and may confer ranks."""

    key: str
    title: str = ""
    about: str = ""
    includes: tuple[str, ...] = ()
    confers: tuple[Conferred, ...] = ()
    where: Where = NOWHERE
    distinct: str = ""

    @property
    def called(self) -> str:
        """What people call it: its title, with what tells it from others of that title."""
        return titled(self.title, self.key, self.distinct)


class OverrideSet(NamedTuple):
    """Prepared overrides that places can be like."""

    key: str
    overrides: tuple[Override, ...] = ()
    where: Where = NOWHERE
