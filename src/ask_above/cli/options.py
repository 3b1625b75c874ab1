"""What the commands share: the community, the place, the moment, the format."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from datetime import date, datetime
from functools import wraps
from pathlib import Path
from time import monotonic
from typing import TYPE_CHECKING, Any, TypeVar, cast

import click
from click.core import ParameterSource
from click.shell_completion import CompletionItem

from ask_above.charter.rules import ACT_WORDS
from ask_above.cli.moments import Moment
from ask_above.cli.moments import meant as moment_of
from ask_above.community import Community
from ask_above.errors import AskAboveError
from ask_above.files.writing import is_read_from, located
from ask_above.show.data import write_json

if TYPE_CHECKING:
    from ask_above.show.findings import Finding
    from ask_above.show.junit import JUnitCase
    from ask_above.workspace.home import Home

_REGISTER, _HOMES, _TOLD = "ask_above.register", "ask_above.homes", "ask_above.told"
_LONG = 0.5
"""After how many seconds something takes long."""

F = TypeVar("F", bound=Callable[..., Any])
Option = Callable[[F], F]


def alone(what: str, beside: str = "") -> None:
    """Raise where something was typed that is not looked at: ``beside`` are the parameters that go with what is asked.

    Which community is meant, and whether all is shown, goes with everything.
    """
    ctx, going = click.get_current_context(), {"community", "register", "full", *beside.split()}
    for param in ctx.command.params:
        typed = ctx.get_parameter_source(str(param.name)) is ParameterSource.COMMANDLINE
        if typed and param.name not in going and what not in param.opts:
            value = ctx.params[str(param.name)]
            words = " ".join(map(str, value)) if isinstance(value, tuple) else value
            name = param.opts[0] if isinstance(param, click.Option) else repr(words)
            raise click.UsageError(f"{name} does not go with {what}. Leave it out.")


def gathered(name: str, kind: Callable[..., Any], options: Mapping[str, Option[Any]]) -> Callable[[F], F]:
    """Return a decorator that adds several options and hands them on as one thing: ``kind`` of them, as ``name``."""

    def decorate(command: F) -> F:
        @wraps(command)
        def wrapped(*args: Any, **given: Any) -> Any:
            return command(*args, **{name: kind(**{each: given.pop(each) for each in options})}, **given)

        for option in reversed([*options.values()]):
            wrapped = option(wrapped)
        return cast("F", wrapped)

    return decorate


def folder(given: str | None) -> Path:
    """Return the community's folder: given, else from the environment, else the current one."""
    return Path(given or os.environ.get("ASK_ABOVE_COMMUNITY") or ".")


def community_option(command: F) -> F:
    """Add ``--community`` and ``--register``, and ``--full``, which every command takes."""
    option = click.option(
        "--community", metavar="DIR", help="The community's folder, or its charter.", type=click.Path()
    )
    return option(register_option(full_option(command)))


