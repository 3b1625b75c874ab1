"""A tour on the screen: the tree of places, what can be done in each, what the place changes."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from ask_above.ask.describe.describer import Describer
from ask_above.ask.describe.sentences import doing, under_headings
from ask_above.ask.tour import CLOSED, OPEN, Meeting, Stop, Tour
from ask_above.decide.compiled import CompiledCharter
from ask_above.show.data import Table
from ask_above.show.screen import Screen

_MARKS = {OPEN: "▸", CLOSED: "▪"}


def show_tour(screen: Screen, tour: Tour) -> None:
    """Show a tour, first who they are in sentences, at its end what they do not see and why."""
    compiled, who = tour.decider.compiled, _who(tour)
    screen.line(f"{compiled.charter.title or compiled.charter.key}, as {tour.who} finds it", "head")
    if who:
        screen.paragraph(" ".join(who), style="dim")
    for stop in tour.stops:
        if stop.state == OPEN:
            _show_open(screen, compiled, stop)
        elif stop.state == CLOSED:
            screen.line()
            screen.line(f"{'  ' * stop.depth}▪ {compiled.charter.places[stop.place].title}: closed to them", "warn")
    screen.line()
    screen.items(["▸ open", "▪ shown as closed", "+ only here, not in the place above"], style="dim")
    if tour.unseen:
        screen.line()
        screen.line(f"For you, not for {tour.who}: what they may not enter, and why", "head")
        for stop in tour.unseen:
            said = "closed" if stop.state == CLOSED else "not there"
            title = compiled.charter.places[stop.place].title or compiled.charter.key
            screen.paragraph(f"{title} ({said}): {stop.why}", first="  ", rest="    ")


def _who(tour: Tour) -> list[str]:
    """Say who it is that walks; of a visitor there is nothing to say."""
    describer, asked = Describer(tour.decider, tour.at), tour.asked
    if asked.member is not None:
        return describer.standing(asked.member)
    if asked.key is None:
        return []
    return list(describer.rank(tour.decider.compiled.charter.ranks[asked.key]).sentences)


def _show_open(screen: Screen, compiled: CompiledCharter, stop: Stop) -> None:
    place = compiled.charter.places[stop.place]
    pad = "  " * stop.depth
    screen.line()
    kind = f" ({place.kind})" if stop.depth else ""
    screen.line(f"{pad}▸ {place.title if stop.depth else 'The whole site'}{kind}", "place")
    for heading, keys in under_headings(compiled, stop.can).items():
        said = "; ".join(f"{'+ ' if key in stop.more else ''}{doing(compiled, key)}" for key in keys)
        first = f"{pad}    {heading}: "
        screen.paragraph(said, first=first, rest=f"{pad}      ")
    if not stop.can:
        screen.line(f"{pad}    nothing", "dim")
    if stop.less:
        said = "; ".join(doing(compiled, key) for key in stop.less)
        screen.paragraph(f"not here, unlike above: {said}", first=f"{pad}    − ", rest=f"{pad}      ", style="no")


def tour_table(compiled: CompiledCharter, tour: Tour) -> Table:
    """Return a row for each capability in each place; a place without any has one row with none."""
    rows: list[list[object]] = []
    for stop in tour.stops:
        place = compiled.charter.places[stop.place]
        said = [stop.place, place.title, place.kind, stop.state]
        changed = [(key, "here alone" if key in stop.more else "") for key in stop.can]
        changed += [(key, "taken here") for key in stop.less]
        for key, change in changed or [("", "")]:
            each = compiled.catalogue.capabilities.get(key)
            rows.append([*said, key, each.heading if each else "", each.about if each else "", change])
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
    """Show two tours side by side, place by place."""
    one, other = names
    screen.line(f"{compiled.charter.title or compiled.charter.key}, as {one} and {other} find it", "head")
    for meeting in met:
        pad = "  " * meeting.depth
        screen.line()
        title = compiled.charter.places[meeting.place].title if meeting.depth else "The whole site"
        states = meeting.states
        said = "" if states == (OPEN, OPEN) else f": {one} {_state(states[0])}, {other} {_state(states[1])}"
        if states[0] == states[1] != OPEN:
            said = ": both see it closed" if states[0] == CLOSED else ": neither finds it"
        screen.line(f"{pad}▸ {title}{said}", "place")
        for label, keys in (
            ("both", meeting.both),
            (f"only {one}", meeting.only_one),
            (f"only {other}", meeting.only_other),
        ):
            if keys:
                screen.paragraph(_sentence(compiled, keys), first=f"{pad}    {label}: ", rest=f"{pad}      ")
        if states == (OPEN, OPEN) and not (meeting.both or meeting.only_one or meeting.only_other):
            screen.line(f"{pad}    neither can do anything", "dim")


def _state(state: str) -> str:
    return {OPEN: "may enter", CLOSED: "sees it closed"}.get(state, "does not find it")


def _sentence(compiled: CompiledCharter, keys: Iterable[str]) -> str:
    return "; ".join(doing(compiled, key) for group in under_headings(compiled, keys).values() for key in group)


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
