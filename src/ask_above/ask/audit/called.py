"""What a log's names mean: keys, whatever spelling of them a log has."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from ask_above.ask.audit.states import StateAt
from ask_above.charter.names import MEMBER_MARK, SITE
from ask_above.decide.names import Names
from ask_above.people.directory import folded

if TYPE_CHECKING:
    from numpy.typing import NDArray

_KIND: Final = {"member": "member", "author": "member", "to": "member", "of": "member", "place": "place"}


class Called(NamedTuple):
    """Every key there ever was, and what else has one meaning: user names and full names, titles of places.

    A name that several have means none of them. A key is meant before a name, and what has a name now before what had.
    """

    keys_of: Mapping[str, frozenset[str]]
    meant: Mapping[str, Mapping[str, str]]

    def keys(self, field: str, names: NDArray[Any]) -> NDArray[Any]:
        """Return the names in a column as keys; what means nothing, or several, stays as it is."""
        import numpy as np

        kind = _KIND.get(field)
        if kind is None:
            return names
        return np.array([self._key(kind, name) for name in names], dtype=object)

    def _key(self, kind: str, name: str) -> str:
        if not name:
            return SITE if kind == "place" else ""
        if name in self.keys_of[kind]:
            return name
        if kind == "member":
            name = name.removeprefix(MEMBER_MARK)
        return name if name in self.keys_of[kind] else self.meant[kind].get(folded(name), name)


def called_in(states: Sequence[StateAt]) -> Called:
    """Return what names mean in a community that went through these states, the last of them first."""
    keys: dict[str, set[str]] = {"member": set(), "place": set()}
    meant: dict[str, dict[str, str]] = {"member": {}, "place": {}}
    newer: Names | None = None
    for names in (state.names for state in reversed(states)):
        members, places = names.register.members, names.charter.places
        if newer is None or names.register is not newer.register:
            differing = members if newer is None else names.register.differing(newer.register)
            some = [members[key] for key in differing if key in members]
            keys["member"].update(member.key for member in some)
            _add(meant["member"], ((member.key, (member.key, member.name, member.user_name)) for member in some))
        if newer is None or names.charter is not newer.charter:
            keys["place"].update(places)
            _add(meant["place"], ((place.key, (place.key, place.title)) for place in places.values()))
        newer = names
    single = {kind: {name: key for name, key in some.items() if key} for kind, some in meant.items()}
    return Called({kind: frozenset(some) for kind, some in keys.items()}, single)


def _add(meant: dict[str, str], things: Iterable[tuple[str, tuple[str, ...]]]) -> None:
    """Add what one state's names mean where no later state has them; a name of several means none, the empty key."""
    here: dict[str, str] = {}
    for key, names in things:
        for name in {folded(name) for name in names if name}:
            here[name] = key if here.get(name, key) == key else ""
    for name, key in here.items():
        meant.setdefault(name, key)