class OutFile(click.Path):
    """A file that a command writes; one that a community is read from is refused."""

    def __init__(self) -> None:
        super().__init__(path_type=Path, dir_okay=False)

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Return the path."""
        file = Path(str(super().convert(value, param, ctx)))
        if is_read_from(file):
            self.fail(f"A community is read from '{file}'; name another file.", param, ctx)
        return file


def register_option(command: F) -> F:
    """Add ``--register``, which :func:`named_register` tells."""

    def keep(ctx: click.Context, _: click.Parameter, value: str | None) -> None:
        if value:
            ctx.meta[_REGISTER] = value

    return click.option(
        "--register", metavar="URL", help="The database that holds the register.", expose_value=False, callback=keep
    )(command)


def named_register() -> str | None:
    """Return the URL of the register's database, as given or from the environment; ``None`` for the folder's own."""
    ctx = click.get_current_context(silent=True)
    given = ctx.meta.get(_REGISTER) if ctx else None
    return given or os.environ.get("ASK_ABOVE_REGISTER") or None


def home_of(community: str | None) -> Home:
    """Return the home of the community at hand: one for all of a command, so that its files are read once."""
    from ask_above.workspace.home import Home

    # a command that opens and then changes would read every file twice, and could see two states
    homes: dict[object, Home] = _of_command(_HOMES)
    where = (*located(folder(community)), named_register())
    return homes.get(where) or homes.setdefault(where, Home(*where, on_demand=True))


def open_here(community: str | None) -> Community:
    """Open the community at hand, and say what one has to know of its files, once in a command."""
    from ask_above.workspace.edited import recorded

    home = home_of(community)
    recorded(home)
    opened = Community.kept_in(home)
    tell(opened.notices)
    return opened


def _of_command(name: str) -> dict[Any, Any]:
    """Return what is kept while a command runs."""
    ctx = click.get_current_context(silent=True)
    return ctx.meta.setdefault(name, {}) if ctx else {}


def tell(notices: Iterable[str]) -> None:
    """Say once what one has to know beside the answer: where errors go, so that output for machines stays as it is."""
    from ask_above.show.screen import Screen

    screen, known = Screen.of(sys.stderr), _of_command(_TOLD)
    for notice in notices:
        if notice not in known:
            known[notice] = None
            screen.paragraph(notice, first="Note: ", rest="      ", style="warn")


def format_option(command: F) -> F:
    """Add ``--format``."""
    return _formats("For people, for programs, or for a wiki.")(command)


def findings_format_option(command: F) -> F:
    """Add ``--format`` with what the programs around a repository read, too."""
    return _formats("For people, for programs, for a wiki, for code review.", "sarif", "junit")(command)


def _formats(help_text: str, *more: str) -> Callable[[F], F]:
    kinds = click.Choice(["text", "json", "csv", "md", *more])
    option: Callable[[F], F] = click.option(
        "--format", "form", type=kinds, default="text", show_default=True, help=help_text
    )
    return lambda command: option(full_option(command))


def full_option(command: F) -> F:
    """Add ``--full``, which every screen of the command knows, and none after it."""
    from ask_above.show.screen import in_full

    # two decorators may add it to one command, and click would show it twice
    if any("--full" in param.opts for param in getattr(command, "__click_params__", ())):
        return command

    @wraps(command)
    def wrapped(*args: Any, full: bool, **given: Any) -> Any:
        with in_full(full):
            return command(*args, **given)

    help_text = "Show what the first screen leaves out."
    return click.option("--full", is_flag=True, help=help_text)(cast("F", wrapped))


def write_findings(
    form: str, opened_at: str | None, command: str, findings: Sequence[Finding], cases: Sequence[JUnitCase], status: int
) -> None:
    """Write what was found as SARIF or JUnit; addresses are relative to the current folder."""
    from datetime import UTC

    if form == "sarif":
        from ask_above.show.findings import sarif

        write_json(sys.stdout, sarif(findings, below=_below(opened_at), status=status))
        return
    import platform

    from ask_above.show.junit import junit

    at = datetime.now(UTC).isoformat(timespec="seconds")
    sys.stdout.write(junit(f"ask-above {command}", cases, at=at, host=platform.node()))


def _below(community: str | None) -> str:
    """Return the way from here to the community's folder; nothing where it does not lie below."""
    where, _ = located(folder(community))
    try:
        way = where.resolve().relative_to(Path.cwd().resolve()).as_posix()
    except ValueError:
        return ""
    return "" if way == "." else way


def at_option(help_text: str, default: str | None = "site") -> Callable[[F], F]:
    """Add ``--at``, which can be said as ``--in``."""
    words: dict[str, Any] = {"metavar": "PLACE", "default": default, "help": help_text}
    return click.option("--in", "--at", "at", shell_complete=complete(places), **words)


@contextmanager
def progress(label: str) -> Iterator[Callable[[int, int], None]]:
    """Show on a terminal how far something has come, once it takes long; nothing of it stays.

    Yields what is to be called with how much is done, and of how much.
    """
    started = monotonic()
    with ExitStack() as shown:
        bars: list[Callable[[int, int], None]] = []

        def on_progress(done: int, total: int) -> None:
            # rich is imported when something takes long: what is quick should not pay for it
            if sys.stderr.isatty() and not bars and monotonic() - started > _LONG:
                bars.append(shown.enter_context(_bar(label)))
            for bar in bars:
                bar(done, total)

        yield on_progress


