"""``ask-above send``."""

from __future__ import annotations

import os

import click

from ask_above.charter.names import how_many
from ask_above.cli.options import community_option, folder
from ask_above.cli.sentence import Spoken
from ask_above.files.writing import OUTBOX, located
from ask_above.show.screen import stdout


@click.command("send", cls=Spoken)
@click.option("--plan", "only_plan", is_flag=True, help="Show what waits, and stop.")
@community_option
def command(community: str | None, *, only_plan: bool) -> int:
    """Mail the letters in the outbox.

    The environment says which: ASK_ABOVE_MAIL_SERVER (HOST or HOST:PORT), ASK_ABOVE_MAIL_FROM, and where it is wanted
    ASK_ABOVE_MAIL_USER, ASK_ABOVE_MAIL_PASSWORD and ASK_ABOVE_MAIL_TLS (starttls, tls or none). What was sent is moved
    to outbox/sent; what was not stays, and the reason is told. Exit status 1 where anything stays.

    \b
    Examples:
      ask-above send --plan
      ask-above send
    """
    from ask_above.files.mail import letters_in, send, server_of

    where, _ = located(folder(community))
    letters = letters_in(where / OUTBOX)
    screen = stdout()
    if not letters:
        screen.line("The outbox is empty.")
        return 0
    if only_plan:
        screen.line(how_many(len(letters), "letter waits", "letters wait"), "head")
        for letter in letters:
            screen.line(f"  {letter.name}")
        return 0
    failed = 0
    for sent in send(server_of(os.environ), letters):
        if sent.why_not:
            failed += 1
            screen.paragraph(f"✗ {sent.name} to {sent.to}: {sent.why_not}", rest="  ", style="no")
        else:
            screen.line(f"✓ {sent.to}", "yes")
    screen.line(f"{len(letters) - failed} sent, {failed} stay in the outbox.", "no" if failed else "yes")
    return 1 if failed else 0
