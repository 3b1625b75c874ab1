"""What a change does, on the screen: who gains and who loses, the riskiest first."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ask_above.ask.impact import Impact, Shift
from ask_above.charter.names import listed
from ask_above.decide.frame import Frame
from ask_above.decide.words import in_places
from ask_above.show.screen import Screen

_FEW = 4


def show_impact(screen: Screen, impact: Impact) -> None:
    """Show all that differs."""
    if not impact:
        screen.line("Nothing that anybody may do differs.", "yes")
        return
    members, one = len(impact.members), impact.answers == 1
    if not impact.answers and not impact.risky:
        screen.line("No answer about any member differs.", "head")
    else:
        _count(screen, impact, members, one=one)
    for shift in impact.shifts:
        _shift(screen, impact, shift)
    if impact.powers:
        screen.line()
        screen.line("Between ranks", "head")
        for gains, said in power_lines(impact):
            sign = "+" if gains else "−"
            screen.paragraph(f"{sign} {said}", first="  ", rest="    ", style="yes" if gains else "no")
    if impact.turned:
        screen.line()
        screen.line("Expectations that turn", "head")
        for each in impact.turned:
            mark, said = ("✓", "holds now") if each.holds else ("✗", f"no longer holds: {each.unmet.because}")
            screen.paragraph(
                f"{mark} {each.text} — {said}", first="  ", rest="    ", style="yes" if each.holds else "no"
            )


def _count(screen: Screen, impact: Impact, members: int, *, one: bool) -> None:
    screen.line(
        f"{impact.answers} answer{'' if one else 's'} about {members} member{'' if members == 1 else 's'} "
        f"differ{'s' if one else ''}" + ("; something of high risk is gained" if impact.risky else ""),
        "head",
    )


def _shift(screen: Screen, impact: Impact, shift: Shift) -> None:
    screen.line()
    risk = {"high": "high risk, ", "medium": "medium risk, "}.get(shift.risk, "")
    verb = "gain" if shift.gains else "lose"
    if (not shift.members and (len(shift.ranks) > 0) + shift.visitor == 1 and not shift.visitor) or (
        len(shift.members) == 1 and not shift.ranks and not shift.visitor
    ):
        verb += "s"
    style = ("warn" if shift.risk == "high" else "yes") if shift.gains else "no"
    sign = "+" if shift.gains else "−"
    screen.paragraph(
        f"{sign} {who_in_words(impact, shift)} {verb} {listed(shift.capabilities)}", rest="  ", style=style
    )
    screen.paragraph(f"{risk}{where_in_words(impact, shift.places)}", first="    ", rest="    ")


def who_in_words(impact: Impact, shift: Shift) -> str:
    """Say who gains or loses: members by name where they are few, ranks by title, visitors."""
    register = {**impact.old.people.register.members, **impact.new.people.register.members}
    parts = []
    if shift.members:
        names = [register[key].called for key in shift.members[:_FEW]]
        count = len(shift.members)
        parts.append(listed(names) if count <= _FEW else f"{count} members ({', '.join(names[:3])} and others)")
    if shift.ranks:
        parts.append(("whoever is " if not shift.members else "and whoever is asked as ") + _ranks(impact, shift.ranks))
    if shift.visitor:
        parts.append("and visitors" if parts else "visitors")
    said = ", ".join(parts)
    return said[:1].upper() + said[1:]


def _ranks(impact: Impact, keys: Sequence[str]) -> str:
    """Say which ranks; where it is nearly all of them, which not."""
    known = {key: rank.title for frame in reversed(_frames(impact)) for key, rank in frame.charter.ranks.items()}
    rest = [title for key, title in known.items() if key not in keys]
    if len(keys) > 2 * _FEW and len(rest) < _FEW:
        return f"any rank but {listed(rest, 'or')}" if rest else "any rank"
    return listed((known[key] for key in keys), "or")


def _frames(impact: Impact) -> tuple[Frame, Frame]:
    return impact.new.frame, impact.old.frame


def _title(impact: Impact, key: str) -> str:
    return next(frame.charter.ranks[key].title for frame in _frames(impact) if key in frame.charter.ranks)


def where_in_words(impact: Impact, keys: Sequence[str]) -> str:
    """Say where something differs."""
    if len(keys) == len(impact.new.frame.places) > 1:
        return "everywhere"
    places = {**impact.old.frame.charter.places, **impact.new.frame.charter.places}
    return in_places(places, keys, 2 * _FEW)


def power_lines(impact: Impact) -> list[tuple[bool, str]]:
    """Say which acts between ranks became possible, and which are no longer: by actor, act, targets and places."""
    found: dict[tuple[str, str, bool, str], list[str]] = {}
    for each in impact.powers:
        found.setdefault((each.actor, each.act, each.gains, each.place), []).append(_title(impact, each.target))
    alike: dict[tuple[str, str, bool, tuple[str, ...]], list[str]] = {}
    for (actor, act, gains, place), targets in found.items():
        alike.setdefault((actor, act, gains, tuple(targets)), []).append(place)
    lines = []
    for (actor, act, gains, reached), places in alike.items():
        verb, where = "may now" if gains else "may no longer", where_in_words(impact, places)
        lines.append((gains, f"{_title(impact, actor)} {verb} {act} {listed(reached)} {where}"))
    return lines


def impact_data(impact: Impact) -> dict[str, Any]:
    """Return an impact as plain data."""
    return {
        "answers": impact.answers,
        "members": sorted(impact.members),
        "shifts": [shift._asdict() for shift in impact.shifts],
        "powers": [each._asdict() for each in impact.powers],
        "expectations": [
            {"expectation": each.text, "holds": each.holds, "because": each.unmet.because} for each in impact.turned
        ],
    }