@contextmanager
def _bar(label: str) -> Iterator[Callable[[int, int], None]]:
    from rich.console import Console
    from rich.progress import Progress

    with Progress(console=Console(stderr=True), transient=True) as bars:
        task = bars.add_task(label)
        yield lambda done, total: bars.update(task, completed=done, total=max(1, total))


def when_option(command: F) -> F:
    """Add ``--when``."""
    return click.option(
        "--when",
        type=Moment(),
        metavar="WHEN",
        help='As of then: 2026-12-01, 2026-12-01T18:30 or "next friday"; now if left out.',
    )(command)


def in_zone(community: Community, when: Any) -> date | datetime | None:
    """Return a moment that was typed: in the charter's time zone where it has none of its own, words made one."""
    return moment_of(when, community.charter.zone)


Completed = Mapping[str, str] | Iterable[str]
"""Names to complete, with what people call them where that says more."""


def complete(names: Callable[[Community], Completed]) -> Callable[..., list[CompletionItem]]:
    """Return a completion from the names of the community at hand; nothing where it cannot be read."""

    def find(ctx: click.Context, _: click.Parameter, incomplete: str) -> list[CompletionItem]:
        try:
            where = folder(ctx.params.get("community"))
            # on demand: somebody is typing, and a rank or a place is completed without reading the members
            known = names(Community.open(where, register=named_register(), on_demand=True))
        except (AskAboveError, OSError):
            return []
        called = known if isinstance(known, Mapping) else dict.fromkeys(known, "")
        start = incomplete.lower()
        return [CompletionItem(name, help=said or None) for name, said in called.items() if name.startswith(start)]

    return find


def people(community: Community) -> dict[str, str]:
    """Return everyone who can be asked about."""
    return {**members(community), **{f"rank:{key}": title for key, title in ranks(community).items()}, "visitor": ""}


def members(community: Community) -> dict[str, str]:
    """Return the members, by key, with their names."""
    return {key: member.called for key, member in community.register.members.items()}


def ranks(community: Community) -> dict[str, str]:
    """Return the ranks, by key, with their titles."""
    return {key: rank.called for key, rank in community.charter.ranks.items()}


def places(community: Community) -> dict[str, str]:
    """Return the places, by key, with their titles."""
    return {key: place.called for key, place in community.charter.places.items()}


def meant(community: Community, word: str) -> str:
    """Return whom a bare word means, as a question has it; says so first where it is the name of something else too."""
    who = community.names.meant(word)
    if who.kind == "group":
        raise click.UsageError(
            f"'{word}' is a group; ask about a member who is in it: ask-above describe group:{who.key}"
        )
    if who.kind == "place":
        raise click.UsageError(
            f"'{word}' is a place; say a member or a rank here, and the place after it: in {who.key}."
        )
    if who.note:
        tell([f"{who.note}."])
    return who.who


def groups(community: Community) -> dict[str, str]:
    """Return the groups, by key, with their titles."""
    return {key: group.called for key, group in community.charter.groups.items()}


def capabilities(community: Community) -> dict[str, str]:
    """Return every name that a question may give for a capability, with its meaning."""
    catalogue = community.charter.catalogue
    return {**{key: each.about for key, each in catalogue.capabilities.items()}, **dict.fromkeys(catalogue.pairs, "")}


def asked_about(community: Community) -> dict[str, str]:
    """Return the acts and the capabilities."""
    return {**dict.fromkeys(ACT_WORDS, ""), **capabilities(community)}


def targets(community: Community) -> dict[str, str]:
    """Return everyone whom an act may be on, ranks by their keys alone too."""
    return {**ranks(community), **people(community)}


author_option: Option[Any] = click.option(
    "--author",
    metavar="MEMBER",
    help="Whose it is, for a capability on own things and on everybody's.",
    shell_complete=complete(members),
)
