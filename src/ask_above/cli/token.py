"""``ask-above token``."""

from __future__ import annotations

from datetime import UTC, datetime

import click

from ask_above.charter.moments import instant, written_end
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.moments import SPAN, Span
from ask_above.cli.options import community_option, complete, gathered, home_of, members
from ask_above.cli.sentence import SpokenGroup
from ask_above.decide.words import minute, span
from ask_above.show.data import Table
from ask_above.show.screen import Screen, stdout


@click.group("token", cls=SpokenGroup)
def command() -> None:
    """Add, list and remove the tokens of other programs.

    \b
    Examples:
      ask-above token add forum
      ask-above token list
    """


@command.command("add")
@click.argument("name")
@click.option("--as", "by", metavar="MEMBER", help="As whom it acts.", shell_complete=complete(members))
@click.option(
    "--may",
    type=click.Choice(["read", "provision"]),
    default="read",
    show_default=True,
    help="Put questions, or add and change members too.",
)
@gathered("ends", Span, {name: SPAN[name] for name in ("until", "lasting")})
@community_option
def add(name: str, by: str | None, may: str, *, ends: Span, community: str | None) -> int:
    """Add a token; it is shown once, and only its digest is kept.

    \b
    Example:
      ask-above token add forum --until 2027-12-31
    """
    from ask_above.workspace.tokens import TokenMay, add_token

    home = home_of(community)
    until = ends.written(home.read().charter)[1] if any(ends) else ""
    secret = add_token(home, name, member=by or "", may=TokenMay(may), until=until)
    screen = stdout()
    screen.line(f"The token {name}, shown this once:", "yes")
    screen.line(f"  {secret}")
    screen.line("Programs send it as: Authorization: Bearer TOKEN", "dim")
    return 0


@command.command("list")
@asking()
def list_tokens(asked: CommandQuestion) -> int:
    """List the tokens, without their secrets.

    \b
    Example:
      ask-above token list --format json
    """
    from ask_above.workspace.tokens import tokens_of

    home = home_of(asked.community)
    # before the first change there is no database, and so no token
    tokens = sorted(tokens_of(home.store).values()) if home.location.holds_register() else []
    rows = [[token.name, token.member, str(token.may), token.made, token.until] for token in tokens]

    def show(screen: Screen) -> None:
        if not tokens:
            screen.line("There is no token: the server serves this machine alone.")
            return
        zone, at = home.read().charter.zone, datetime.now(UTC)
        shown = []
        for token, row in zip(tokens, rows, strict=True):
            end = written_end(instant(datetime.fromisoformat(token.until)), zone) if token.until else ""
            over = " (over)" if token.is_over(at) else ""
            shown.append([*row[:3], minute(token.made, zone), f"{span('', end).strip()}{over}"])
        screen.table(["Name", "As", "May", "Made", "Ends"], shown)

    return asked.answer(lambda: Table(("name", "member", "may", "made", "until"), rows), show)


@command.command("remove")
@click.argument("name")
@community_option
def remove(name: str, community: str | None) -> int:
    """Remove a token: it is refused within a second.

    \b
    Example:
      ask-above token remove forum
    """
    from ask_above.workspace.tokens import remove_token

    remove_token(home_of(community), name)
    stdout().line(f"The token {name} is removed.", "yes")
    return 0
