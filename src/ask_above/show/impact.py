"""What a change does, on the screen: who gains and who loses, the riskiest first."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ask_above.ask.impact.act_shifts import ActShift
from ask_above.ask.impact.whole import COLUMNS, Impact, Shift
from ask_above.charter.names import few, how_many, listed
from ask_above.charter.rules import Act
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.words import day, in_places
from ask_above.show.data import Table
from ask_above.show.screen import Screen

if TYPE_CHECKING:
    from ask_above.workspace.plans import ByHand

_FEW = 4
_MOST_LINES = 16


def show_impact(screen: Screen, impact: Impact) -> None:
    """Show all that differs."""
    if not impact:
        screen.line("Nothing that anybody may do differs.", "yes")
        return
    if impact.shifts or impact.powers or impact.acts or impact.turned:
        risky = "; something of high risk is gained" if impact.risky else ""
        screen.paragraph(f"{counted(impact)}{risky}", style="head")
    for shift in impact.shifts:
        _shift(screen, impact, shift)
    lines = power_lines(impact)
    if lines:
        screen.line()
        screen.line("Who may act on whom", "head")
        for gains, said in lines[:_MOST_LINES]:
            sign = "+" if gains else "−"
            screen.paragraph(f"{sign} {said}", first="  ", rest="    ", style="yes" if gains else "no")
        if len(lines) > _MOST_LINES:
            screen.line(f"  and {len(lines) - _MOST_LINES} more like these", "dim")
    if impact.turned:
        screen.line()
        screen.line("Expectations that turn", "head")
        for turned in impact.turned:
            when = f" from {day(impact.day(turned.since))}" if turned.since else ""
            mark, said = (
                ("✓", f"holds now{when}") if turned.holds else ("✗", f"no longer holds{when}: {turned.unmet.because}")
            )
            screen.paragraph(
                f"{mark} {turned.text} — {said}", first="  ", rest="    ", style="yes" if turned.holds else "no"
            )
    if impact.may_differ and not (impact.shifts or lines or impact.turned):
        screen.line("No answer that was looked at differs.", "head")
        for said in impact.may_differ:
            screen.paragraph(f"? {said}", rest="  ", style="dim")


def show_by_hand(screen: Screen, files: Sequence[str], edited: ByHand) -> None:
    """Show what was edited by hand since the last change, and who gained and lost by it."""
    screen.line()
    screen.paragraph(f"Edited by hand since the last change, in {listed(files)}:", style="head")
    for each in edited.what:
        screen.paragraph(each, first="  ", rest="    ")
    screen.line()
    show_impact(screen, edited.effect)


def counted(impact: Impact) -> str:
    """Say how many answers differ, about how many members."""
    answers, members, acts = impact.answers, len(impact.members), impact.of_acts
    if not answers:
        return "Nothing differs for any member"
    said = f"{how_many(answers, 'answer')} about {how_many(members, 'member')} "
    said += "differs" if answers == 1 else "differ"
    if acts and acts < answers:
        said += f", {acts} of them about what they may do to others"
    return said


def _shift(screen: Screen, impact: Impact, shift: Shift) -> None:
    screen.line()
    style = ("warn" if shift.risk == "high" else "yes") if shift.gains else "no"
    what, where = shift_in_words(impact, shift)
    screen.paragraph(f"{'+' if shift.gains else '−'} {what}", rest="  ", style=style)
    screen.paragraph(where, first="    ", rest="    ")


def shift_in_words(impact: Impact, shift: Shift) -> tuple[str, str]:
    """Say who gains or loses what; and of which risk that is, where and when."""
    risk = {"high": "high risk, ", "medium": "medium risk, "}.get(shift.risk, "")
    verb = "gain" if shift.gains else "lose"
    if (not shift.members and (len(shift.ranks) > 0) + shift.visitor == 1 and not shift.visitor) or (
        len(shift.members) == 1 and not shift.ranks and not shift.visitor
    ):
        verb += "s"
    where = f"{risk}{where_in_words(impact, shift.places)}{when_in_words(impact, shift)}"
    return f"{who_in_words(impact, shift)} {verb} {listed(shift.capabilities)}", where


def when_in_words(impact: Impact, shift: Shift) -> str:
    """Say from when until when something differs; nothing where that is from now on."""
    said = f", from {day(impact.day(shift.since))}" if shift.since else ""
    if not shift.until:
        return said
    word, last = impact.ends(shift.until)
    return f"{said}, {word} {day(last)}"


def who_in_words(impact: Impact, shift: Shift) -> str:
    """Say who gains or loses: members by name where they are few, ranks by title, visitors."""
    parts = []
    if shift.members:
        names = [_called(impact, key) for key in shift.members[:_FEW]]
        count = len(shift.members)
        parts.append(listed(names) if count <= _FEW else f"{count} members ({', '.join(names[:3])} and others)")
    if shift.ranks:
        parts.append(("whoever is " if not shift.members else "and anyone else who is ") + _ranks(impact, shift.ranks))
    if shift.visitor:
        parts.append("and visitors" if parts else "visitors")
    said = ", ".join(parts)
    return said[:1].upper() + said[1:]


def _called(impact: Impact, key: str) -> str:
    member = impact.new.people.register.members.get(key) or impact.old.people.register.members[key]
    return member.called


def _ranks(impact: Impact, keys: Sequence[str]) -> str:
    """Say which ranks; where it is nearly all of them, which not."""
    known = {key: rank.title for compiled in reversed(_frames(impact)) for key, rank in compiled.charter.ranks.items()}
    rest = [title for key, title in known.items() if key not in keys]
    if len(keys) > 2 * _FEW and len(rest) < _FEW:
        return f"any rank but {listed(rest, 'or')}" if rest else "any rank"
    return listed((known[key] for key in keys), "or")


def _frames(impact: Impact) -> tuple[CompiledCharter, CompiledCharter]:
    return impact.new.compiled, impact.old.compiled


def _title(impact: Impact, key: str) -> str:
    if key == "none":
        return "someone without any rank"
    return next(
        (compiled.charter.ranks[key].title for compiled in _frames(impact) if key in compiled.charter.ranks), key
    )


def where_in_words(impact: Impact, keys: Sequence[str]) -> str:
    """Say where something differs."""
    everywhere = impact.new.compiled.place_at.keys()
    if len(everywhere) > 1 and everywhere <= set(keys):
        return "everywhere"
    places = {**impact.old.compiled.named, **impact.new.compiled.named}
    return in_places(places, keys, 2 * _FEW)


def power_lines(impact: Impact) -> list[tuple[bool, str]]:
    """Say which acts became possible, and which are no longer: by who acts, the act, whom and where.

    Between ranks where that says it; else member by member. The gravest acts stand first.
    """
    found: dict[tuple[str, bool, str, str], list[str]] = {}
    for power in impact.powers:
        found.setdefault((power.act, power.gains, power.actor, power.place), []).append(power.target)
    by_places: dict[tuple[str, bool, str, tuple[str, ...]], list[str]] = {}
    for (act, gains, actor, place), targets in found.items():
        by_places.setdefault((act, gains, actor, tuple(targets)), []).append(place)
    by_actors: dict[tuple[str, bool, tuple[str, ...], tuple[str, ...]], list[str]] = {}
    for (act, gains, actor, targets_of), places in by_places.items():
        by_actors.setdefault((act, gains, targets_of, tuple(places)), []).append(f"rank:{actor}")
    shifts = [
        ActShift(gains, act, (), tuple(actors), targets, places)
        for (act, gains, targets, places), actors in by_actors.items()
    ]
    # what ranks may do says what their holders may; who joins is told besides
    shifts += [act_shift for act_shift in impact.acts if not impact.powers or act_shift.act == "join"]
    shifts.sort(key=lambda shift: (not shift.gains, _ORDER.index(shift.act)))
    return [(shift.gains, _act_line(impact, shift)) for shift in shifts]


def _act_line(impact: Impact, shift: ActShift) -> str:
    register = {**impact.old.people.register.members, **impact.new.people.register.members}

    def called(key: str) -> str:
        if key.startswith("rank:"):
            return _title(impact, key[5:])
        return register[key].called

    actors = [*map(called, shift.actors)]
    known = list(impact.new.compiled.rank_at)
    ranks = sorted((key for key in shift.targets if key in known), key=known.index)
    targets = [_title(impact, key) for key in (*ranks, *(k for k in shift.targets if k not in known and k[0] != "@"))]
    targets += [register[key[1:]].called for key in shift.targets if key.startswith("@")]
    verb = f"may {'now' if shift.gains else 'no longer'} {_VERBS[shift.act]}"
    using = f" using {listed(shift.using, 'or')}" if shift.using else ""
    where = "" if shift.act in ("join", Act.MANAGE) else f" {where_in_words(impact, shift.places)}"
    said = f"{few(actors, 2 * _FEW)} {verb} {few(targets, 2 * _FEW)}{using}{where}"
    return said[:1].upper() + said[1:]


_ORDER = (Act.ASSIGN, Act.MANAGE, Act.MODERATE, "join", Act.CALL)
_VERBS = {Act.ASSIGN: "give", Act.MANAGE: "change", Act.MODERATE: "moderate", "join": "join", Act.CALL: "call on"}


def impact_table(impact: Impact) -> Table:
    """Return an impact as a table."""
    data = {
        "answers": impact.answers,
        "members": sorted(impact.members),
        "shifts": [
            {**shift._asdict(), "since": impact.day(shift.since), "until": impact.day(shift.until)}
            for shift in impact.shifts
        ],
        "powers": [power._asdict() for power in impact.powers],
        "acts": [act._asdict() for act in impact.acts],
        "may_differ": list(impact.may_differ),
        "expectations": [
            {
                "expectation": turned.text,
                "holds": turned.holds,
                "from": impact.day(turned.since),
                "because": turned.unmet.because,
            }
            for turned in impact.turned
        ],
    }
    return Table(COLUMNS, impact.rows(), data)
