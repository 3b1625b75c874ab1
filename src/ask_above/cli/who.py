"""``ask-above who``."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date, datetime
from typing import Any

import click

from ask_above.charter.catalogue import RISKS
from ask_above.charter.names import RANK_MARK, SITE, few, upper
from ask_above.charter.rules import ACT_WORDS
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.question import What, perhaps_asked
from ask_above.cli.sentence import Spoken
from ask_above.community import Community
from ask_above.decide.words import in_place, in_places
from ask_above.show.data import Table
from ask_above.show.screen import Screen, at_most

_FEW = 6


@click.command("who", cls=Spoken, left_out=("may", "can", "is"))
@perhaps_asked
@click.option("--anywhere", is_flag=True, help="One row for each member and place.")
@click.option("--risk", type=click.Choice(RISKS), help="All capabilities of this risk, instead of WHAT.")
@click.option("--through", is_flag=True, help="Show through what each member may.")
@asking(when=True)
def command(what: What, asked: CommandQuestion, *, anywhere: bool, risk: str | None, through: bool) -> int:
    """List the members who may use a capability, or act on a target.

    WHAT is a capability, or an act on a TARGET: moderate (a member or rank:KEY), assign, unassign, manage, call (a
    rank). Without a place: who may on the whole site, and where else who may.

    \b
    Examples:
      ask-above who photo.upload --at photo-wall --through
      ask-above who place.see --at landowners --format csv
      ask-above who moderate tomas --at field
      ask-above who assign surveyor --to dara
      ask-above who --risk high
    """
    opened, moment = asked.opened, asked.when
    if anywhere and opened.place(what.at).key != SITE:
        raise click.UsageError("--anywhere and a place exclude each other. Give one of them.")
    if risk is not None or not what.name:
        return _of_risk(asked, what, risk, everywhere=anywhere)
    what.check(opened, "who")
    what = what.meant(opened)
    name, at = what.name, what.at
    frame = opened.who(name, what.target, when=moment, through=through, anywhere=anywhere, **what.rest)
    rows = [list(row) for row in frame.itertuples(index=False)]

    def show(screen: Screen) -> None:
        total, compiled = len(opened.register.members), opened.decider.compiled
        able = frame.member.nunique()
        place = opened.place(at).key
        where = "anywhere" if anywhere else in_place(compiled.named[place].called, site=place == SITE)
        said = said_act(opened, what) if name in ACT_WORDS else f"use {opened.names.capability(name)}"
        screen.line(f"{f'{able:,}' if able else 'None'} of {total:,} members may {said} {where}", "head")
        if rows:
            screen.line()
            _members(screen, opened, rows, through=through, anywhere=anywhere)
        # somebody who asks about the whole site rarely knows that a place may differ
        if not anywhere and place == SITE and name not in ACT_WORDS:
            _elsewhere(screen, opened, opened.names.capability(name), moment)

    return asked.answer(lambda: Table(list(frame.columns), rows), show)


def _members(
    screen: Screen, opened: Community, rows: Sequence[Sequence[Any]], *, through: bool, anywhere: bool
) -> None:
    compiled = opened.decider.compiled
    titles = {rank.key: rank.called for rank in compiled.ranks}
    shown = []
    for row in rows:
        ranks = ", ".join(titles.get(key, key) for key in str(row[3]).split(", ") if key)
        spot = [compiled.named[row[-1]].called if row[-1] != SITE else "the whole site"] if anywhere else []
        shown.append([opened.register.members[row[0]].called, row[0], *spot, row[4] if through else ranks])
    heads = ["Name", "Key", *(["Where"] if anywhere else []), "Through" if through else "Ranks"]
    screen.table(heads, shown)


def _elsewhere(screen: Screen, opened: Community, name: str, moment: date | datetime | None) -> None:
    """Say where else who may use a capability: those who may not on the whole site."""
    from ask_above.ask.anywhere import able_in

    members, places = opened.register.members, opened.decider.compiled.named
    spots = able_in(opened.decider, [name], opened.names.moment(moment), but_in=SITE)[name]
    if spots:
        screen.head("Elsewhere")
    for spot in spots:
        names = few(spot.members, at_most(_FEW), called=lambda key: members[key].called)
        screen.paragraph(f"{upper(in_places(places, spot.places, at_most(_FEW)))}: {names}.", first="  ", rest="    ")


def _of_risk(asked: CommandQuestion, what: What, risk: str | None, *, everywhere: bool) -> int:
    """Show who may use the capabilities of a risk: at the place that is named, or anywhere."""
    from ask_above.ask.anywhere import able_in

    if risk is None or what.name:
        raise click.UsageError("Say what: ask-above who CAPABILITY, or ask-above who --risk high.")
    opened = asked.opened
    catalogue, members = opened.charter.catalogue.capabilities, opened.register.members
    names = [key for key, capability in catalogue.items() if capability.risk == risk]
    able = able_in(opened.decider, names, opened.names.moment(asked.when))
    here, places = opened.place(what.at).key, opened.decider.compiled.named
    if not everywhere and here != SITE:
        for name, spots in able.items():
            able[name] = [spot._replace(places=(here,)) for spot in spots if here in spot.places]

    def rows() -> Iterator[tuple[str, str, str, str]]:
        for name, spots in able.items():
            at = {place: spot.members for spot in spots for place in spot.places}
            for place in filter(at.__contains__, places):
                yield from ((name, key, members[key].own_name, place) for key in at[place])

    def show(screen: Screen) -> None:
        if not names:
            screen.line(f"No capability is of {risk} risk.")
            return
        screen.line(f"Capabilities of {risk} risk{'' if here == SITE else f' in {places[here].called}'}", "head")
        for name in names:
            screen.line()
            screen.paragraph(f"{name}: {catalogue[name].about or name}", rest="  ", style="head")
            for where, keys in able[name]:
                people = few(keys, at_most(_FEW), called=lambda key: members[key].called)
                screen.paragraph(
                    f"{upper(in_places(places, where, at_most(_FEW)))}: {people}.", first="  ", rest="    "
                )
            if not able[name]:
                screen.line("  nobody", "dim")

    return asked.answer(lambda: Table(("capability", "member", "name", "place"), rows()), show)


def said_act(community: Community, what: What) -> str:
    """Say an act in words, with the titles that people know."""
    name = (what.target or "").removeprefix(RANK_MARK)
    titles = {key: rank.called for key, rank in community.charter.ranks.items()}
    titles |= {key: member.called for key, member in community.register.members.items()}
    said = f"{what.name} {titles.get(name, name)}"
    for word, other in (("to", what.to), ("of", what.of)):
        said += f" {word} {titles.get(other, other)}" if other else ""
    return said + (f" using {what.using}" if what.using else "")
