"""The whole arrangement on one page, to be read in an hour and put on paper: HTML, or Markdown for a wiki."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from ask_above.ask.advice.piece import Piece
from ask_above.ask.cover import closed_places
from ask_above.ask.describe.describer import Describer
from ask_above.ask.page_answers import power_data
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.names import SITE, few, listed, upper
from ask_above.charter.rules import Act
from ask_above.community import Community
from ask_above.decide.profile import How
from ask_above.decide.words import ending, minute
from ask_above.errors import QuestionError
from ask_above.escalation.paths import rows as climb_rows
from ask_above.people.register import Member
from ask_above.show.first_look import high_risk_rows, needs_a_look, sentences
from ask_above.show.grid import ANYHOW, AT_A_PLACE, BESIDES, LEGEND, NO, TAKEN, YES
from ask_above.show.page import (
    BUDGET,
    PARTS,
    as_seen,
    card,
    carried_rows,
    in_classes,
    page_data,
    policy_hash,
    readable,
    shifts_since,
)
from ask_above.visible import in_markdown, visible

if TYPE_CHECKING:
    from ask_above.ask.expect import Unmet
    from ask_above.charter.moments import Instant
    from ask_above.store.entries import Entry

ACTS = (
    (Act.MODERATE, "Who may moderate which rank"),
    (Act.ASSIGN, "Who may assign which rank"),
    (Act.MANAGE, "Who may manage which rank"),
)
FORMS = ("html", "md")
_LAST = 20
_FEW_ENTER = 12


def report(
    community: Community,
    form: str,
    *,
    members: bool = True,
    viewer: str | None = None,
    since: Community | None = None,
    since_said: str = "then",
    entries: Sequence[Entry] = (),
    made: str = "",
    told: Callable[[int, int], None] | None = None,
    budget: int = BUDGET,
) -> str:
    """Return the report as ``html`` or ``md``; without ``members`` nobody is named in it.

    ``viewer`` is the member whom it is made for: those whose names they may not see stand there by key. ``since`` is
    the community as it was, ``since_said`` what that is called. ``made`` says when; ``told`` is called now and then
    with how much is done, and of how much. Where the page would be larger than ``budget`` bytes, it answers for ranks
    alone, then for fewer places. Raises :class:`QuestionError` for another form.
    """
    if form not in FORMS:
        raise QuestionError(f"'{form}' is none of the forms {listed(FORMS, 'or')}.")
    from jinja2 import Environment, PackageLoader

    loader = PackageLoader("ask_above.show")
    environment = Environment(
        loader=loader,
        autoescape=form == "html",  # noqa: S701 (in Markdown no tag is let through, below)
        finalize=_shown if form == "html" else _in_markdown,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    seen, before, entries = as_seen(community, viewer, since, entries)
    parts = contents(seen, members=members, entries=entries) | {"made": made}
    parts["viewer"] = seen.member(viewer).called if viewer else ""
    parts["since_said"] = since_said
    parts["since"] = shifts_since(before, seen, members=members) if before else None
    if form != "html":  # in a wiki there is nothing to ask with
        return environment.get_template(f"report.{form}").render(**parts)
    parts["figures"] = figures_of(seen)
    parts["colors"] = [*dict.fromkeys(rank.color for rank in seen.charter.ranks.values() if rank.color)]
    css = environment.get_template("report.css").render(**parts)
    js, _, _ = loader.get_source(environment, "report.js")
    parts |= {"css": css, "js": js, "css_hash": policy_hash(css), "js_hash": policy_hash(js)}
    page = environment.get_template("report.html")
    for left_out, part in enumerate(PARTS):
        answers = None
        if members or not part["members"]:
            answers = page_data(seen, **part, told=told, most=None if part is PARTS[-1] else budget)
        if answers is not None:
            data = readable(answers | {"powers": parts["power_data"]})
            text = page.render(data=data, left_out=left_out if members else left_out - 1, **parts)
            if len(text.encode()) <= budget:
                break
    return text


def _shown(text: object) -> object:
    """Return a text with what is no plain text written out; what the template itself says stays as it is."""
    return visible(text, breaks=True) if type(text) is str else text


def _in_markdown(text: object) -> object:
    """Return a text that stays text in a wiki: no link, no picture, no tag, no cell of its own."""
    return in_markdown(text) if isinstance(text, str) and text.strip() else text


def contents(community: Community, *, members: bool, entries: Sequence[Entry] = ()) -> dict[str, Any]:
    """Return what the report holds, as plain data."""
    charter, at = community.charter, community.names.moment()
    describer = Describer(community.decider, at, members=members)
    people = community.register.members if members else {}
    pieces, powers = community.advice().pieces, power_data(community.decider, at)
    return {
        "title": charter.title,
        "members": members,
        "counts": _counts(community),
        "summary": sentences(community, members=members),
        "looks": needs_a_look(community, pieces, members=members),
        "high_risk": high_risk_rows(community, members=members),
        "ladder": [{**card(describer, rank), "prose": _prose(describer, rank)} for rank in charter.ranks.values()],
        "ranks": [(rank.key, rank.called) for rank in charter.ranks.values()],
        "grid": carried_rows(community.decider),
        "legend": [(mark, LEGEND[mark]) for mark in (YES, BESIDES, ANYHOW, TAKEN, NO)],
        "legend_at": list(AT_A_PLACE.items()),
        "powers": [(act, title, _powers(powers, act)) for act, title in ACTS],
        "power_data": powers,
        "places": _places(describer),
        "closed": _closed(community, at, members=members),
        "people": [_member(community, key, at) for key in people],
        "cover": _cover(community) if members else None,
        "advice": _advice(pieces, members=members),
        "climbs": [_climb(community, row) for row in climb_rows(community.decider)],
        "expectations": _expectations(community, members=members),
        "entries": _changes(entries, people, community.charter) if members else [],
        "zone": charter.rules.timezone,
    }


def _prose(describer: Describer, rank: Rank) -> list[str]:
    return list(describer.rank(rank).sentences)


def figures_of(community: Community) -> dict[str, str]:
    """Return the pictures of the report as SVG elements: the ladder, and who may moderate whom."""
    from ask_above.show import figures
    from ask_above.show.figures.files import as_svg
    from ask_above.show.figures.lettering import DARK, LIGHT

    rules: dict[str, str] = {}
    return {
        "ladder": in_classes(as_svg(figures.ladder(community), "f1"), rules),
        "powers": in_classes(as_svg(figures.powers(community), "f2"), rules),
        "rules": "\n".join(f".{name} {{ {style} }}" for style, name in rules.items()),
        "light": "; ".join(f"--figure-{ink}: {color}" for ink, color in LIGHT.items()),
        "dark": "; ".join(f"--figure-{ink}: {color}" for ink, color in DARK.items()),
    }


def _closed(community: Community, at: Instant, *, members: bool) -> list[dict[str, Any]]:
    """Return the closed rooms, what each asks for, and who can enter."""
    places, known = community.decider.compiled.named, community.register.members
    rooms = []
    for place in closed_places(community.decider, at):
        who = few([known[key].called for key in place.members], _FEW_ENTER) if members else ""
        title, many = places[place.place].called, len(place.members)
        rooms.append({"key": place.place, "title": title, "asks": place.asks, "count": many, "who": who})
    return rooms


def _climb(community: Community, row: tuple[Any, ...]) -> dict[str, Any]:
    key, free, high, medium, low, names = row
    counts = {"high": high, "medium": medium, "low": low}
    return {"title": community.charter.ranks[key].called, "free": free, **counts, "names": names.split()}


def _advice(pieces: Sequence[Piece], *, members: bool) -> list[dict[str, Any]]:
    """Return the advice by what it is about: why it matters stands once for all of a kind."""
    by_kind: dict[str, dict[str, Any]] = {}
    for piece in pieces:
        if members or not any(key.startswith("@") for key in piece.concerned):
            kind = by_kind.setdefault(piece.code, {"code": piece.code, "why": piece.why, "pieces": []})
            what = upper(piece.what)
            kind["pieces"].append({"what": what, "mend": piece.mend, "where": str(piece.where)})
    return list(by_kind.values())


def _changes(entries: Sequence[Entry], people: Mapping[str, Member], charter: Charter) -> list[dict[str, Any]]:
    return [
        {
            "number": entry.number,
            "at": f"{minute(entry.at, charter.zone)} ({charter.rules.timezone})",
            "who": people[entry.who].called if entry.who in people else "",
            "what": entry.what,
            "why": entry.why,
        }
        for entry in list(reversed(entries))[:_LAST]
    ]


def _counts(community: Community) -> dict[str, Any]:
    charter, register = community.charter, community.register
    statuses: dict[str, int] = {}
    for member in register.members.values():
        statuses[member.status] = statuses.get(member.status, 0) + 1
    owner = register.members.get(charter.owner or "")
    return {
        "ranks": len(charter.ranks),
        "capabilities": len(charter.catalogue.keys),
        "places": len(charter.places),
        "groups": len(charter.groups),
        "statuses": statuses,
        "owner": owner.called if owner else charter.owner or "",
    }


def _powers(powers: dict[str, Any], act: Act) -> list[dict[str, Any]]:
    """Return, rank by rank, on whom it acts."""
    titles = [title for title, _ in powers["ranks"]]
    able = [number < 0 for number in powers["acts"][act]]
    return [{"title": title, "cells": able[n * len(titles) :][: len(titles)]} for n, title in enumerate(titles)]


def _places(describer: Describer) -> list[dict[str, Any]]:
    """Return each place with what is said of it and not of the place above."""
    compiled = describer.compiled
    sentences = {place.key: describer.place(place).sentences for place in compiled.places}
    return [
        {
            "key": place.key,
            "title": place.called,
            "kind": place.kind if place.key != SITE else "",
            "depth": len(chain) - 1,
            "sentences": [each for each in sentences[place.key] if each not in sentences.get(place.parent or "", ())],
            "differs": bool(place.overrides or place.exceptions or place.gate or place.like or place.about)
            or place.key == SITE,
        }
        for place, chain in zip(compiled.places, compiled.chains, strict=True)
    ]


def _member(community: Community, key: str, at: Instant) -> dict[str, Any]:
    asked = community.decider.people.ask(key, at)
    compiled, charter = community.decider.compiled, community.charter
    ranks = []
    for holding in asked.recorded:
        if holding.how != How.AUTOMATIC:
            place = compiled.places[holding.place]
            ends = ending(holding.assignment.period) if holding.assignment else ""
            where = f" in {place.called}" if holding.place else ""
            ranks.append(f"{compiled.ranks[holding.rank].called}{where}{ends}")
    member = community.register.members[key]
    groups = [charter.groups[group].called for group in member.groups if group in charter.groups]
    return {"key": key, "name": member.called, "status": member.status, "ranks": ranks, "groups": groups}


def _cover(community: Community) -> dict[str, Any]:
    cover = community.cover()
    table, places, members = cover.table(), community.decider.compiled.named, community.register.members
    rows = [
        {"title": places[str(place)].called, "counts": ["" if _is_none(n) else int(n) for n in row]}
        for place, row in zip(table.index, table.to_numpy(dtype=object), strict=True)
    ]
    alone = [
        {
            "capability": gap.capability,
            "place": places[gap.place].called,
            "only": members[gap.only].called if gap.only else "",
        }
        for gap in cover.gaps
    ]
    folded: dict[tuple[str, str], list[str]] = {}
    for gap in alone:
        folded.setdefault((gap["only"], gap["capability"]), []).append(gap["place"])
    said = [{"only": only, "capability": key, "places": few(spots, 8)} for (only, key), spots in folded.items()]
    return {"duties": [str(column) for column in table.columns], "rows": rows, "alone": said}


def _is_none(count: Any) -> bool:
    """Whether a count is none, as the duty has no meaning there."""
    import pandas as pd

    return bool(pd.isna(count))


def _why(unmet: Unmet) -> str:
    """Say why an expectation does not hold: where it asks one thing, with the reason of the answer."""
    return f"{unmet.because} {unmet.answers[0].reason}" if len(unmet.answers) == 1 else unmet.because


def _expectations(community: Community, *, members: bool) -> list[dict[str, Any]]:
    # who is meant by every and by no is told by name
    unmet = {
        each.expectation.text: _why(each) if members or each.expectation.subject.form not in ("every", "no") else ""
        for each in community.unmet()
    }
    return [
        {"text": expectation.text, "holds": expectation.text not in unmet, "because": unmet.get(expectation.text, "")}
        for expectation in community.charter.expectations
        if members or "@" not in expectation.text
    ]
