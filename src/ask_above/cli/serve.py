"""``ask-above serve``."""

from __future__ import annotations

import os
from pathlib import Path

import click

from ask_above.cli.options import community_option, folder, named_register, tell
from ask_above.cli.sentence import Spoken
from ask_above.errors import MissingFileError
from ask_above.files.opening import located


@click.command("serve", cls=Spoken, context_settings={"auto_envvar_prefix": "ASK_ABOVE_SERVE"})
@click.option("--host", default="127.0.0.1", show_default=True, show_envvar=True, help="The address to listen at.")
@click.option("--port", default=8423, show_default=True, show_envvar=True, type=click.IntRange(0, 65535))
@click.option(
    "--workers",
    default=1,
    show_default=True,
    show_envvar=True,
    type=click.IntRange(1, 64),
    help="How many processes answer side by side.",
)
@click.option("--public-url", default="", show_envvar=True, metavar="URL", help="Where it is reached from outside.")
@click.option(
    "--decisions",
    show_envvar=True,
    metavar="FILE",
    type=click.Path(dir_okay=False),
    help="Write what was asked and answered as JSON lines, for audit; 10 files of 50 MB are kept.",
)
@click.option(
    "--most-at-once",
    default=64,
    show_default=True,
    show_envvar=True,
    type=click.IntRange(1, 10_000),
    help="More requests than these at a time are turned away, to ask again.",
)
@click.option("--certificate", show_envvar=True, metavar="FILE", help="For TLS.", type=click.Path(exists=True))
@click.option("--key", show_envvar=True, metavar="FILE", help="For TLS.", type=click.Path(exists=True))
@click.option("--tell", is_flag=True, help="Write to those whom a change by provisioning concerns, into the outbox.")
@click.option("--quiet", is_flag=True, help="Log no single requests.")
@community_option
def command(
    host: str,
    port: int,
    workers: int,
    public_url: str,
    decisions: str | None,
    most_at_once: int,
    certificate: str | None,
    key: str | None,
    community: str | None,
    *,
    tell: bool,
    quiet: bool,
) -> int:
    """Answer other programs over HTTP: may they, who may, where, what; as OpenID AuthZEN 1.0 says.

    Closed by default: it listens on the machine itself, and without any token it serves nobody else. Make one with
    ask-above token add. A change is answered from within a second. /live and /ready, /metrics and the state of each
    answer are described in the documents. Needs the extra: pip install 'ask-above[serve]'.

    \b
    Examples:
      ask-above serve
      ask-above serve --port 9000 --workers 4 --decisions decisions.jsonl
    """
    try:
        from ask_above.serve.running import Settings, run
    except ImportError as error:
        raise click.UsageError(f"This needs more packages ({error.name}): pip install 'ask-above[serve]'") from None
    if (certificate is None) != (key is None):
        raise click.UsageError("--certificate and --key go together.")
    settings = Settings(
        *_where(community),
        host=host,
        port=port,
        workers=workers,
        public_url=public_url,
        decisions=None if decisions is None else str(Path(decisions).resolve()),
        most_at_once=most_at_once,
        certificate=certificate,
        key=key,
        quiet=quiet,
        tell=tell,
    )
    _tell_who_is_served(settings.community, settings.register, host)
    run(settings)
    return 0


def _where(community: str | None) -> tuple[str | None, str | None]:
    """Return the folder and the database; without a folder the database that is named holds all of it."""
    register = named_register()
    try:
        where, name = located(folder(community))
    except MissingFileError:
        if register is None or community or os.environ.get("ASK_ABOVE_COMMUNITY"):
            raise
        return None, register
    return str((where / name).resolve()), register


def _tell_who_is_served(community: str | None, register: str | None, host: str) -> None:
    from ask_above.serve.service import source_of
    from ask_above.workspace.tokens import tokens_of

    store = source_of(community, register).store
    if store is None or not tokens_of(store):
        more = "" if host in ("127.0.0.1", "::1", "localhost") else f" Whoever else reaches {host} is refused."
        tell([f"There is no token, so only this machine itself is served.{more} Make one: ask-above token add NAME"])
