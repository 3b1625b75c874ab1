"""The site as one person finds it: what is there, what is closed, what can be done where (rules 5.3 to 5.6)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from ask_above.charter.moments import Instant
from ask_above.decide.classes import ClassState
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Asked
from ask_above.decide.walk import closed_gate, held, usable
from ask_above.printing import prints

OPEN, CLOSED, ABSENT = "open", "closed", "not there"
"""How a place shows itself: to be entered, shown as closed, not to be found."""


class Stop(NamedTuple):
    """One place of a tour, in the charter's order; ``depth`` is 0 for the site.

    ``state`` is open, closed or not there. ``can`` are the capabilities that can be used there, by their full names.
    ``more`` are those of them that only this place gives, by its words or by ranks held from here on; ``less`` those
    that it takes: what would be usable there if it said nothing itself. ``why`` says, for the administrator, why it is
    closed or not there.
    """

    place: str
    depth: int
    state: str
    can: tuple[str, ...] = ()
    more: tuple[str, ...] = ()
    less: tuple[str, ...] = ()
    why: str = ""


@prints
class Tour(NamedTuple):
    """A walk through the site in someone's shoes."""

    who: str
    stops: tuple[Stop, ...]
    decider: Decider
    asked: Asked
    at: Instant

    def __repr__(self) -> str:
        return f"<Tour of {self.who}: {len(self.stops)} places, {len(self.unseen)} of them not to be entered>"

    @property
    def unseen(self) -> tuple[Stop, ...]:
        """The places that they may not enter, with the reasons."""
        return tuple(stop for stop in self.stops if stop.state != OPEN)


def tour(decider: Decider, asked: Asked, at: Instant, start: int = 0, sees: Sequence[bool] | None = None) -> Tour:
    """Walk through a place, the number ``start``, and all in it; the whole site where it is left out.

    ``sees`` is as for :func:`states`.
    """
    stops = []
    for n, state in enumerate(states(decider, asked, sees)):
        chain = decider.compiled.chains[n]
        if start in chain:
            stop = Stop(decider.compiled.places[n].key, len(chain) - 1, state)
            above = chain[-2] if len(chain) > 1 else None
            stops.append(_open(decider, asked, n, above, stop) if state == OPEN else _shut(decider, asked, n, stop))
    return Tour(asked.label, tuple(stops), decider, asked, at)


def states(decider: Decider, asked: Asked, sees: Sequence[bool] | None = None) -> list[str]:
    """Return how every place shows itself to somebody, in the charter's order.

    ``sees`` tells for each place whether somebody holds there what seeing it rests on, where that is known already.
    """
    shown: list[str] = []
    for n, chain in enumerate(decider.compiled.chains):
        above = shown[chain[-2]] if len(chain) > 1 else OPEN
        shown.append(_state(decider, asked, n, above, None if sees is None or n == 0 else sees[n]))
    return shown


def _state(decider: Decider, asked: Asked, place: int, above: str, sees: bool | None) -> str:
    """Return how a place shows itself; ``above`` is how the one above it does, ``sees`` whether that much is held."""
    compiled, gate = decider.compiled, decider.compiled.places[place].gate
    if asked.rules_all:
        return OPEN
    if asked.profile is None:
        return ABSENT
    if sees or (sees is not None and (gate is None or not gate.teaser or above != OPEN)):
        return OPEN if sees else ABSENT  # nothing is held behind a closed gate
    here = decider.reckoner.held(asked.profile, place)
    if not here.unbounded:
        shut = closed_gate(compiled, asked.profile, place)
        if shut is not None:
            return CLOSED if shut == place and gate is not None and gate.teaser and above == OPEN else ABSENT
    seeing = compiled.charter.rules.seeing
    return OPEN if place == 0 or seeing is None or not compiled.rests(seeing, place) & ~here.mask else ABSENT


def seen_by(decider: Decider, asked: Sequence[Asked]) -> Sequence[Sequence[bool] | None]:
    """Return for each of some people what :func:`states` asks for, all at once; ``None`` where seeing takes nothing."""
    compiled, seeing = decider.compiled, decider.compiled.charter.rules.seeing
    if seeing is None or len(compiled.places) == 1:
        return [None] * len(asked)
    from ask_above.bulk.making import programme_of
    from ask_above.bulk.places import CompiledPlaces
    from ask_above.bulk.table import Sweep, unpack

    places = compiled.keep(CompiledPlaces)
    states = [ClassState(each.profile, owner=False) for each in asked]
    sweep = Sweep(places, states, programme=programme_of(places, gated=True))
    rests = [compiled.catalogue.keys.index(key) for key in compiled.catalogue.names(compiled.rests(seeing, 1))]
    held = (unpack(bits).reshape(len(rests), -1)[:, : len(asked)].all(axis=0) for _, bits in sweep.run(None, rests))
    rows: list[list[bool]] = [*map(list, zip(*(here.tolist() for here in held), strict=True))]
    return rows


def _open(decider: Decider, asked: Asked, place: int, above: int | None, stop: Stop) -> Stop:
    compiled = decider.compiled
    names = compiled.catalogue.names
    can = decider.usable(asked, place)
    before = unsaid = can
    if above is not None and asked.profile and not asked.rules_all:
        before = usable(compiled, decider.reckoner.held(asked.profile, above).mask, place)
        unsaid = usable(compiled, held(compiled, asked.profile, place, own=False).mask, place)
    return stop._replace(can=names(can), more=names(can & ~before), less=names(unsaid & ~can))


def _shut(decider: Decider, asked: Asked, place: int, stop: Stop) -> Stop:
    compiled = decider.compiled
    capability = compiled.charter.rules.seeing or next(iter(compiled.catalogue.keys), None)
    why = decider.may(asked, capability, place).reason if capability else "The charter has no capabilities."
    return stop._replace(why=why)


class Meeting(NamedTuple):
    """One place as two people find it: what both can do there, what only the one, what only the other."""

    place: str
    depth: int
    states: tuple[str, str]
    both: tuple[str, ...]
    only_one: tuple[str, ...]
    only_other: tuple[str, ...]


def beside(one: Tour, other: Tour) -> tuple[Meeting, ...]:
    """Lay two tours of one site side by side."""
    meetings = []
    for first, second in zip(one.stops, other.stops, strict=True):
        meetings.append(
            Meeting(
                first.place,
                first.depth,
                (first.state, second.state),
                tuple(key for key in first.can if key in second.can),
                tuple(key for key in first.can if key not in second.can),
                tuple(key for key in second.can if key not in first.can),
            )
        )
    return tuple(meetings)
