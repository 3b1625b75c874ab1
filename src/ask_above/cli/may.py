"""``ask-above may``."""

from __future__ import annotations

import sys
from datetime import date, datetime
from typing import TYPE_CHECKING

import click

from ask_above.charter.rules import ACT_WORDS
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import author_option, complete, meant, people, progress
from ask_above.cli.question import What, what_is_asked
from ask_above.cli.sentence import Spoken
from ask_above.community import Community
from ask_above.decide.answer import Answer
from ask_above.show.answers import show_answer, show_ways, way_table
from ask_above.show.data import Table
from ask_above.show.screen import Screen

if TYPE_CHECKING:
    from ask_above.ask.ways.search import Ways


@click.command("may", cls=Spoken)
@click.argument("who", shell_complete=complete(people))
@what_is_asked
@author_option
@click.option("--ways", is_flag=True, help="Also show changes that would allow or prevent it, each tested.")
@asking(when=True)
def command(who: str, what: What, author: str | None, asked: CommandQuestion, *, ways: bool) -> int:
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
    opened, moment = asked.opened, asked.when
    if what.name not in ACT_WORDS and what.of and author is None:  # "post.edit of dara": what is Dara's
        author, what = what.of, what._replace(of=None)
    what.check(opened, "may", who, author=author)
    who, what = meant(opened, who), what.meant(opened)
    answer = _ask(opened, who, what, author, moment)
    ways_to_yes = _ways(opened, who, what, author, moment) if ways else None

    def show(screen: Screen) -> None:
        show_answer(screen, answer)
        if ways_to_yes is not None:
            show_ways(screen, ways_to_yes)
        # on stderr, so that a script that reads the answer gets nothing else
        elif not answer:
            Screen.of(sys.stderr).line(f"What would allow it: {what.command('may', who, author=author)} --ways", "dim")

    def table() -> Table:
        if ways_to_yes is not None:
            return way_table(ways_to_yes, answer.as_data())
        row = (answer.allowed, answer.account.sentence, answer.reason)
        return Table(("allowed", "question", "reason"), [row], answer.as_data())

    return asked.answer(table, show, 0 if answer else 1)


def _ask(community: Community, who: str, what: What, author: str | None, when: date | datetime | None) -> Answer:
    if what.name not in ACT_WORDS:
        return community.may(who, what.name, at=what.at, author=author, when=when)
    return community.may_act(who, what.name, what.target or "", when=when, **what.rest)


def _ways(community: Community, who: str, what: What, author: str | None, when: date | datetime | None) -> Ways:
    with progress("Trying") as hear:
        return community.ways(who, what.name, what.target, author=author, when=when, told=hear, **what.rest)
