"""``ask-above grid``."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import click

from ask_above.charter.names import how_many
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.changing import HOW, How, carry_out, change_options
from ask_above.cli.options import OutFile, alone, at_option, home_of, open_here, tell
from ask_above.cli.sentence import Spoken
from ask_above.community import Community
from ask_above.show.grid import grid_table, show_grid
from ask_above.show.screen import stdout

_SHEET = "Sheet of"
_MADE = re.compile(rf"^{_SHEET} .*?(?: \((?P<place>[a-z0-9_-]+)\))?, as of change (?P<change>\d+)$")
_MOST_SAID = 3


@click.command("grid", cls=Spoken)
@at_option("Show what may be used in this place, and what the place changes.", default=None)
@click.option("--sheet", metavar="FILE", type=OutFile(), help="Write a sheet to fill in: .xlsx, .ods, .csv.")
@click.option(
    "--take",
    metavar="FILE",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    help="Read a filled-in sheet back, as a change.",
)
@asking(community=False, figure=True)
@change_options
def command(at: str | None, sheet: Path | None, take: Path | None, asked: CommandQuestion, *, how: How) -> int:
    """Show capabilities by rank.

    With a place: what someone asked as each rank can use there. A capability of high risk is marked with ! In a sheet
    yes and no are what the charter says itself, and what comes from elsewhere stands in brackets; with --take only
    cells that were changed count, and the effect is shown first, as for every change.

    \b
    Examples:
      ask-above grid
      ask-above grid in notices
      ask-above grid --sheet grid.xlsx
      ask-above grid --at lower-gauges --figure grid.png
    """
    if take is not None:
        alone("--take", f"at {HOW}")
        return _take(how, take, at)
    alone(*(("--sheet", "at") if sheet else ("a grid", "at form figure dark")))
    opened = open_here(how.community)
    place = None if at is None else opened.names.place_number(at)
    if sheet is not None:
        return _write(opened, how, sheet, None if at is None else opened.place(at).key)
    if asked.is_drawn("grid", opened, at=at):
        return 0
    decider = opened.decider
    return asked.answer(lambda: grid_table(decider, place), lambda screen: show_grid(screen, decider, place))


def _write(opened: Community, how: How, file: Path, place: str | None) -> int:
    """Write the grid as a sheet: titles of ranks across, capabilities with their headings down."""
    from ask_above.ask.sheet import CHOICES, COMES, HEADS, KEYS
    from ask_above.ask.sheet import sheet as made
    from ask_above.files.sheets import Layout, write_sheet

    compiled, grid_sheet = opened.decider.compiled, made(opened.decider, place)
    where = "" if place is None else f" in {opened.place(place).called} ({place})"
    last = home_of(how.community).read().loaded
    title = f"{_SHEET} {opened.charter.title}{where}, as of change {last.last if last else 0}"
    names = [rank.called for rank in compiled.ranks]
    lines = [[title], [KEYS, *[""] * (len(HEADS) - 1), *grid_sheet.ranks], [*HEADS, *names]]
    for key, each in compiled.catalogue.capabilities.items():
        lines.append([each.heading, key, each.about, *(grid_sheet.cells[key][rank] for rank in grid_sheet.ranks)])
    write_sheet(file, lines, Layout(2, len(HEADS), (*CHOICES, *COMES.values()), hidden=(1,)), "Grid")
    screen = stdout()
    size = f"{how_many(len(grid_sheet.cells), 'capability', 'capabilities')} by {how_many(len(names), 'rank')}"
    screen.line(f"Wrote {file}: {size}.", "yes")
    screen.paragraph(
        f"Change cells to yes, no or 'as it comes'; then: ask-above grid --take {shlex.quote(str(file))} --plan"
    )
    return 0


def _take(how: How, file: Path, at: str | None) -> int:
    """Take a sheet back: what was changed in it since it was made is a change."""
    from ask_above.ask.sheet import check, filled
    from ask_above.ask.sheet import sheet as made
    from ask_above.files.sheets import read_sheet

    opened = open_here(how.community)
    lines = [line for line in read_sheet(file) if any(cell.strip() for cell in line)]
    match = _MADE.search(lines[0][0]) if lines and lines[0] else None
    place = None if at is None else opened.place(at).key
    before = opened
    if match:
        lines, number = lines[1:], int(match["change"])
        if place not in (None, match["place"]):
            of = opened.place(match["place"]).called if match["place"] else "what ranks grant"
            raise click.UsageError(f"The sheet is of {of}, not of {opened.place(at or '').called}. Leave --at out.")
        place = match["place"]
        # cells are held against the state that the sheet was made from: what others changed since is no change of the
        # sheet
        before = _as_it_was(opened, how, number)
    edits = check(filled(opened.decider, made(before.decider, place), lines))
    if not edits:
        stdout().line("The sheet has no changes.")
        return 0
    return carry_out(how, *edits)


def _as_it_was(opened: Community, how: How, number: int) -> Community:
    """Return the community that a sheet was made from, and say what has changed since."""
    from ask_above.workspace.undoing import as_of

    home = home_of(how.community)
    loaded = home.read().loaded
    last = loaded.last if loaded else 0
    if number >= last:
        return opened
    since = home.entries(since=number)
    many = "One change has" if len(since) == 1 else f"{len(since)} changes have"
    said = "; ".join(f"{each.number}: {each.what}" for each in since[:_MOST_SAID])
    tell([f"{many} been made since this sheet was written ({said}). Only what was filled in counts."])
    return Community(*as_of(home, number))
