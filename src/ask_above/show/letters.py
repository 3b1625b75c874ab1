"""Messages to those whom a change concerns: standard e-mail files, in the words of a template."""

from __future__ import annotations

from contextlib import suppress
from datetime import UTC, datetime
from email.errors import HeaderParseError
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP, SMTPUTF8
from email.utils import format_datetime
from string import Template

from ask_above.change.draft import EditError
from ask_above.change.people import good_address
from ask_above.people.register import Member
from ask_above.show.news import News
from ask_above.visible import has_unseen, visible
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
    """Return a letter to each member whom a change concerns and who can be reached."""
    news, members, written = News(plan), plan.after.register.members, []
    for key in news.concerned:
        if members[key].email:
            said = "\n".join(map(visible, news.of(key)))
            written.append(_letter(plan, key, news.subject(key, _site(plan)), said))
    return written


def invitation(plan: Plan, key: str, message: str) -> Letters:
    """Return the letter that invites someone, with a message."""
    member = plan.after.register.members[key]
    if not member.email:
        return []
    # who gets a letter is not told from others of the name, nor who writes
    inviting = visible(plan.before.member(plan.by).own_name) if plan.by else ""
    first = f"{inviting} invites you to join {_site(plan)}." if inviting else f"You are invited to join {_site(plan)}."
    ranks = "\n".join(map(visible, News(plan).of_ranks(key)))
    parts = (first, ranks, visible(message, breaks=True))
    news = "\n\n".join(part for part in parts if part).strip()
    return [_letter(plan, key, f"An invitation to {_site(plan)}", news, INVITING)]


def _site(plan: Plan) -> str:
    return visible(plan.after.charter.title)


def _letter(plan: Plan, key: str, subject: str, news: str, usual: str = DEFAULT) -> tuple[str, str]:
    member = plan.after.register.members[key]
    written = plan.home.file(TEMPLATE)
    template = usual if written is None else written.decode("utf-8")
    reason = f"\nThe reason: {visible(plan.why)}" if plan.why else ""
    text = Template(template).safe_substitute(name=visible(member.own_name), site=_site(plan), news=news, reason=reason)
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
