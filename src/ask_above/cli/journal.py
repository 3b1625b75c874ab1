"""``ask-above journal``."""

from __future__ import annotations

import sys

import click

from ask_above.cli.changing import home_of
from ask_above.cli.options import community_option, complete, format_option, members
from ask_above.cli.sentence import Spoken
from ask_above.show.data import write_table
from ask_above.show.screen import stdout


@click.command("journal", cls=Spoken)
@click.argument("number", required=False, type=int)
@click.option("--by", metavar="MEMBER", help="What this member did.", shell_complete=complete(members))
@click.option("--about", metavar="TEXT", help="What names this: a member, a rank, a place.")
@click.option("--since", metavar="DATE", help="From this day on, in UTC.")
@click.option("--most", default=20, show_default=True, type=click.IntRange(1), help="How many at most.")
@community_option
@format_option
def command(
    number: int | None,
    by: str | None,
    about: str | None,
    since: str | None,
    most: int,
    community: str | None,
    form: str,
) -> int:
    """Show who changed what, when, and why, the latest first; with a number, all of one change.

    \b
    Examples:
      ask-above journal
      ask-above journal --about dara --since 2026-11-01
      ask-above journal 12
    """
    from ask_above.show.plans import JOURNAL_COLUMNS, journal_data, journal_rows, show_journal

    home = home_of(community)
    entries = home.store.entries() if home.storage.holds_register() else []
    found = [
        each
        for each in reversed(entries)
        if (number is None or each.number == number)
        and (by is None or each.who == by)
        and (since is None or each.at >= since)
        and (about is None or about.lower() in _said(each).lower())
    ][:most]
    if form != "text":
        write_table(sys.stdout, form, JOURNAL_COLUMNS, journal_rows(found), journal_data(found))
        return 0
    snapshot = home.read()
    names = {key: member.called for key, member in snapshot.register.members.items()}
    show_journal(stdout(), found, names, snapshot.charter, whole=number is not None)
    return 0 if found or not entries else 1


def _said(entry: object) -> str:
    """Return all that an entry says, for looking something up in it."""
    rows = getattr(entry, "rows", ())
    return " ".join(
        [getattr(entry, "what", ""), getattr(entry, "why", ""), *(f"{r.key} {r.before} {r.after}" for r in rows)]
    )
