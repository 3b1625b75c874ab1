"""``ask-above``: the commands, under a few headings, each loaded only when it is called."""

from __future__ import annotations

import sys
from importlib import import_module
from typing import Any

import click

from ask_above.errors import AskAboveError, FaultyFilesError

SECTIONS: dict[str, dict[str, str]] = {
    "Look": {
        "check": "Is it well formed, do expectations hold, what to look at again?",
        "ladder": "The ranks in order, and who holds each",
        "grid": "Capabilities by ranks; with --at, what a place changes",
        "may": "May they, and why? With --ways, what would turn it",
        "powers": "Which ranks may moderate, assign and manage which, and why not",
        "who": "Who may do something somewhere, and what gives it to them",
        "where": "All places where someone may do something",
        "tour": "The site as someone finds it; with --beside, as two people do",
        "compare": "Two ranks or two people side by side",
    },
    "Change": {
        "impact": "Who gains and who loses what between two communities' files",
        "fit": "Which ranks fit someone who needs certain things, nothing else",
    },
    "People": {
        "cover": "Is every place looked after: how many can, who is the only one?",
        "roster": "The members under their headings; what ends soon, who waits",
    },
    "Files": {
        "export-table": "Write who can use what where, for the site's own database",
        "demo": "Write the demo community, and walk through the main job on it",
    },
}


class Sections(click.Group):
    """A group whose commands stand under headings and are imported when they are asked for."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the commands in the order of the help."""
        return [name for commands in SECTIONS.values() for name in commands]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Import a command."""
        if cmd_name not in self.list_commands(ctx):
            return None
        command: click.Command = import_module(f"ask_above.cli.{cmd_name.replace('-', '_')}").command
        return command

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        """Find a command; where there is none of that name, offer the nearest."""
        if args and not args[0].startswith("-") and args[0] not in self.list_commands(ctx):
            from ask_above.charter.names import nearest

            near = nearest(args[0], self.list_commands(ctx))
            hint = f" Nearest: {', '.join(near)}." if near else " See: ask-above --help"
            raise click.UsageError(f"There is no command '{args[0]}'.{hint}")
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the commands under their headings."""
        for heading, commands in SECTIONS.items():
            with formatter.section(heading):
                formatter.write_dl(list(commands.items()))


EPILOG = """\b
The community's folder is taken from --community DIR, given after the command,
else from ASK_ABOVE_COMMUNITY, else it is the current folder.
Begin with:  ask-above demo wren-valley

\b
Exit status: 0 yes or done, 1 the answer is no or an expectation fails,
2 wrong use, or files that cannot be read.
Completion in bash:  eval "$(_ASK_ABOVE_COMPLETE=bash_source ask-above)"
"""


@click.group(cls=Sections, epilog=EPILOG, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="ask-above", prog_name="ask-above")
def main() -> None:
    """Who may do what, where, and who stands above whom: exact answers, explained."""


def run() -> None:
    """Run the command line; whatever goes wrong reaches the user as a message."""
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")
    try:
        status = main.main(standalone_mode=False)
    except click.exceptions.Abort:
        status = _say("Stopped.", 130)
    except click.ClickException as error:
        error.show()
        status = 2
    except FaultyFilesError as error:
        status = _faults(error)
    except AskAboveError as error:
        status = _say(f"Error: {error}", 2)
    except BrokenPipeError:
        sys.stderr.close()
        status = 0
    except OSError as error:
        status = _say(f"Error: {error.filename or 'a file'}: {error.strerror or error}", 2)
    sys.exit(status if isinstance(status, int) else 0)


def _say(message: str, status: int) -> int:
    click.echo(message, err=True)
    return status


def _faults(error: FaultyFilesError) -> int:
    from ask_above.show.check import show_faults
    from ask_above.show.screen import Screen

    show_faults(Screen.of(sys.stderr), error.faults)
    return 2


if __name__ == "__main__":
    run()
