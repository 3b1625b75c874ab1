"""A tour on the screen: the tree of places, what can be done in each, what the place changes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias

from ask_above.ask.describe.claims import doing, under_headings
from ask_above.ask.tour import ABSENT, CLOSED, OPEN, Meeting, Stop, Tour
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.words import period
from ask_above.show.data import Table
from ask_above.show.screen import Screen, cell

if TYPE_CHECKING:
    from rich.text import Text

_LEGEND = ("▸ open", "▪ closed", "+ more than above", "− granted, but not usable here")
_LEAST_SHARED = 3
"""A place is told by another from so many shared capabilities on."""


def show_tour(screen: Screen, tour: Tour) -> None:
    """Show a tour: for each place what differs from the place above it; in full all that can be done there."""
    compiled = tour.decider.compiled
    screen.line(f"{compiled.charter.title} as {tour.who} finds it", "head")
    who, states = _who(tour), {stop.state for stop in tour.stops}
    if who:
        screen.paragraph(who, rest="  ", style="dim")
    screen.line()
    if screen.full:
        for stop in tour.stops:
            _show_stop(screen, compiled, stop)
    else:
        lines, left = screen.cut([*_Lines(compiled, tour.stops).lines()])
        for line in lines:
            screen.paragraph(line.said, first=line.first, rest=line.rest, style=line.style)
        screen.more(left, hint=" (--full, or one section: --at PLACE)")
    used = [OPEN in states, CLOSED in states, True, any(stop.less for stop in tour.stops)]
    more = ["(why closed: --full)"] if states != {OPEN} and not screen.full else []
    screen.items([*(said for said, is_used in zip(_LEGEND, used, strict=True) if is_used), *more], style="dim")
    if screen.full and tour.unseen:
        screen.head("Why these places are closed (for administrators)")
        for stop in tour.unseen:
            said = "closed" if stop.state == CLOSED else "not shown"
            title = compiled.named[stop.place].called
            screen.paragraph(f"{title} ({said}): {stop.why}", first="  ", rest="    ")


def _who(tour: Tour) -> str:
    """Say which ranks and groups whoever walks has; of a visitor there is nothing to say."""
    compiled, asked = tour.decider.compiled, tour.asked
    if asked.member is None:
        rank = compiled.charter.ranks.get(asked.key or "")
        return rank.about if rank else ""
    names = ["owner"] if asked.owner else []
    for holding in asked.recorded:
        if holding.assignment is not None:
            place = "" if holding.place == 0 else f" in {compiled.named[compiled.places[holding.place].key].called}"
            names.append(f"{compiled.ranks[holding.rank].called}{place}{period(holding.assignment.period)}")
    groups = [compiled.charter.groups[key].called for key in asked.member.groups]
    ranks = ", ".join(names) or "no assigned rank"
    status = "" if asked.is_active else f" ({asked.status})"
    return f"{ranks}{status}" + (f"; {'groups' if groups[1:] else 'group'} {', '.join(groups)}" if groups else "")


def _show_stop(screen: Screen, compiled: CompiledCharter, stop: Stop) -> None:
    """Show all that can be done in a place, by heading."""
    place, pad = compiled.charter.places[stop.place], "  " * stop.depth
    if stop.state == CLOSED:
        screen.line(f"{pad}▪ {place.called}", "warn")
    if stop.state != OPEN:
        return
    kind = f" ({place.kind})" if stop.depth else ""
    screen.line(f"{pad}▸ {place.called if stop.depth else 'Whole site'}{kind}", "place")
    for heading, keys in under_headings(compiled, stop.can).items():
        said = ", ".join(f"{'+ ' if key in stop.more else ''}{doing(compiled, key)}" for key in keys)
        screen.paragraph(said, first=f"{pad}    {heading}: ", rest=f"{pad}      ")
    if stop.less:
        screen.paragraph(_words(compiled, stop.less), first=f"{pad}    − ", rest=f"{pad}      ", style="no")


def _words(compiled: CompiledCharter, keys: Iterable[str]) -> str:
    return ", ".join(doing(compiled, key) for group in under_headings(compiled, keys).values() for key in group)


class _Line(NamedTuple):
    """A line of a tour, and what stands before it."""

    said: str
    first: str
    rest: str
    style: str = ""


class _Told(NamedTuple):
    """What of a place was told: its title, and what differs there from the place above."""

    title: str
    plus: frozenset[str]
    minus: frozenset[str]


class _Lines:
    """The lines of a tour: places that differ alike from the place above share one."""

    def __init__(self, compiled: CompiledCharter, stops: Sequence[Stop]) -> None:
        self.compiled, self.stops = compiled, [stop for stop in stops if stop.state != ABSENT]
        self.told: list[_Told] = []
        self.can = {stop.place: frozenset(stop.can) for stop in stops}

    def lines(self) -> Iterator[_Line]:
        """Yield the lines; places side by side with nothing in them are told together where they are alike."""
        depth = min((stop.depth for stop in self.stops), default=0)
        inner = {self._above(stop) for stop in self.stops}
        groups: dict[object, list[Stop]] = {}
        for stop in self.stops:
            alike = (self._above(stop), stop.state, self._differs(stop))
            groups.setdefault(stop.place if stop.place in inner else alike, []).append(stop)
        for group in groups.values():
            yield from self._told(group, "  " * (group[0].depth - depth))

    def _above(self, stop: Stop) -> str | None:
        return self.compiled.charter.places[stop.place].parent

    def _differs(self, stop: Stop) -> tuple[frozenset[str], frozenset[str]]:
        """Return what can be done here and not above, and what can not: whoever reads it infers the rest from above."""
        above, can = self.can.get(self._above(stop) or "", frozenset()), self.can[stop.place]
        meant = self.compiled.catalogue.names(self.compiled.has_meaning(self.compiled.place_at[stop.place]))
        return can - above, (above - can).intersection(meant).union(stop.less)

    def _told(self, group: Sequence[Stop], pad: str) -> Iterator[_Line]:
        named = self.compiled.named
        places = [named[stop.place].called if stop.depth else "Whole site" for stop in group]
        titles = ", ".join(places)
        if group[0].state == CLOSED:
            yield _Line(titles, f"{pad}▪ ", f"{pad}    ", "warn")
            return
        plus, minus = self._differs(group[0])
        base = self._base(plus, minus)
        more, less = (plus - base.plus, minus - base.minus) if base else (plus, minus)
        words = [f"as {base.title}"] if base else []
        if more:
            words.append(f"{'+ ' if group[0].depth else ''}{_words(self.compiled, more)}")
        self.told.append(_Told(places[-1], plus, minus))
        wholly = f"{titles}{': ' if words or less else ''}{', '.join(words)}"
        if less and not words:
            yield _Line(f"{wholly}− {_words(self.compiled, less)}", f"{pad}▸ ", f"{pad}    ")
            return
        yield _Line(wholly, f"{pad}▸ ", f"{pad}    ")
        if less:
            yield _Line(_words(self.compiled, less), f"{pad}    − ", f"{pad}      ", "no")

    def _base(self, plus: frozenset[str], minus: frozenset[str]) -> _Told | None:
        """Return the place by which another can be told: it differs likewise, and what is more is little."""
        fits = [
            told
            for told in self.told
            if len(told.plus) >= _LEAST_SHARED and told.plus <= plus and told.minus <= plus | minus
        ]
        return max(fits, key=lambda told: len(told.plus) + len(told.minus & minus), default=None)


def tour_table(compiled: CompiledCharter, tour: Tour) -> Table:
    """Return a row for each capability in each place; a place without any has one row with none."""
    rows: list[list[object]] = []
    for stop in tour.stops:
        place = compiled.charter.places[stop.place]
        row = [stop.place, place.title, place.kind, stop.state]
        changed = [(key, "here alone" if key in stop.more else "") for key in stop.can]
        changed += [(key, "taken here") for key in stop.less]
        for key, change in changed or [("", "")]:
            each = compiled.catalogue.capabilities.get(key)
            rows.append([*row, key, each.heading if each else "", each.about if each else "", change])
    columns = ("place", "title", "kind", "state", "capability", "heading", "about", "change")
    return Table(columns, rows, _plain(compiled, tour))


def _plain(compiled: CompiledCharter, tour: Tour) -> dict[str, Any]:
    stops = [
        {
            "place": stop.place,
            "title": compiled.charter.places[stop.place].title,
            "depth": stop.depth,
            "state": stop.state,
            "can": list(stop.can),
            "here_alone": list(stop.more),
            "taken_here": list(stop.less),
            "why": stop.why,
        }
        for stop in tour.stops
    ]
    return {"who": tour.who, "places": stops}


def show_beside(screen: Screen, compiled: CompiledCharter, names: tuple[str, str], met: Sequence[Meeting]) -> None:
    """Show two tours side by side: for each place a tick for who can do what; what both can is in the full form."""
    one, other = names
    screen.line(f"{compiled.charter.title} as {one} and {other} find it", "head")
    rows: list[list[str | Text]] = []
    alike: dict[tuple[tuple[str, str], tuple[tuple[str, Ticks], ...]], list[str]] = {}
    known = {meeting.place: meeting for meeting in met}
    for meeting in met:
        above = None if screen.full else known.get(compiled.charter.places[meeting.place].parent or "")
        found = _ticks(meeting) if screen.full else _beyond(compiled, meeting, above)
        title = compiled.named[meeting.place].called if meeting.depth else "Whole site"
        alike.setdefault((meeting.states, tuple(_without_own(compiled, found))), []).append(title)
    same = []
    for (states, shown), titles in alike.items():
        if states[0] == states[1] and not shown and not screen.full:
            same += titles
            continue
        said = ("" if state == OPEN else _STATES[state] for state in states)
        rows.append([cell(f"▸ {', '.join(titles)}", "place"), *said])
        for key, ticks in shown:
            rows.append([f"    {doing(compiled, key)}", *(cell("✓", "yes") if tick else "·" for tick in ticks)])
    screen.line()
    screen.table(["", one, other], rows)
    if same:
        screen.paragraph(f"No further difference: {', '.join(same)}", rest="  ", style="dim")


Ticks: TypeAlias = "tuple[bool, bool]"
"""Whether the one can do something, and the other."""


def _ticks(meeting: Meeting) -> dict[str, Ticks]:
    """Return who can do what in a place, of what either can."""
    sides = ((meeting.both, (True, True)), (meeting.only_one, (True, False)), (meeting.only_other, (False, True)))
    return {key: ticks for keys, ticks in sides for key in keys}


def _beyond(compiled: CompiledCharter, meeting: Meeting, above: Meeting | None) -> dict[str, Ticks]:
    """Return what differs in a place otherwise than above, and what differs above and here no more.

    Of whoever does not get in that is said, so that they can do nothing goes without saying.
    """
    here, there = _ticks(meeting), _ticks(above) if above else {}
    first, second = (state == OPEN for state in meeting.states)
    shown: dict[str, Ticks] = {}
    for key in compiled.catalogue.names(compiled.has_meaning(compiled.place_at[meeting.place])):
        now, was = here.get(key, (False, False)), there.get(key, (False, False))
        # what both can do above is not shown there
        was = (first and was[0], second and was[1]) if was[0] is not was[1] else (False, False)
        if now != was and (now[0] is not now[1] or was[0] is not was[1]):
            shown[key] = now
    return shown


def _without_own(compiled: CompiledCharter, ticks: dict[str, Ticks]) -> Iterator[tuple[str, Ticks]]:
    """Yield capabilities in the catalogue's order; of own things nothing where it is so of anybody's."""
    for key, each in compiled.catalogue.capabilities.items():
        anybodys = ticks.get(f"{each.pair}.all") if each.pair is not None and key.endswith(".own") else None
        if key in ticks and ticks[key] != anybodys:
            yield key, ticks[key]


_STATES = {OPEN: "", CLOSED: "closed", ABSENT: "not shown"}


def beside_table(compiled: CompiledCharter, met: Sequence[Meeting]) -> Table:
    """Return a row for each capability that either can use in a place."""
    rows: list[list[object]] = []
    for meeting in met:
        title = compiled.charter.places[meeting.place].title
        for keys, one, other in (
            (meeting.both, True, True),
            (meeting.only_one, True, False),
            (meeting.only_other, False, True),
        ):
            rows += [[meeting.place, title, key, one, other] for key in keys]
    return Table(("place", "title", "capability", "one", "other"), rows)
