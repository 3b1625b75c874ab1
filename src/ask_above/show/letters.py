"""Messages to those whom a change concerns: standard e-mail files, in the words of a template."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from email.errors import HeaderParseError
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP, SMTPUTF8
from email.utils import format_datetime
from string import Template
from typing import TYPE_CHECKING

from ask_above.ask.describe.claims import doing, under_headings
from ask_above.ask.describe.describer import Describer
from ask_above.ask.impact.whole import Shift
from ask_above.change.draft import EditError
from ask_above.change.people import good_address
from ask_above.charter.names import SITE, upper
from ask_above.decide.words import day, in_place, in_places
from ask_above.people.register import Member
from ask_above.show.impact import when_in_words
from ask_above.visible import has_unseen, visible

if TYPE_CHECKING:
    from ask_above.change.draft import RowChange
    from ask_above.workspace.plans import Plan

TEMPLATE = "letter.txt"
"""The file in the community's folder that says how letters read; ``$name``, ``$site``, ``$news``, ``$reason``."""

DEFAULT = """Dear $name,

something has changed for you at $site.

$news
$reason
"""

INVITING = """Dear $name,

$news
$reason
"""

Letters = list[tuple[str, str]]
"""Pairs of a file's name and its text."""


def letters(plan: Plan) -> Letters:
    """Return a letter to each member who gains or loses something and can be reached."""
    by_member: dict[str, list[Shift]] = {}
    for shift in plan.effect.shifts:
        for key in shift.members:
            by_member.setdefault(key, []).append(shift)
    for turned in plan.perks:
        for key in turned.members:
            by_member.setdefault(key, [])
    members = plan.after.register.members
    written = []
    before, after = (Describer(names.decider, plan.at, members=False) for names in (plan.before, plan.after))
    for key, shifts in by_member.items():
        if key in members and members[key].email:
            news = "\n".join(map(visible, _news(plan, (before, after), shifts, key)))
            written.append(_letter(plan, key, f"Your ranks at {_site(plan)} have changed", news))
    return written


def invitation(plan: Plan, key: str, message: str) -> Letters:
    """Return the letter that invites someone, with a message."""
    member = plan.after.register.members[key]
    if not member.email:
        return []
    inviting = visible(plan.before.member(plan.by).called) if plan.by else ""
    first = f"{inviting} invites you to join {_site(plan)}." if inviting else f"You are invited to join {_site(plan)}."
    ranks = "\n".join(map(visible, _ranks(plan, key, "You will have the rank")))
    parts = (first, ranks, visible(message, breaks=True))
    news = "\n\n".join(part for part in parts if part).strip()
    return [_letter(plan, key, f"An invitation to {_site(plan)}", news, INVITING)]


def _news(plan: Plan, describers: tuple[Describer, Describer], shifts: Sequence[Shift], key: str) -> Iterable[str]:
    """Yield what someone may do now, and what is over, in sentences; until when; and on whom they act now.

    The describers are of what was before and of what is after.
    """
    compiled = plan.after.decider.compiled
    yield from _ranks(plan, key, "You have the rank")
    for gains, beginning in ((True, "You may now"), (False, "You may no longer")):
        mine = [shift for shift in shifts if shift.gains is gains]
        for shift in mine:
            source = compiled if gains else plan.before.decider.compiled
            known = [capability for capability in shift.capabilities if capability in source.catalogue.bit]
            things = [_yours(doing(source, each)) for group in under_headings(source, known).values() for each in group]
            where = in_places(source.named, shift.places, len(shift.places))
            yield f"{beginning}, {where}{when_in_words(plan.effect, shift)}: {'; '.join(things)}."
    for turned in plan.perks:
        if key in turned.members:
            yield f"{turned}."
    yield from _acts(plan, describers, key)


def _ranks(plan: Plan, key: str, now: str) -> Iterable[str]:
    """Say which ranks somebody is given, where and until when, and which are taken from them."""
    for row in plan.rows_of_news:
        cells = row.after or row.before or {}
        if row.table != "assignments" or cells.get("member") != key:
            continue
        side = plan.after if row.after else plan.before
        place = cells.get("place") or SITE
        where = in_place(side.decider.compiled.named[place].title, site=place == SITE)
        word = "until" if "T" in cells.get("until", "") else "through"
        ends = f" {word} {day(cells['until'])}" if row.after and cells.get("until") else ""
        said = now if row.after else "You no longer have the rank"
        yield f"{said} {side.charter.ranks[cells['rank']].title} {where}{ends}."


def _yours(thing: str) -> str:
    """Say to somebody what they can do: own things are theirs."""
    return thing.replace(" own ", " your own ").replace("themselves", "yourself")


def _acts(plan: Plan, describers: tuple[Describer, Describer], key: str) -> Iterable[str]:
    """Say on whom someone acts now, where they were given a rank and it was not so before."""
    places = (row.after.get("place") or SITE for row in plan.rows_of_news if _gives(row, key) and row.after)
    for place in dict.fromkeys(places):
        was, now = (_acts_at(describer, plan, key, place) for describer in describers)
        if now and now != was:
            here = plan.after.charter.places[place]
            yield f"{upper(in_place(here.title, site=place == SITE))} you may {now}."


def _gives(row: RowChange, key: str) -> bool:
    return row.table == "assignments" and not row.before and (row.after or {}).get("member") == key


def _acts_at(describer: Describer, plan: Plan, key: str, place: str) -> str:
    decider = describer.decider
    if key not in decider.people.register.members or place not in decider.compiled.place_at:
        return ""
    return describer.acts_of(decider.people.ask(key, plan.at), decider.compiled.place_at[place])


def _site(plan: Plan) -> str:
    return visible(plan.after.charter.title or plan.after.charter.key)


def _letter(plan: Plan, key: str, subject: str, news: str, usual: str = DEFAULT) -> tuple[str, str]:
    member = plan.after.register.members[key]
    written = plan.home.file(TEMPLATE)
    template = usual if written is None else written.decode("utf-8")
    reason = f"\nThe reason: {visible(plan.why)}" if plan.why else ""
    text = Template(template).safe_substitute(name=visible(member.called), site=_site(plan), news=news, reason=reason)
    moment = datetime.now(UTC)
    message = EmailMessage(policy=SMTPUTF8 if not member.email.isascii() else SMTP)
    message["To"] = _address(member)
    message["From"] = f"{plan.after.charter.key}@localhost"
    message["Subject"] = " ".join(subject.split())
    message["Date"] = format_datetime(moment)
    message.set_content(text)
    return f"{moment:%Y%m%dT%H%M%S%f}-{key}.eml", message.as_bytes().decode("utf-8").replace("\r\n", "\n")


def _address(member: Member) -> Address:
    """Return whom a letter goes to; raises :class:`EditError` for an address or a name that no letter can have."""
    name, _, host = member.email.rpartition("@")
    if good_address(member.email) and not has_unseen(member.name):
        with suppress(ValueError, IndexError, HeaderParseError):
            return Address(member.name, name, host)
    raise EditError(
        f"No letter can be written to {member.key}: '{member.email}' or the name '{member.name}' cannot stand on one. "
        f"Mend them: ask-above member set {member.key} --email ADDRESS --name NAME"
    )
