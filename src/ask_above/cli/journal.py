"""``ask-above journal``."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime, time
from typing import TYPE_CHECKING

import click

from ask_above.charter.names import listed
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.moments import Moment, Typed, meant
from ask_above.cli.options import alone, complete, home_of, members
from ask_above.cli.sentence import Spoken
from ask_above.show.screen import Screen, stdout

if TYPE_CHECKING:
    from ask_above.workspace.home import Home


@click.command("journal", cls=Spoken)
@click.argument("about_whom", required=False, metavar="[NUMBER|MEMBER]", shell_complete=complete(members))
@click.option("--by", metavar="MEMBER", help="What this member did.", shell_complete=complete(members))
@click.option("--about", metavar="TEXT", help="What names this: a member, a rank, a place.")
@click.option("--since", metavar="WHEN", type=Moment(), help="From this day or moment on.")
@click.option("--edits", is_flag=True, help="Show what edits by hand since the last change would change, or do change.")
@click.option("--take", multiple=True, metavar="FILE", help="Make a file that was edited a change, as it stands.")
@click.option(
    "--acknowledge",
    is_flag=False,
    flag_value=0,
    type=int,
    metavar="[NUMBER]",
    help="Note that an edit by hand which undoes a change is known: no command tells it again.",
)
@click.option("--most", default=20, show_default=True, type=click.IntRange(1), help="How many at most.")
@asking()
def command(
    about_whom: str | None,
    by: str | None,
    about: str | None,
    since: Typed,
    edits: bool,
    take: Sequence[str],
    acknowledge: int | None,
    most: int,
    asked: CommandQuestion,
) -> int:
    """Show who changed what, when, and why, the latest first; with a number, all of one change.

    With a member's name, what was done by them and to them. What is edited by hand counts as it stands, and is recorded
    before the next change.

    \b
    Examples:
      ask-above journal
      ask-above journal dara
      ask-above journal --about kit.lend --since 2026-11-01
      ask-above journal 12
    """
    from ask_above.show.plans import journal_table, show_journal
    from ask_above.workspace.journal import concerns
    from ask_above.workspace.undoing import lines_changed, no_change

    number = int(about_whom) if about_whom is not None and about_whom.isdecimal() else None
    home = home_of(asked.community)
    if edits or take or acknowledge is not None:
        alone(*(("--take",) if take else ("--edits", "form") if acknowledge is None else ("--acknowledge",)))
        return _settle(asked, home, take, acknowledge)
    member = None if about_whom is None or number is not None else _member(home, about_whom)
    start = _start(home, since)
    entries = home.entries()
    # whoever is no member any more is still known by the key of then
    maker = by if by is None or any(entry.who == by for entry in entries) else _member(home, by)
    chosen = [
        entry
        for entry in reversed(entries)
        if (number is None or entry.number == number)
        and (member is None or concerns(entry, member))
        and (maker is None or entry.who == maker)
        and (start is None or datetime.fromisoformat(entry.at) >= start)
        and (about is None or about.lower() in _said(entry).lower())
    ][:most]
    if number is not None and not chosen:
        raise no_change(number, entries)

    def show(screen: Screen) -> None:
        snapshot = home.read()
        known = snapshot.register.members
        names = {entry.who: known[entry.who].called for entry in chosen if entry.who in known}
        replaced = None if number is None else [lines for entry in chosen for lines in lines_changed(home, entry)]
        show_journal(screen, chosen, names, snapshot.charter, replaced)

    return asked.answer(lambda: journal_table(chosen), show, 0 if chosen or not entries else 1)


def _settle(asked: CommandQuestion, home: Home, take: Sequence[str], number: int | None) -> int:
    """Show what was edited by hand, make it a change, or note that it is known."""
    from ask_above.show.impact import by_hand_table, show_by_hand
    from ask_above.workspace.edited import acknowledge, take_edits
    from ask_above.workspace.plans import by_hand
    from ask_above.workspace.storage import opened

    if take:
        for entry in take_edits(home, take):
            back = f"To undo it: ask-above undo {entry.number}"
            stdout().line(f"Done: change {entry.number}, {entry.what}. {back}", "yes")
        return 0
    if number is not None:
        known = acknowledge(home, number or None)
        stdout().line(f"Acknowledged: {listed(f'change {each}' for each in known)}.", "yes")
        return 0
    # what was kept back as doubtful is shown as it would count, so that one can decide
    held = home.read().held
    snapshot = home.read(take=held) if held else home.read()
    names = opened(home, snapshot)
    edited = by_hand(home, snapshot, names, names.moment())

    def show(screen: Screen) -> None:
        if edited is None:
            screen.line("Nothing was edited by hand since the last change.")
        else:
            show_by_hand(screen, edited)

    return asked.answer(lambda: by_hand_table(edited), show)


def _start(home: Home, since: Typed) -> datetime | None:
    """Return the moment from which on entries are shown."""
    if since is None:
        return None
    zone = home.read().charter.zone
    at = meant(since, zone)
    return at if isinstance(at, datetime) else datetime.combine(at or date.min, time.min, zone)


def _member(home: Home, name: str) -> str:
    from ask_above.workspace.storage import opened

    return opened(home, home.read()).member(name).key


def _said(entry: object) -> str:
    """Return all that an entry says, for looking something up in it."""
    rows = getattr(entry, "rows", ())
    return " ".join(
        [getattr(entry, "what", ""), getattr(entry, "why", ""), *(f"{r.key} {r.before} {r.after}" for r in rows)]
    )
