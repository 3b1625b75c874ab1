"""``ask-above demo``."""

from __future__ import annotations

import shlex
from pathlib import Path

import click

from ask_above.cli.options import full_option
from ask_above.cli.sentence import Spoken
from ask_above.community import Community
from ask_above.demo.walk import walk, write_demo
from ask_above.show.screen import stdout


@click.command("demo", cls=Spoken)
@full_option
@click.argument("directory", default="wren-valley", metavar="[DIR]", type=click.Path(path_type=Path))
def command(directory: Path) -> int:
    """Write the demo community to a folder, and show the main steps on it.

    The folder is ./wren-valley where none is named. Files that are there already are never overwritten.

    \b
    Examples:
      ask-above demo
      ask-above demo my-river
    """
    screen = stdout()
    written = write_demo(directory)
    if written:
        screen.line(f"Wrote {', '.join(written)} to {directory}.")
    else:
        screen.line(f"{directory} holds the demo already; nothing was written.")
    walk(screen, Community.open(directory), shlex.quote(str(directory)))
    return 0
