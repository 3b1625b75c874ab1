"""``ask-above may``."""

from __future__ import annotations

import sys
from datetime import date
from typing import TYPE_CHECKING, NamedTuple

import click

from ask_above.charter.expectations import ACT_WORDS
from ask_above.cli.options import (
    at_option,
    capabilities,
    community_option,
    complete,
    format_option,
    in_zone,
    open_here,
    people,
    progress,
    when_option,
)
from ask_above.community import Community
from ask_above.decide.answer import Answer
from ask_above.show.answers import show_answer
from ask_above.show.data import write_table
from ask_above.show.screen import stdout
from ask_above.show.ways import WAY_COLUMNS, show_ways, way_rows

if TYPE_CHECKING:
    from ask_above.ask.ways.search import Way

_MOST_SHOWN = 8


class Question(NamedTuple):
    """What was typed."""

    who: str
    what: str
    target: str | None
    to: str | None
    of: str | None
    using: str | None
    author: str | None


@click.command("may")
@click.argument("who", shell_complete=complete(people))
@click.argument("what", shell_complete=complete(lambda c: [*ACT_WORDS, *capabilities(c)]))
@click.argument("target", required=False, shell_complete=complete(lambda c: [*c.charter.ranks, *people(c)]))
@at_option("Where; the site itself where it is left out.")
@click.option("--author", metavar="MEMBER", help="Whose it is, for a capability on one's own and on everybody's.")
@click.option("--to", metavar="MEMBER", help="For assign: to whom.")
@click.option("--of", metavar="MEMBER", help="For unassign: from whom.")
@click.option("--using", metavar="CAPABILITY", help="For moderate: with which capability.")
@click.option("--ways", is_flag=True, help="Also say what would turn the answer: the smallest changes, each tried.")
@when_option
@community_option
@format_option
def command(
    who: str,
    what: str,
    target: str | None,
    at: str,
    author: str | None,
    to: str | None,
    of: str | None,
    using: str | None,
    *,
    ways: bool,
    when: date | None,
    community: str | None,
    form: str,
) -> int:
    """Answer whether someone may do something, and why.

    WHO is a member, rank:KEY or visitor. WHAT is a capability, or an act on a TARGET: moderate (a member or
    rank:KEY), assign, unassign, manage, call (a rank).

    \b
    Examples:
      ask-above may dara reading.post --at lower-gauges --ways
      ask-above may petra post.edit --at field-talk --author tomas
      ask-above may bram moderate dara --at river-talk --using member.mute
      ask-above may ada assign surveyor --to dara
      ask-above may rank:warden call steward
    """
    opened = open_here(community)
    asked = Question(who, what, target, to, of, using, author)
    answer = _ask(opened, asked, at, in_zone(opened, when))
    found = _ways(opened, asked, at, in_zone(opened, when)) if ways else []
    if form == "text":
        show_answer(stdout(), answer)
        if ways:
            show_ways(stdout(), found, _MOST_SHOWN, turned_to=not answer)
    elif ways:
        data = {**answer.as_data(), "ways": [dict(zip(WAY_COLUMNS, row, strict=True)) for row in way_rows(found)]}
        write_table(sys.stdout, form, WAY_COLUMNS, way_rows(found), data)
    else:
        row = (answer.allowed, answer.account.sentence, answer.reason)
        write_table(sys.stdout, form, ("allowed", "question", "reason"), [row], answer.as_data())
    return 0 if answer else 1


def _ask(community: Community, asked: Question, at: str, when: date | None) -> Answer:
    check_use(asked)
    if asked.what not in ACT_WORDS:
        return community.may(asked.who, asked.what, at=at, author=asked.author, when=when)
    target = asked.target or ""
    if asked.what == "moderate":
        return community.may_moderate(asked.who, target, at=at, using=asked.using, when=when)
    if asked.what == "assign":
        return community.may_assign(asked.who, target, to=asked.to, at=at, when=when)
    if asked.what == "unassign":
        return community.may_unassign(asked.who, target, of=asked.of or "", at=at, when=when)
    if asked.what == "manage":
        return community.may_manage(asked.who, target, when=when)
    return community.may_call(asked.who, target, at=at, when=when)


def _ways(community: Community, asked: Question, at: str, when: date | None) -> list[Way]:
    with progress("Trying") as told:
        return community.ways(
            asked.who,
            asked.what,
            asked.target,
            at=at,
            author=asked.author,
            to=asked.to,
            of=asked.of,
            using=asked.using,
            when=when,
            told=told,
        )


def check_use(asked: Question, command: str = "may") -> None:
    """Refuse what does not go together, and say what does."""
    act = asked.what if asked.what in ACT_WORDS else None
    if act and not asked.target:
        said = f"may {asked.who}" if command == "may" else command
        raise click.UsageError(f"'{act}' needs whom or which rank: ask-above {said} {act} TARGET")
    if not act and asked.target:
        raise click.UsageError(
            f"'{asked.what}' is no act, so '{asked.target}' has no place here; the acts are {', '.join(ACT_WORDS)}."
        )
    if act == "unassign" and not asked.of:
        raise click.UsageError("'unassign' needs from whom: --of MEMBER")
    goes_with = {"to": "assign", "of": "unassign", "using": "moderate"}
    for option, wanted in goes_with.items():
        if getattr(asked, option) and act != wanted:
            raise click.UsageError(f"--{option} goes with {wanted} alone.")
    if asked.author and act:
        raise click.UsageError("--author goes with a capability, not with an act.")
