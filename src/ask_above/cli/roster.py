"""``ask-above roster``."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import click

from ask_above.ask.roster import soon, waiting
from ask_above.charter.moments import Instant, as_instant, instant
from ask_above.cli.options import folder, in_zone, open_here, question_options
from ask_above.cli.sentence import Spoken
from ask_above.community import Community
from ask_above.files.signins import last_signins, read_signins
from ask_above.people.register import Status
from ask_above.show import roster as show
from ask_above.show.data import put_out


def _days(option: str, name: str, least: int, without: int, said: str) -> Callable[[Any], Any]:
    """Return an option that takes a number of days, or stands alone."""
    return click.option(
        option, name, metavar="DAYS", type=click.IntRange(least), is_flag=False, flag_value=without, help=said
    )


@click.command("roster", cls=Spoken)
@_days("--soon", "within", 1, 30, "What ends or starts within DAYS; 30 without a number.")
@_days("--waiting", "waiting", 0, 0, "Who is pending or invited for longer than DAYS.")
@click.option("--sign-ins", is_flag=True, help="Accounts that look shared, from signins.csv.")
@click.option(
    "--networks", default=5, show_default=True, type=click.IntRange(2), help="For --sign-ins: how many networks."
)
@click.option(
    "--days", default=7, show_default=True, type=click.IntRange(1), help="For --sign-ins: within how many days."
)
@question_options
def command(
    *,
    within: int | None,
    waiting: int | None,
    sign_ins: bool,
    networks: int,
    days: int,
    when: date | None,
    community: str | None,
    form: str,
) -> int:
    """List members under the headings of their ranks.

    \b
    Examples:
      ask-above roster
      ask-above roster --soon 60
      ask-above roster --waiting 14
      ask-above roster --sign-ins
    """
    if sum((within is not None, waiting is not None, sign_ins)) > 1:
        raise click.UsageError("--soon, --waiting and --sign-ins are asked one at a time.")
    opened = open_here(community)
    moment = in_zone(opened, when)
    now = instant(datetime.now(UTC)) if moment is None else as_instant(moment, opened.charter.zone)
    if within is not None:
        _soon(opened, now, within, form)
    elif waiting is not None:
        show_waiting(opened, folder(community), now, waiting, form)
    elif sign_ins:
        _shared(opened, folder(community), moment, networks, days, form)
    else:
        headings = opened.roster(when=moment)
        put_out(form, lambda: show.roster_table(headings), lambda screen: show.show_roster(screen, headings))
    return 0


def _soon(opened: Community, now: Instant, days: int, form: str) -> None:
    compiled, edges = opened.decider.compiled, soon(opened.decider, now, days)
    names = {key: member.called for key, member in opened.register.members.items()}
    put_out(
        form,
        lambda: show.soon_table(compiled, edges),
        lambda screen: show.show_soon(screen, compiled, edges, days, names),
    )


def show_waiting(opened: Community, where: Path, now: Instant, days: int, form: str) -> None:
    """Show who has been pending or invited for longer than so many days."""
    from ask_above.workspace.journal import waiting_since

    since = waiting_since(opened.journal())
    last = last_signins(where, opened.charter, opened.register)
    waits = [
        each
        for status in (Status.PENDING, Status.INVITED)
        for each in waiting(opened.decider, now, status, days, since)
    ]
    put_out(form, lambda: show.waiting_table(waits, last), lambda screen: show.show_waiting(screen, waits, last, days))


def _shared(opened: Community, where: Path, moment: date | None, networks: int, days: int, form: str) -> None:
    signins = read_signins(where, opened.charter, opened.register)
    accounts = opened.shared_accounts(signins, networks=networks, days=days, when=moment)
    compiled = opened.decider.compiled
    put_out(
        form,
        lambda: show.shared_table(compiled, accounts),
        lambda screen: show.show_shared(screen, compiled, accounts, networks, days),
    )
