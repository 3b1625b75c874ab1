"""What somebody who opens the report needs first: what the site is, and what needs a look now."""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence
from typing import Any, NamedTuple
from urllib.parse import urlencode

from ask_above.ask.advice.piece import Piece
from ask_above.ask.anywhere import high_risk_holders
from ask_above.ask.cover import Gap
from ask_above.charter.expectations import Expectation
from ask_above.charter.names import SITE, few, how_many, listed, upper
from ask_above.community import Community
from ask_above.decide.decider import VISITOR
from ask_above.decide.words import day
from ask_above.people.register import Status
from ask_above.show.check import all_met, by_kind

_MOST_ADVICE, _MOST_EACH, _FEW = 4, 4, 4


class Look(NamedTuple):
    """One thing that needs a look: its sign, how grave it is (``no``, ``warn``, ``yes``), what, and where it stands.

    ``ask`` is the address in the page at which one sees it; empty where nothing can be asked about it.
    """

    sign: str
    tone: str
    what: str
    where: str
    ask: str = ""


def _asking(who: str = "", place: str = "", capability: str = "") -> str:
    """Return the address of a question to the page."""
    said = {"as": who, "at": "" if place == SITE else place, "may": capability}
    return urlencode({name: value for name, value in said.items() if value})


def sentences(community: Community, *, members: bool) -> list[str]:
    """Say in two sentences what a site is and who owns it."""
    charter, register = community.charter, community.register
    active = sum(member.is_active for member in register.members.values())
    waiting = sum(member.status == Status.PENDING for member in register.members.values())
    kinds = sorted({place.kind for place in charter.places.values() if place.parent is not None})
    there = f"{how_many(len(charter.places) - 1, 'place')}" + (f" ({', '.join(kinds)})" if kinds else "")
    people = f", and {how_many(active, 'active member')}" if register.members else ""
    wait = f"; {waiting:,} {'is' if waiting == 1 else 'are'} pending" if waiting else ""
    first = f"{charter.title} has {there}, {how_many(len(charter.ranks), 'rank')}{people}{wait}."
    top = [rank for rank in charter.ranks.values() if rank.unbounded]
    free = listed([rank.called for rank in top])
    owner = register.members.get(charter.owner or "")
    owns = f"The owner is {owner.called}" if owner and members else ""
    does = f"{free} {'are' if top[1:] else 'is'} unbounded" if top else "no rank is unbounded"
    second = f"{owns}; {does}." if owns else f"{upper(does)}."
    return [first, second]


def needs_a_look(community: Community, pieces: Sequence[Piece], *, members: bool) -> list[Look]:
    """Return what needs a look now, the gravest first: few enough for one screen."""
    return [
        *_expectations(community, members=members),
        *_high_risk(community, members=members),
        *(_hanging(community) if members else ()),
        *_advice(pieces, community.charter.ranks, members=members),
    ]


def _expectations(community: Community, *, members: bool) -> Iterator[Look]:
    # of whom a page without members says nothing it does not say that all is well either
    shown = [each for each in community.charter.expectations if members or "@" not in each.text]
    unmet = [broken for broken in community.unmet() if broken.expectation in shown]
    for broken in unmet[:_MOST_EACH]:
        yield Look("✗", "no", f"Not met: {broken.expectation.text}", "expectations", _about(broken.expectation))
    if len(unmet) > _MOST_EACH:
        yield Look("✗", "no", f"and {len(unmet) - _MOST_EACH} more not met", "expectations")
    for since, broken in community.unmet_later()[:2]:
        if broken.expectation in shown:
            yield Look("▲", "warn", f"Not met from {day(since)}: {broken.expectation.text}", "expectations")
    if not unmet and shown:
        yield Look("✓", "yes", all_met(len(shown)), "expectations")


def _about(expectation: Expectation) -> str:
    subject = expectation.subject
    who = {"rank": f"rank:{subject.key}", "member": subject.key, "visitor": VISITOR}.get(subject.form, "")
    return _asking(who or "", expectation.place, expectation.capability or "")


def _high_risk(community: Community, *, members: bool) -> Iterator[Look]:
    holders = high_risk_holders(community.decider, community.names.moment())
    able = {key for keys in holders.values() for key in keys}
    most = max(holders, key=lambda capability: len(holders[capability]), default="")
    if not able:
        return
    known = community.register.members
    names = f": {few([known[key].called for key in known if key in able], _FEW + 1)}" if members else ""
    said = "One member" if len(able) == 1 else f"{len(able):,} members"
    yield Look("!", "warn", f"{said} may use a high-risk capability{names}", "high-risk", _asking(capability=most))


def _hanging(community: Community) -> Iterator[Look]:
    cover, places, known = community.cover(), community.decider.compiled.named, community.register.members
    alone: dict[str | None, list[Gap]] = {}
    for gap in cover.gaps:
        alone.setdefault(gap.only, []).append(gap)
    gaps = alone.pop(None, [])
    for only, found in [*([(None, gaps)] if gaps else []), *list(alone.items())[:_MOST_EACH]]:
        titles = few([*dict.fromkeys(places[gap.place].called for gap in found)], _FEW)
        who = f"Only {known[only].called} covers" if only else "Nobody covers"
        ask = _asking(only or "", found[0].place, found[0].capability)
        yield Look("▲", "warn", f"{who} a duty in {titles}", "cover", ask)
    if cover.duties and not cover.gaps:
        yield Look("✓", "yes", "At least two members cover every duty", "cover")


def _advice(pieces: Sequence[Piece], ranks: Container[str], *, members: bool) -> Iterator[Look]:
    told = [piece for piece in pieces if members or not any(key.startswith("@") for key in piece.concerned)]
    kinds = by_kind(told)
    for code, alike in list(kinds.items())[:_MOST_ADVICE]:
        what, more = alike[0].what, len(alike) - 1
        also = f" (and {more} more like it)" if more else ""
        about = alike[0].concerned
        known = [f"rank:{key}" for key in about if key in ranks] + [key[1:] for key in about if key.startswith("@")]
        yield Look("▲", "warn", f"{upper(what)}{also}", f"advice-{code}", _asking(known[0]) if known else "")
    if len(kinds) > _MOST_ADVICE:
        yield Look(
            "▲", "quiet", f"and {how_many(len(kinds) - _MOST_ADVICE, 'more kind', 'more kinds')} of advice", "advice"
        )


def high_risk_rows(community: Community, *, members: bool) -> list[dict[str, Any]]:
    """Return what is of high risk, what it means, and who can do it somewhere."""
    known, catalogue = community.register.members, community.charter.catalogue
    rows = []
    for key, holders in high_risk_holders(community.decider, community.names.moment()).items():
        who = few([known[holder].called for holder in holders], 8) if members else ""
        rows.append({"key": key, "about": catalogue.capabilities[key].about, "count": len(holders), "who": who})
    return rows
