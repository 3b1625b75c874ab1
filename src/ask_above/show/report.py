"""The whole arrangement on one page, to be read in an hour and put on paper: HTML, or Markdown for a wiki."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from ask_above.ask.describe.describer import Describer
from ask_above.ask.tables import power_cells
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.names import SITE
from ask_above.charter.places import Place
from ask_above.community import Community
from ask_above.escalation.overview import rows as climb_rows
from ask_above.people.register import Member
from ask_above.show.cells import CODES, carried_rows, layers
from ask_above.show.grid import AT_A_PLACE, BESIDES, LEGEND, NO, TAKEN, YES
from ask_above.show.plans import local
from ask_above.visible import in_markdown, visible

if TYPE_CHECKING:
    from ask_above.charter.moments import Instant
    from ask_above.store.entries import Entry

ACTS = (
    ("moderate", "Who may moderate whom"),
    ("assign", "Who may give which rank"),
    ("manage", "Who may change which rank"),
)
_LAST = 20


def report(
    community: Community,
    form: str,
    *,
    members: bool = True,
    entries: Sequence[Entry] = (),
    made: str = "",
    told: Callable[[int, int], None] | None = None,
) -> str:
    """Return the report as ``html`` or ``md``; without ``members`` nobody is named in it.

    ``made`` says when; ``told`` is called now and then with how much is done, and of how much.
    """
    from jinja2 import Environment, PackageLoader

    environment = Environment(
        loader=PackageLoader("ask_above.show"),
        autoescape=form == "html",  # noqa: S701 (in Markdown no tag is let through, below)
        finalize=_shown if form == "html" else _in_markdown,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    found = contents(community, members=members, entries=entries)
    if form == "html":  # in a wiki there is nothing to choose a place with
        found["layers"] = layers(community.decider, told)
        found["signs"] = {letter: mark for mark, letter in CODES.items()}
    return environment.get_template(f"report.{form}").render(made=made, **found)


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
    return {
        "title": charter.title or charter.key,
        "members": members,
        "counts": _counts(community),
        "ladder": [_rank(describer, rank) for rank in charter.ranks.values()],
        "ranks": [(rank.key, rank.title) for rank in charter.ranks.values()],
        "grid": carried_rows(community.decider),
        "legend": [(mark, LEGEND[mark]) for mark in (YES, BESIDES, TAKEN, NO)],
        "legend_at": list(AT_A_PLACE.items()),
        "powers": [(act, title, _powers(community, act, at)) for act, title in ACTS],
        "places": [_place(describer, place) for place in charter.places.values()],
        "people": [_member(community, key, at) for key in people],
        "cover": _cover(community) if members else None,
        "advice": _advice(community, members=members),
        "climbs": [_climb(community, row) for row in climb_rows(community.decider)],
        "expectations": _expectations(community, members=members),
        "entries": _changes(entries, people, community.charter) if members else [],
    }


def _climb(community: Community, row: tuple[Any, ...]) -> dict[str, Any]:
    key, free, high, medium, low, names = row
    counts = {"high": high, "medium": medium, "low": low}
    return {"title": community.charter.ranks[key].title, "free": free, **counts, "names": names.split()}


def _advice(community: Community, *, members: bool) -> list[dict[str, str]]:
    return [
        {"what": each.what, "why": each.why, "mend": each.mend, "where": str(each.where)}
        for each in community.advice().pieces
        if members or not any(key.startswith("@") for key in each.concerned)
    ]


def _changes(entries: Sequence[Entry], people: Mapping[str, Member], charter: Charter) -> list[dict[str, Any]]:
    return [
        {
            "number": each.number,
            "at": f"{local(each.at, charter.zone)} ({charter.rules.timezone})",
            "who": people[each.who].called if each.who in people else "",
            "what": each.what,
            "why": each.why,
        }
        for each in list(reversed(entries))[:_LAST]
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


def _rank(describer: Describer, rank: Rank) -> dict[str, Any]:
    return {
        "key": rank.key,
        "title": rank.title,
        "color": rank.color or "",
        "holders": len(describer.holders[rank.key]),
        "sentences": describer.rank(rank).sentences,
    }


def _powers(community: Community, act: str, at: Instant) -> list[dict[str, Any]]:
    """Return, rank by rank, on whom it acts and why not."""
    ranks = community.charter.ranks
    rows: dict[str, dict[str, Any]] = {}
    for cell in power_cells(community.decider, act, 0, at):
        actor, target = ranks[cell.actor].title, ranks[cell.target].title
        why = "may" if cell.allowed else " ".join(step.text for step in cell.against)
        row = rows.setdefault(cell.actor, {"title": actor, "cells": []})
        row["cells"].append({"may": cell.allowed, "why": f"{actor}, {target}: {why}"})
    return list(rows.values())


def _place(describer: Describer, place: Place) -> dict[str, Any]:
    compiled = describer.compiled
    return {
        "key": place.key,
        "title": place.title or place.key,
        "kind": place.kind if place.key != SITE else "",
        "depth": len(compiled.chains[compiled.place_at[place.key]]) - 1,
        "sentences": describer.place(place).sentences,
    }


def _member(community: Community, key: str, at: Instant) -> dict[str, Any]:
    asked = community.decider.people.ask(key, at)
    compiled, charter = community.decider.compiled, community.charter
    ranks = []
    for each in asked.recorded:
        if each.how != "automatic":
            place = compiled.places[each.place]
            until = each.assignment.period.said_until if each.assignment else ""
            where = f" in {place.title or place.key}" if each.place else ""
            ranks.append(f"{compiled.ranks[each.rank].title}{where}{f' until {until}' if until else ''}")
    member = community.register.members[key]
    groups = [charter.groups[group].title or group for group in member.groups if group in charter.groups]
    return {"key": key, "name": member.called, "status": member.status, "ranks": ranks, "groups": groups}


def _cover(community: Community) -> dict[str, Any]:
    cover = community.cover()
    table, places, members = cover.table(), community.charter.places, community.register.members
    rows = [
        {"title": places[str(place)].title or place, "counts": ["" if _is_none(n) else int(n) for n in row]}
        for place, row in zip(table.index, table.to_numpy(dtype=object), strict=True)
    ]
    alone = [
        {
            "capability": gap.capability,
            "place": places[gap.place].title or gap.place,
            "only": members[gap.only].called if gap.only else "",
        }
        for gap in cover.gaps
    ]
    return {"duties": [str(each) for each in table.columns], "rows": rows, "alone": alone}


def _is_none(count: Any) -> bool:
    """Tell whether a count is none, as the duty has no meaning there."""
    import pandas as pd

    return bool(pd.isna(count))


def _expectations(community: Community, *, members: bool) -> list[dict[str, Any]]:
    # who is meant by every and by no is told by name
    unmet = {
        each.expectation.text: each.because if members or each.expectation.subject.form not in ("every", "no") else ""
        for each in community.unmet()
    }
    return [
        {"text": each.text, "holds": each.text not in unmet, "because": unmet.get(each.text, "")}
        for each in community.charter.expectations
        if members or "@" not in each.text
    ]
