"""What a change does, on the screen: who gains and who loses, the riskiest first."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, TypeAlias

from ask_above.ask.impact.act_shifts import ActShift
from ask_above.ask.impact.whole import COLUMNS, Impact, Shift
from ask_above.charter.catalogue import RISKS
from ask_above.charter.moments import Instant
from ask_above.charter.names import few, how_many, listed, upper
from ask_above.charter.rules import Act
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.words import in_places, span, with_risk
from ask_above.show.data import Table
from ask_above.show.screen import Screen, at_most

if TYPE_CHECKING:
    from ask_above.workspace.plans import ByHand

_FEW = 4
_FEW_PLACES = 5
_MANY = 1_000
"""Of more members than these, those who are alike are asked about together."""
_MOST_GROUPS, _MOST_PARTS, _MOST_LINES, _MOST_SAID = 4, 6, 5, 5
"""So many groups of members, sets of capabilities, lines of power and things that differ stand on the first screen."""


def show_impact(screen: Screen, impact: Impact) -> None:
    """Show who gains and loses what, capabilities first, then power over ranks, then expectations."""
    if not impact:
        screen.line("Nobody gains or loses anything.", "yes")
        return
    groups = by_who(impact)
    most = at_most(_MOST_GROUPS)
    for n, ((who, gains, when), parts) in enumerate(groups[:most]):
        if n:
            screen.line()
        _group(screen, impact, f"{who} {'gain' if gains else 'lose'}", when, parts)
    if len(groups) > most:
        screen.line()
        screen.line(f"and {len(groups) - most} more (--full)", "dim")
    lines = power_lines(impact)
    if lines:
        screen.line("Power over ranks", "head")
        for gains, line in screen.some(lines, _MOST_LINES, "  "):
            sign = "+" if gains else "−"
            screen.paragraph(f"{sign} {line}", first="  ", rest="    ", style="yes" if gains else "no")
    if impact.turned:
        screen.line("Expectations", "head")
        for turned in impact.turned:
            when = span(impact.day(turned.since), "")
            mark, said = ("✓", f"met{when}") if turned.holds else ("✗", f"not met{when}: {turned.unmet.because}")
            screen.paragraph(
                f"{mark} {turned.text}: {said}", first="  ", rest="    ", style="yes" if turned.holds else "no"
            )
    if not (impact.shifts or lines or impact.turned):
        screen.line("Nobody gains or loses a capability.", "head")
        for sentence in impact.may_differ:
            screen.paragraph(f"? {sentence}", rest="  ", style="dim")
    elif impact.not_compared:
        screen.paragraph(f"? {impact.not_compared}", rest="  ", style="dim")


_Parts: TypeAlias = "dict[tuple[str, ...], list[str]]"
"""Capabilities by the places they are for."""


def by_who(impact: Impact) -> list[tuple[tuple[str, bool, str], _Parts]]:
    """Return what is gained and lost, by who, whether it is gained, and when."""
    groups: dict[tuple[str, bool, str], _Parts] = {}
    for shift in impact.shifts:
        who = who_in_words(impact, shift)
        parts = groups.setdefault((who, shift.gains, when_in_words(impact, shift)), {})
        parts.setdefault(shift.places, []).extend(shift.capabilities)
    return list(groups.items())


def _group(screen: Screen, impact: Impact, head: str, when: str, parts: _Parts) -> None:
    gains = head.endswith("gain")
    names = {name for each in parts.values() for name in each}
    spots = {place for places in parts for place in places}
    many = f"{how_many(len(names), 'capability', 'capabilities')} in {how_many(len(spots), 'place')}"
    risky = any(_risk(impact, name) == "high" for name in names)
    verb = "" if _is_plural(head.rpartition(" ")[0]) else "s"
    style = "no" if not gains else "warn" if risky else "yes"
    screen.paragraph(f"{head}{verb} {many}{when}", rest="  ", style="head")
    lines = sorted(parts.items(), key=lambda part: -max(RISKS.index(_risk(impact, name)) for name in part[1]))
    most = at_most(_MOST_PARTS)
    for places, shifts in lines[:most]:
        order = {name: -RISKS.index(_risk(impact, name)) for name in shifts}
        said = ", ".join(with_risk(name, _risk(impact, name)) for name in sorted(shifts, key=lambda name: order[name]))
        where = where_in_words(impact, places) if len(places) <= at_most(_FEW_PLACES) else _many(impact, places)
        screen.paragraph(f"{said} {where}", first=f"  {'+' if gains else '−'} ", rest="    ", style=style)
    if len(lines) > most:
        left = {name for _, shifts in lines[most:] for name in shifts}
        screen.line(f"    and {how_many(len(left), 'capability', 'capabilities')} more (--full)", "dim")


def _is_plural(head: str) -> bool:
    return (
        " and visitors" in head
        or " and " in head.split(" except ", maxsplit=1)[0]
        or bool(re.match(r"\d+ members", head))
        or head.startswith("Visitors")
    )


def _many(impact: Impact, places: Sequence[str]) -> str:
    known = impact.new.compiled.place_at
    return "everywhere" if len(known) > 1 and known.keys() <= set(places) else f"in {len(places):,} places"


def _risk(impact: Impact, name: str) -> str:
    known = impact.new.compiled.catalogue.capabilities.get(name) or impact.old.compiled.catalogue.capabilities[name]
    return known.risk


def show_by_hand(screen: Screen, edited: ByHand) -> None:
    """Show what was edited by hand since the last change, and who gained and lost by it."""
    screen.line()
    screen.paragraph(f"Edited by hand since the last change, in {listed(edited.files)}:", style="head")
    for sentence in screen.some(edited.what, _MOST_SAID, "  "):
        screen.paragraph(sentence, first="  ", rest="    ")
    screen.line()
    show_impact(screen, edited.effect)


def by_hand_table(edited: ByHand | None) -> Table:
    """Return what was edited by hand as a table of its effect; JSON names the files and what differs too."""
    if edited is None:
        return Table(COLUMNS, (), {"files": [], "what": []})
    table = impact_table(edited.effect)
    return table._replace(data={"files": edited.files, "what": edited.what, **table.data})


def shift_in_words(impact: Impact, shift: Shift) -> tuple[str, str]:
    """Say who gains or loses what; and of which risk that is, where and when."""
    risk = {"high": "high risk, ", "medium": "medium risk, "}.get(shift.risk, "")
    who = who_in_words(impact, shift)
    verb = f"{'gain' if shift.gains else 'lose'}{'' if _is_plural(who) else 's'}"
    where = f"{risk}{where_in_words(impact, shift.places)}{when_in_words(impact, shift)}"
    return f"{who} {verb} {listed(shift.capabilities)}", where


def when_in_words(impact: Impact, shift: Shift | ActShift) -> str:
    """Say from when until when something differs; nothing where that is from now on."""
    when = span(impact.day(shift.since), impact.ends(shift.until))
    return f",{when}" if when else ""


def who_in_words(impact: Impact, shift: Shift) -> str:
    """Say who gains or loses: members by name where they are few, ranks by title, visitors."""
    parts = []
    count = len(shift.members)
    # members who all have one of the ranks are told by these: that is who they are
    if shift.ranks and _all_have_any(impact, shift.members, shift.ranks):
        parts.append(f"{_ranks(impact, shift.ranks)} ({how_many(count, 'member') if count else 'no member'})")
    elif shift.members:
        names = [_called(impact, key) for key in shift.members[: at_most(_FEW)]]
        parts.append(listed(names) if count == len(names) else f"{count:,} members ({', '.join(names[:3])} and others)")
        parts += [f"everyone with {_ranks(impact, shift.ranks)}"] if shift.ranks else []
    if shift.visitor:
        parts.append("visitors")
    said = listed(parts)
    return upper(said)


def _all_have_any(impact: Impact, keys: Sequence[str], ranks: Sequence[str]) -> bool:
    """Whether each of some members has one of some ranks, before or after; of very many those alike are asked once."""
    if len(keys) > _MANY:
        return set[str]().union(*(impact.recorded.get(rank, ()) for rank in ranks)).issuperset(keys)
    for decider in (impact.new, impact.old):
        decider.people.register.read(keys)
    return all(any(_has_any(decider, key, ranks, impact.at) for decider in (impact.new, impact.old)) for key in keys)


def _has_any(decider: Decider, key: str, ranks: Sequence[str], at: Instant) -> bool:
    if key not in decider.people.register.members:
        return False
    return any(decider.compiled.ranks[holding.rank].key in ranks for holding in decider.people.ask(key, at).recorded)


def _called(impact: Impact, key: str) -> str:
    member = impact.new.people.register.members.get(key) or impact.old.people.register.members[key]
    return member.called


def _ranks(impact: Impact, keys: Sequence[str]) -> str:
    """Say which ranks; where it is nearly all of them, which not."""
    known = {key: rank.called for compiled in reversed(_frames(impact)) for key, rank in compiled.charter.ranks.items()}
    rest = [title for key, title in known.items() if key not in keys]
    # twelve of fourteen ranks are read faster as all but two
    if len(keys) > 2 * _FEW and len(rest) < _FEW:
        return f"every rank except {listed(rest)}" if rest else "every rank"
    return listed(known[key] for key in keys)


def _frames(impact: Impact) -> tuple[CompiledCharter, CompiledCharter]:
    return impact.new.compiled, impact.old.compiled


def _title(impact: Impact, key: str) -> str:
    found = (compiled.charter.ranks[key].called for compiled in _frames(impact) if key in compiled.charter.ranks)
    return next(found, "someone without any rank")


def where_in_words(impact: Impact, keys: Sequence[str]) -> str:
    """Say where something differs."""
    everywhere = impact.new.compiled.place_at.keys()
    if len(everywhere) > 1 and everywhere <= set(keys):
        return "everywhere"
    places = {**impact.old.compiled.named, **impact.new.compiled.named}
    return in_places(places, keys, at_most(2 * _FEW))


def power_lines(impact: Impact) -> list[tuple[bool, str]]:
    """Say which acts became possible, and which are no longer: by who acts, the act, whom and where.

    Between ranks where that says it; else member by member. The gravest acts stand first.
    """
    by_act: dict[tuple[str, bool, str, str], list[str]] = {}
    for power in impact.powers:
        by_act.setdefault((power.act, power.gains, power.actor, power.place), []).append(power.target)
    by_places: dict[tuple[str, bool, str, tuple[str, ...]], list[str]] = {}
    for (act, gains, actor, place), targets in by_act.items():
        by_places.setdefault((act, gains, actor, tuple(targets)), []).append(place)
    by_actors: dict[tuple[str, bool, tuple[str, ...], tuple[str, ...]], list[str]] = {}
    for (act, gains, actor, ranks), places in by_places.items():
        by_actors.setdefault((act, gains, ranks, tuple(places)), []).append(f"rank:{actor}")
    shifts = [
        ActShift(gains, act, (), tuple(actors), targets, places)
        for (act, gains, targets, places), actors in by_actors.items()
    ]
    # what ranks may do says what their holders may; who joins is told besides
    shifts += [act_shift for act_shift in impact.acts if not impact.powers or act_shift.act == "join"]
    # what became possible stands before what is no longer
    shifts.sort(key=lambda shift: (not shift.gains, _ORDER.index(shift.act)))
    return [(shift.gains, _act_line(impact, shift)) for shift in shifts]


def _act_line(impact: Impact, shift: ActShift) -> str:
    who = few(
        shift.actors,
        at_most(2 * _FEW),
        called=lambda key: _title(impact, key[5:]) if key.startswith("rank:") else _called(impact, key),
    )
    known = list(impact.new.compiled.rank_at)
    ranks = sorted((key for key in shift.targets if key in known), key=known.index)
    targets = [_title(impact, key) for key in (*ranks, *(k for k in shift.targets if k not in known and k[0] != "@"))]
    targets += [_called(impact, key[1:]) for key in shift.targets if key.startswith("@")]
    now = "no longer " if not shift.gains else "" if shift.since else "now "
    using = f" using {listed(shift.using, 'or')}" if shift.using else ""
    short = len(shift.places) > at_most(_FEW_PLACES)
    places = _many(impact, shift.places) if short else where_in_words(impact, shift.places)
    where = "" if shift.act in ("join", Act.MANAGE) else f" {places}"
    whom = few(targets, at_most(2 * _FEW))
    return upper(f"{who} may {now}{_VERBS[shift.act]} {whom}{using}{where}{when_in_words(impact, shift)}")


_ORDER = (Act.ASSIGN, Act.MANAGE, Act.MODERATE, "join", Act.CALL)
_VERBS = {Act.ASSIGN: "assign", Act.MANAGE: "manage", Act.MODERATE: "moderate", "join": "join", Act.CALL: "call"}


def impact_table(impact: Impact) -> Table:
    """Return an impact as a table."""
    data = {
        "answers": impact.answers,
        "members": sorted(impact.members),
        "shifts": [
            shift._asdict()
            | {"members": [*shift.members], "since": impact.day(shift.since), "until": impact.ends(shift.until)}
            for shift in impact.shifts
        ],
        "powers": [power._asdict() for power in impact.powers],
        "acts": [
            act._asdict() | {"since": impact.day(act.since), "until": impact.ends(act.until)} for act in impact.acts
        ],
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
