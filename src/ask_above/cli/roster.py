"""``ask-above roster``."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

import click

from ask_above.ask.roster import soon, waiting
from ask_above.charter.moments import Instant, as_instant, instant
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import alone
from ask_above.cli.sentence import Spoken
from ask_above.files.signins import last_signins, read_signins
from ask_above.people.register import Status
from ask_above.show import roster as show


def _days(option: str, name: str, least: int, without: int, said: str) -> Callable[[Any], Any]:
    """Return an option that takes a number of days, or stands alone."""
    return click.option(
        option, name, metavar="DAYS", type=click.IntRange(least), is_flag=False, flag_value=without, help=said
    )


@click.command("roster", cls=Spoken)
@_days("--soon", "within", 1, 30, "What ends or starts within DAYS; 30 without a number.")
@_days("--waiting", "waiting", 0, 0, "Who is pending or invited, for longer than DAYS if given.")
@click.option("--sign-ins", is_flag=True, help="Accounts that look shared, from signins.csv.")
@click.option(
    "--networks", default=5, show_default=True, type=click.IntRange(2), help="For --sign-ins: how many networks."
)
@click.option(
    "--days", default=7, show_default=True, type=click.IntRange(1), help="For --sign-ins: within how many days."
)
@asking(when=True)
def command(
    asked: CommandQuestion, *, within: int | None, waiting: int | None, sign_ins: bool, networks: int, days: int
) -> int:
    """List members under the headings of their ranks.

    \b
    Examples:
      ask-above roster
      ask-above roster --soon 60
      ask-above roster --waiting 14
      ask-above roster --sign-ins
    """
    # each shows a list of its own, and one screen holds one
    if within is not None:
        alone("--soon", "when form")
        return _soon(asked, within)
    if waiting is not None:
        alone("--waiting", "when form")
        return show_waiting(asked, waiting or -1)  # without a number: all of them
    if sign_ins:
        alone("--sign-ins", "when form networks days")
        return _shared(asked, networks, days)
    alone("the roster itself", "when form")
    headings = asked.opened.roster(when=asked.when)
    return asked.answer(lambda: show.roster_table(headings), lambda screen: show.show_roster(screen, headings))


def _now(asked: CommandQuestion) -> Instant:
    return instant(datetime.now(UTC)) if asked.when is None else as_instant(asked.when, asked.opened.charter.zone)


def _soon(asked: CommandQuestion, days: int) -> int:
    opened = asked.opened
    compiled, edges = opened.decider.compiled, soon(opened.decider, _now(asked), days)
    names = {key: member.called for key, member in opened.register.members.items()}
    return asked.answer(
        lambda: show.soon_table(compiled, edges), lambda screen: show.show_soon(screen, compiled, edges, days, names)
    )


def show_waiting(asked: CommandQuestion, days: int) -> int:
    """Show who has been pending or invited for longer than so many days."""
    from ask_above.workspace.journal import waiting_since

    opened, now = asked.opened, _now(asked)
    since = waiting_since(opened.journal())
    last = last_signins(asked.folder, opened.charter, opened.register)
    waits = [
        each
        for status in (Status.PENDING, Status.INVITED)
        for each in waiting(opened.decider, now, status, days, since)
    ]
    return asked.answer(
        lambda: show.waiting_table(waits, last), lambda screen: show.show_waiting(screen, waits, last, days)
    )


def _shared(asked: CommandQuestion, networks: int, days: int) -> int:
    opened = asked.opened
    signins = read_signins(asked.folder, opened.charter, opened.register)
    accounts = opened.shared_accounts(signins, networks=networks, days=days, when=asked.when)
    compiled = opened.decider.compiled
    return asked.answer(
        lambda: show.shared_table(compiled, accounts),
        lambda screen: show.show_shared(screen, compiled, accounts, networks, days),
    )
