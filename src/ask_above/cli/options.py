"""What the commands share: the community, the place, the moment, the format."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from datetime import date, datetime
from functools import wraps
from pathlib import Path
from time import monotonic
from typing import Any, NamedTuple, TypeVar, cast

import click
from click.shell_completion import CompletionItem

from ask_above.cli.moments import Moment
from ask_above.cli.moments import meant as moment_of
from ask_above.community import Community
from ask_above.errors import AskAboveError

_REGISTER = "ask_above.register"
_LONG = 0.5
"""After how many seconds something takes long."""

F = TypeVar("F", bound=Callable[..., Any])
Option = Callable[[F], F]


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
    """Add ``--community`` and ``--register``."""
    option = click.option(
        "--community", metavar="DIR", help="The community's folder, or its charter.", type=click.Path()
    )
    return option(register_option(command))


def register_option(command: F) -> F:
    """Add ``--register``, which :func:`named_register` tells."""

    def keep(ctx: click.Context, _: click.Parameter, value: str | None) -> None:
        if value:
            ctx.meta[_REGISTER] = value

    return click.option(
        "--register",
        metavar="URL",
        help="The database that holds the register.",
        expose_value=False,
        callback=keep,
    )(command)


def named_register() -> str | None:
    """Return the URL of the register's database, as given or from the environment; ``None`` for the folder's own."""
    ctx = click.get_current_context(silent=True)
    given = ctx.meta.get(_REGISTER) if ctx else None
    return given or os.environ.get("ASK_ABOVE_REGISTER") or None


def open_here(community: str | None) -> Community:
    """Open the community at hand, and say what one has to know of its files."""
    opened = Community.open(folder(community), register=named_register(), on_demand=True)
    tell(opened.notices)
    return opened


def tell(notices: Iterable[str]) -> None:
    """Say what one has to know beside the answer: where errors go, so that output for machines stays as it is."""
    from ask_above.show.screen import Screen

    screen = Screen.of(sys.stderr)
    for each in notices:
        screen.paragraph(each, first="Note: ", rest="      ", style="warn")


def format_option(command: F) -> F:
    """Add ``--format``."""
    return click.option(
        "--format",
        "form",
        type=click.Choice(["text", "json", "csv", "md"]),
        default="text",
        show_default=True,
        help="For people, for machines, or for a wiki.",
    )(command)


def figure_option(command: F) -> F:
    """Add ``--figure`` and ``--dark``, given together as ``figure``: a :class:`Figure`, or ``None``."""
    dark = click.option("--dark", is_flag=True, help="Draw the figure on dark ground.")

    @wraps(command)
    def with_figure(*args: Any, figure: Path | None, dark: bool, **given: Any) -> Any:
        if figure is None and dark:
            raise click.UsageError("--dark is for a figure; say --figure FILE too.")
        if figure is not None and given.get("form", "text") != "text":
            raise click.UsageError("A figure has no other format: leave out --format or --figure.")
        if figure is not None:
            from ask_above.show.figures.sheet import check_ending

            check_ending(figure)
        return command(*args, figure=None if figure is None else Figure(figure, dark), **given)

    option = click.option(
        "--figure",
        type=click.Path(path_type=Path, dir_okay=False),
        metavar="FILE",
        help="Draw it instead, into a .png, .svg or .pdf.",
    )
    return cast("F", option(dark(with_figure)))


class Figure(NamedTuple):
    """Where a figure goes, and whether it is drawn on dark ground."""

    file: Path
    dark: bool

    def write(self, draw: Callable[..., Any], *given: Any, **words: Any) -> None:
        """Draw and write it, and say so."""
        from ask_above.show.figures.sheet import missing_signs, write
        from ask_above.show.screen import stdout

        axes = draw(*given, **words, dark=self.dark)
        write(axes, self.file)
        stdout().line(f"Wrote {self.file}.", "yes")
        missing = missing_signs(axes)
        if missing:
            stdout().paragraph(f"No font of this machine has {' '.join(missing)}; boxes stand for them.", style="warn")


def at_option(help_text: str, default: str | None = "site") -> Callable[[F], F]:
    """Add ``--at``."""
    return click.option(
        "--at",
        metavar="PLACE",
        default=default,
        help=help_text,
        shell_complete=complete(lambda c: list(c.charter.places)),
    )


@contextmanager
def progress(label: str) -> Iterator[Callable[[int, int], None]]:
    """Show on a terminal how far something has come, once it takes long; nothing of it stays.

    Yields what is to be called with how much is done, and of how much.
    """
    started = monotonic()
    with ExitStack() as shown:
        bars: list[Callable[[int, int], None]] = []

        def on_progress(done: int, total: int) -> None:
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


author_option: Option[Any] = click.option(
    "--author", metavar="MEMBER", help="Whose it is, for a capability on one's own and on everybody's."
)


def when_option(command: F) -> F:
    """Add ``--when``."""
    return click.option(
        "--when",
        type=Moment(),
        metavar="WHEN",
        help='Ask as of then, such as 2026-12-01, 2026-12-01T18:30 or "next friday"; else now.',
    )(command)


def question_options(command: F) -> F:
    """Add what every question has: ``--when``, ``--community`` and ``--register``, ``--format``."""
    return when_option(community_option(format_option(command)))


def in_zone(community: Community, when: Any) -> date | datetime | None:
    """Return a moment that was typed: in the charter's time zone where it has none of its own, words made one."""
    return moment_of(when, community.charter.zone)


def complete(names: Callable[[Community], list[str]]) -> Callable[..., list[CompletionItem]]:
    """Return a completion from the names of the community at hand; nothing where it cannot be read."""

    def find(ctx: click.Context, _: click.Parameter, incomplete: str) -> list[CompletionItem]:
        try:
            community = Community.open(folder(ctx.params.get("community")), register=named_register())
        except (AskAboveError, OSError):
            return []
        return [CompletionItem(name) for name in names(community) if name.startswith(incomplete)]

    return find


def people(community: Community) -> list[str]:
    """Return everyone who can be asked about."""
    return [*community.register.members, *(f"rank:{key}" for key in community.charter.ranks), "visitor"]


def meant(community: Community, word: str) -> str:
    """Return whom a bare word means, as a question has it; says so first where it is the name of something else too."""
    found = community.names.meant(word)
    if found.kind == "group":
        raise click.UsageError(
            f"'{word}' is a group; ask about a member who is in it: ask-above describe group:{found.key}"
        )
    if found.kind == "place":
        raise click.UsageError(
            f"'{word}' is a place; say a member or a rank here, and the place after it: in {found.key}."
        )
    if found.note:
        tell([f"{found.note}."])
    return found.who


def capabilities(community: Community) -> list[str]:
    """Return every name that a question may give for a capability."""
    catalogue = community.charter.catalogue
    return [*catalogue.keys, *catalogue.pairs]
