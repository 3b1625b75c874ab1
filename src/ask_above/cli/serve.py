"""``ask-above serve``."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ask_above.cli.options import community_option, folder, named_register, tell
from ask_above.cli.sentence import Spoken
from ask_above.errors import MissingFileError
from ask_above.files.writing import is_read_from, located

if TYPE_CHECKING:
    from ask_above.serve.running import Settings

_LOOPBACK = ("127.0.0.1", "::1", "localhost")


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
@click.option(
    "--open", "open_here", is_flag=True, help="Answer this machine without a token, as long as there is none."
)
@click.option(
    "--stale-after",
    default=10.0,
    show_default=True,
    show_envvar=True,
    type=click.FloatRange(1),
    metavar="SECONDS",
    help="When /ready says that it is not known whether there is another state.",
)
@click.option(
    "--serve-stale",
    default=3600.0,
    show_default=True,
    show_envvar=True,
    type=click.FloatRange(0),
    metavar="SECONDS",
    help="For how long an old state is answered from; 0 for never.",
)
@click.option(
    "--decisions-mode", default="600", show_default=True, show_envvar=True, metavar="MODE", help="The files' mode."
)
@click.option("--proxy", "proxies", multiple=True, metavar="ADDRESS", help="A proxy, which may have many connections.")
@click.option("--tell", is_flag=True, help="Write to those whom a change by provisioning concerns, into the outbox.")
@click.option("--quiet", is_flag=True, help="Log no single requests.")
@community_option
def command(
    community: str | None, decisions: str | None, decisions_mode: str, proxies: Sequence[str], **given: Any
) -> int:
    """Answer other programs over HTTP (OpenID AuthZEN 1.0).

    Closed: who asks needs a token, which ask-above token add makes. --open answers this machine without one, on the
    loopback alone. A change is answered from within a second. /live and /ready, /metrics and the state of each
    answer are described in the documents. Needs the extra: pip install 'ask-above[serve]'.

    \b
    Examples:
      ask-above serve --open
      ask-above serve --port 9000 --workers 4 --decisions decisions.jsonl
    """
    try:
        from ask_above.serve.running import Settings, run
    except ImportError as error:
        raise click.UsageError(f"This needs more packages ({error.name}): pip install 'ask-above[serve]'") from None
    if (given["certificate"] is None) != (given["key"] is None):
        raise click.UsageError("--certificate and --key go together.")
    settings = Settings(  # the other options are its fields, by the same names
        *_where(community),
        decisions=None if decisions is None else str(Path(decisions).resolve()),
        decisions_mode=_mode(decisions_mode),
        proxies=" ".join(proxies),
        **given,
    )
    _check(settings)
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


def _check(settings: Settings) -> None:
    """Read the community and its tokens once, before any worker is started: what is wrong ends it with its message."""
    from ask_above.serve.service import check_closed, source_of
    from ask_above.workspace.tokens import tokens_of

    if settings.open_here and settings.host not in _LOOPBACK:
        raise click.UsageError(f"--open answers this machine alone: leave out --host {settings.host}.")
    if settings.decisions is not None and is_read_from(Path(settings.decisions)):
        raise click.UsageError(f"A community is read from '{settings.decisions}'; name another file.")
    source = source_of(settings.community, settings.register)
    source.first()
    store = source.store
    check_closed({} if store is None else tokens_of(store), open_here=settings.open_here)
    if settings.open_here:
        tell([f"Open: whoever reaches port {settings.port} of this machine is answered, behind a proxy everybody."])


def _mode(text: str) -> int:
    """Read the mode of files as chmod does."""
    if not text.isascii() or not text.isdecimal() or set(text) - set("01234567"):
        raise click.UsageError(f"'{text}' is no mode of a file; write it as 600 or 640.")
    return int(text, 8)
