"""``ask-above``: the commands, under a few headings, each loaded only when it is called."""

from __future__ import annotations

import gc
import io
import os
import sys
from importlib import import_module
from typing import Any

import click

from ask_above.cli.sentence import no_command
from ask_above.errors import AskAboveError, FaultyFilesError
from ask_above.visible import visible

SECTIONS: dict[str, dict[str, str]] = {
    "Look": {
        "check": "Is it well formed, does it hold, what to look at again?",
        "ladder": "The ranks in order, and who holds each",
        "grid": "Capabilities by ranks; with --at, what a place changes",
        "may": "May they, and why? With --ways, what would turn it",
        "powers": "Which ranks may moderate, assign, manage which",
        "who, where": "Who may do something; where someone may do it",
        "describe": "A rank, a member or a place in sentences",
        "tour": "The site as someone finds it; --beside someone else",
        "climb": "How far a rank can climb, which way, and what cuts it",
        "compare": "Two ranks or two people side by side",
    },
    "Change": {
        "rank": "Add, move, rename, grant, withhold, withdraw, remove",
        "place": "List, add, move, override, except, gate, realign, remove",
        "group": "List, add, set, rename, remove groups of members",
        "charter": "Get, set, add, remove whatever else the charter holds",
        "impact": "Who gains and who loses what between two versions",
        "fit": "Which ranks fit someone's needs, with least besides",
        "audit": "What was done against what was allowed then",
        "journal, undo": "Who changed what, when, and why; take it back",
    },
    "People": {
        "member": "List, add, invite, vouch for, lock, retire, restore",
        "assign, unassign": "Give members a rank, or take it from them",
        "cover": "Is every place looked after, who is the only one?",
        "roster, history": "Members under headings; what happened to one",
    },
    "Files": {
        "import, export": "Merge a file of members; write the register as files",
        "sync, send": "People from a directory; letters to a mail server",
        "report": "Write all of it on one page, to read and print",
        "export-table": "Write who can use what where, for a database",
        "new, demo": "Begin a community of your own; see the demo",
    },
    "Other programs": {
        "serve, token": "Answer over HTTP; who may speak to the server",
    },
}
"""The commands under their headings; those of one line belong together."""


COMMANDS = [name for lines in SECTIONS.values() for line in lines for name in line.split(", ")]
_WIDEST = max(len(line) for lines in SECTIONS.values() for line in lines)


class Sections(click.Group):
    """A group whose commands stand under headings and are imported when they are asked for."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the commands in the order of the help."""
        return [*COMMANDS]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Import a command."""
        if cmd_name not in self.list_commands(ctx):
            return None
        module = {"import": "import_members", "export": "export_members"}.get(cmd_name, cmd_name.replace("-", "_"))
        command: click.Command = import_module(f"ask_above.cli.{module}").command
        return command

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        """Find a command; where there is none of that name, offer the nearest."""
        known = self.list_commands(ctx)
        if args and not args[0].startswith("-") and args[0] not in known and not ctx.resilient_parsing:
            raise click.UsageError(no_command("", args[0], known))
        return super().resolve_command(ctx, args)

    def format_usage(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write nothing: what there is to type stands below, and the whole fits one screen."""

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the commands alone: there are no options but --help and --version."""
        self.format_commands(ctx, formatter)

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write where a command looks, without a line between: the whole fits one screen."""
        formatter.write(f"{self.epilog}\n")

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the commands under their headings."""
        for heading, commands in SECTIONS.items():
            formatter.write(f"\n{heading}:\n")
            formatter.indent()
            formatter.write_dl([(name.ljust(_WIDEST), said) for name, said in commands.items()])
            formatter.dedent()


def _completion(ctx: click.Context, _: click.Parameter, shell: str | None) -> None:
    """Write what a shell reads to complete commands, options and the community's own names, and stop."""
    if shell is not None and not ctx.resilient_parsing:
        from ask_above.cli.completion import script

        click.echo(script(main, shell))
        ctx.exit()


EPILOG = "Where: --community DIR, else ASK_ABOVE_COMMUNITY, else here. Exit: 0 yes, 1 no, 2 wrong."


@click.group(cls=Sections, epilog=EPILOG, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="ask-above", prog_name="ask-above")
@click.option(
    "--completion",
    type=click.Choice(["bash", "zsh", "fish"]),
    is_eager=True,
    expose_value=False,
    callback=_completion,
    help="Write what this shell reads to complete commands and names.",
)
def main() -> None:
    """Who may do what where, who stands above whom. Begin: ask-above new DIR."""


def run() -> None:
    """Run the command line; whatever goes wrong reaches the user as a message."""
    # a command lives for a moment and makes hardly any garbage, but a million objects where the register is large
    gc.set_threshold(200_000, 50, 100)
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")
    if "_ASK_ABOVE_COMPLETE" in os.environ:
        sys.exit(_complete())
    try:
        status = main.main(prog_name="ask-above", standalone_mode=False)
    except click.exceptions.Abort:
        status = _say("Stopped.", 130)
    except click.ClickException as error:
        shown = io.StringIO()
        error.show(shown)
        status = _say(shown.getvalue().rstrip("\n"), 2)
    except FaultyFilesError as error:
        status = _faults(error)
    except AskAboveError as error:
        status = _say(f"Error: {error}", 2)
    except BrokenPipeError:
        sys.stderr.close()
        status = 0
    except OSError as error:
        status = _say(f"Error: {error.filename or 'a file'}: {error.strerror or error}", 2)
    except Exception as error:
        if os.environ.get("ASK_ABOVE_TRACE"):
            raise
        said = f"{type(error).__name__}: {error}"
        status = _say(f"Error in Ask Above itself ({said}); please report it. ASK_ABOVE_TRACE=1 shows where.", 2)
    sys.exit(status if isinstance(status, int) else 0)


def _complete() -> int:
    """Answer a shell that completes; whatever goes wrong there is nothing to complete, and nothing is said."""
    from ask_above.cli.completion import VARIABLE, completed

    try:
        click.echo(completed(main, os.environ[VARIABLE]))
    except Exception:
        if os.environ.get("ASK_ABOVE_TRACE"):
            raise
        # a message would land in the middle of what is being typed
        return 1
    return 0


def _say(message: str, status: int) -> int:
    if sys.stderr.isatty() and "\n" not in message:
        from ask_above.show.screen import Screen

        Screen.of(sys.stderr).paragraph(message)
    else:
        click.echo(visible(message, breaks=True), err=True)
    return status


def _faults(error: FaultyFilesError) -> int:
    from ask_above.show.check import show_faults
    from ask_above.show.screen import Screen

    show_faults(Screen.of(sys.stderr), error.faults)
    if error.way_back:
        Screen.of(sys.stderr).paragraph(error.way_back, first="→ ", rest="  ")
    return 2


if __name__ == "__main__":
    run()
