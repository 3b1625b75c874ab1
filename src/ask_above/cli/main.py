"""``ask-above``: the commands, under a few headings, each loaded only when it is called."""

from __future__ import annotations

import gc
import io
import os
import re
import sys
from importlib import import_module
from typing import Any

import click

from ask_above.cli.phrases import in_command
from ask_above.cli.sentence import no_command
from ask_above.errors import AskAboveError, FaultyFilesError
from ask_above.visible import visible

SECTIONS: dict[str, dict[str, str]] = {
    "Look": {
        "check": "Check files and expectations; list advice",
        "ladder": "Show the ranks in order, and who has each",
        "grid": "Show capabilities by rank; --at PLACE shows its changes",
        "may": "Answer whether someone may, and why; --ways to allow it",
        "powers": "Show which ranks may moderate, assign and manage which",
        "who, where": "List who may do something, or where someone may do it",
        "describe": "Describe a rank, a member or a place",
        "tour": "Show the site as someone finds it; --beside another",
        "climb": "Show how far a rank can climb, and what prevents it",
        "compare": "Compare two ranks or two members",
    },
    "Change": {
        "rank": "Add, move, rename, remove ranks; grant, withhold",
        "place": "List, add, move, remove places; override, gate, realign",
        "group": "List, add, set, rename, remove groups",
        "charter": "Read or change any other part of the charter",
        "impact": "Show who gains and loses what between two versions",
        "fit": "Find the ranks that grant what someone needs",
        "journal, undo": "List the changes made; undo one",
    },
    "People": {
        "member": "List, add, invite, vouch for, lock, retire, restore",
        "assign, unassign": "Assign a rank to members, or unassign it",
        "cover": "Show how many members can do each duty in each place",
        "roster, history": "List members by heading; show what happened to one",
    },
    "Files": {
        "import, export": "Merge a file of members; write the register as files",
        "report": "Write everything on one page",
        "new, demo": "Create a community; write the demo",
    },
}
"""The commands under their headings; those of one line belong together."""

PROGRAMS: dict[str, str] = {
    "serve, token": "Answer other programs over HTTP; manage their tokens",
    "sync, send": "Take members from a directory; mail the letters",
    "audit": "Compare a log of actions with what was allowed",
    "export-table": "Write who may use what where, for a database",
}
"""What speaks to other programs: one line of the help, and ``ask-above help programs``."""

COMMANDS = [name for lines in (*SECTIONS.values(), PROGRAMS) for line in lines for name in line.split(", ")]
_WIDEST = max(len(line) for lines in (*SECTIONS.values(), PROGRAMS) for line in lines)


class Sections(click.Group):
    """A group whose commands stand under headings and are imported when they are asked for."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the commands in the order of the help."""
        return [*COMMANDS]

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Read ``help`` as ``--help``: ``help programs`` shows what speaks to other programs."""
        if args[:1] == ["help"]:
            if args[1:2] == ["programs"]:
                formatter = ctx.make_formatter()
                _write(formatter, "Programs", PROGRAMS)
                click.echo(formatter.getvalue().lstrip("\n"), nl=False)
                ctx.exit()
            args = [*args[1:], "--help"]
        return super().parse_args(ctx, args)

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
            raise click.UsageError(no_command("", args[0], known, args[1:]))
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
            _write(formatter, heading, commands)
        _write(formatter, "Programs", {"help programs": f"Show {', '.join(PROGRAMS)}"})


def _write(formatter: click.HelpFormatter, heading: str, commands: dict[str, str]) -> None:
    """Write commands under a heading."""
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


EPILOG = "Folder: --community DIR or ASK_ABOVE_COMMUNITY. Exit: 0 yes, 1 no, 2 error."


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
    """Ask Above: who may do what where, and who has power over whom.

    Start: ask-above new DIR
    """


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
        status = main.main(args=in_command(sys.argv[1:]), prog_name="ask-above", standalone_mode=False)
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
        # what is prepared beside its place has a name that nobody gave: its folder is what was named
        file = re.sub(r"[/\\]\.[^/\\]*\.part$", "", str(error.filename or "a file"))
        status = _say(f"Error: {file}: {error.strerror or error}", 2)
    except MemoryError:
        status = _say("Error: There is not enough memory for this. Give it less to read.", 2)
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
