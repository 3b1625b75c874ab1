"""``ask-above new``."""

from __future__ import annotations

import shlex
import sys
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import click

from ask_above.beginnings.from_grid import TickTable, read
from ask_above.beginnings.from_grid import charter as of_table
from ask_above.beginnings.start import KINDS, Answers, assignments, charter, members
from ask_above.charter.moments import zone as known_zone
from ask_above.charter.names import how_many
from ask_above.cli.options import alone, full_option
from ask_above.cli.sentence import Spoken
from ask_above.files.folder import read_texts
from ask_above.files.sheets import read_sheet
from ask_above.files.writing import ASSIGNMENTS, CHARTER, MEMBERS, PRIVATE, batch
from ask_above.people.directory import folded
from ask_above.show.screen import Screen, stdout


@click.command("new", cls=Spoken)
@full_option
@click.argument("directory", metavar="DIR", type=click.Path(path_type=Path, file_okay=False))
@click.option("--title", "--name", metavar="TEXT", help="What the community is called.")
@click.option("--owner", metavar="NAME", help="The owner, by full name.")
@click.option("--email", metavar="ADDRESS", help="The owner's address; optional.")
@click.option("--zone", "--timezone", metavar="ZONE", help="Its time zone, such as Europe/London.")
@click.option("--kind", type=click.Choice(list(KINDS)), help="Which of the six prepared beginnings.")
@click.option(
    "--grid",
    metavar="FILE",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    help="Create it from a table: capabilities down, ranks across, ticks (.csv, .xlsx, .ods).",
)
@click.option(
    "--highest", type=click.Choice(["left", "right"]), help="At which end of a table the highest rank stands."
)
@click.option("--everyone", metavar="RANK", help="The rank of a table that every member has.")
def command(
    directory: Path,
    title: str | None,
    owner: str | None,
    email: str | None,
    zone: str | None,
    kind: str | None,
    grid: Path | None,
    highest: str | None,
    everyone: str | None,
) -> int:
    """Create a community: a charter to read like a page, and the files of its members.

    On a terminal it asks for what is not given. The kinds: rooms to talk in; a journal written by several; a course
    with groups; a club with sections; records: a members' site with a record of people; a shop's back office. Files
    that are there already are never overwritten.

    \b
    Examples:
      ask-above new our-choir
      ask-above new our-choir --grid plan.xlsx
      ask-above new our-choir --kind club --title "Our choir" --owner "Nell Harper" --zone Europe/London
    """
    check_free(directory)
    answered = "directory title owner email zone"
    if grid is None:
        alone("a prepared beginning", f"{answered} kind")
    else:
        alone("--grid", f"{answered} highest everyone")
    table = None if grid is None else _read(grid)
    if not sys.stdin.isatty():
        needed = {"title": title, "owner": owner, "zone": zone, "kind": kind or grid}
        missing = [f"--{name}" for name, said in needed.items() if not said]
        if missing:
            raise click.UsageError(f"No terminal to ask on: add {', '.join(missing)}.")
    screen = stdout()
    title = title or click.prompt("What is it called")
    if owner is None:
        owner = click.prompt("Who is the owner (full name)")
        email = email or click.prompt(
            "How is the owner reached, by email (may stay empty)", default="", show_default=False
        )
    answers = Answers(_text(title), _text(owner), _zone(zone), _text(email or ""))
    day = datetime.now(ZoneInfo(answers.zone)).date().isoformat()
    if table is not None:
        text = _of_table(table, answers, highest, everyone)
        what = f"{how_many(len(table.wishes), 'capability', 'capabilities')} from a table"
    else:
        chosen = kind or _kind(screen)
        text, what = charter(chosen, answers), KINDS[chosen]
    read_texts({CHARTER: text, MEMBERS: members(answers, day), ASSIGNMENTS: assignments()})  # raises where it is none
    write_new(directory, text, members(answers, day))
    tell(screen, directory, answers, what)
    if table is not None:
        screen.line()
        _not_in_table(screen, f" --community {shlex.quote(str(directory))}")
    return 0


def _read(file: Path) -> TickTable:
    """Read a table, and raise with all that could not be understood in it."""
    table = read(read_sheet(file))
    if table.faults:
        raise click.UsageError(f"{file.name} has faults. {' '.join(table.faults)}")
    return table


def _of_table(table: TickTable, answers: Answers, highest: str | None, everyone: str | None) -> str:
    """Make a charter of a table; what it does not say is asked, or taken as is likeliest and told."""
    likely = "left" if table.highest_first else "right"
    if highest is None and sys.stdin.isatty():
        outer = f"{table.ranks[0]} (left) or {table.ranks[-1]} (right)"
        highest = click.prompt(
            f"Which is the highest rank: {outer}", type=click.Choice(["left", "right"]), default=likely
        )
    lowest = table.ranks[-1] if (highest or likely) == "left" else table.ranks[0]
    if everyone is None and sys.stdin.isatty():
        everyone = click.prompt("Which rank does every member have", type=click.Choice(table.ranks), default=lowest)
    said = everyone or lowest
    everyone = next((rank for rank in table.ranks if folded(rank) == folded(said)), None)
    if everyone is None:
        raise click.UsageError(f"The table has no rank '{said}'; it has {', '.join(table.ranks)}.")
    stdout().line(f"The highest rank is at the {highest or likely}; every member has {everyone}.", "dim")
    using = {act: key for act in ("moderate", "assign", "manage") if (key := _using(table, act))}
    return of_table(table, answers, highest_first=(highest or likely) == "left", everyone=everyone, using=using)


def _using(table: TickTable, act: str) -> str:
    """Ask on a terminal which capability an act takes; nothing where it stays the owner's."""
    known = {folded(name): wish.key for wish in table.wishes for name in (wish.about, wish.key)}
    while sys.stdin.isatty():
        answer = click.prompt(
            f"Which capability lets members {act} ranks (empty: owner only)", default="", show_default=False
        )
        if not answer or folded(answer) in known:
            return known.get(folded(answer), "")
        stdout().line(f"The table has no capability '{answer}'.", "warn")
    return ""


def _not_in_table(screen: Screen, where: str) -> None:
    """Say what a table does not have, and the command that sets each."""
    screen.line("Not in the table yet:", "head")
    for what, command in (
        ("which capabilities are of high risk", "charter set capabilities.HEADING.KEY.risk high"),
        ("which capability moderating needs", "charter set rules.authority.moderate.using KEY"),
        ("which capability assigning ranks needs", "charter set rules.authority.assign.using KEY"),
        ("the places", "place add TITLE KIND"),
    ):
        screen.line(f"  ask-above {command}{where}")
        screen.line(f"      {what}", "dim")


def check_free(directory: Path) -> None:
    """Raise where files of a community are there already."""
    there = [name for name in (CHARTER, MEMBERS, ASSIGNMENTS) if (directory / name).exists()]
    if there:
        raise click.UsageError(f"'{directory}' holds {', '.join(there)} already; nothing was written. Name another.")


def write_new(directory: Path, charter_text: str, members_text: str) -> None:
    """Write the three files, all of them or none."""
    directory.mkdir(parents=True, exist_ok=True)
    with batch() as made:
        made.prepare(directory / CHARTER, charter_text.encode("utf-8"))
        made.prepare(directory / MEMBERS, members_text.encode("utf-8"), PRIVATE)
        made.prepare(directory / ASSIGNMENTS, assignments().encode("utf-8"), PRIVATE)
        made.place()


def tell(screen: Screen, directory: Path, answers: Answers, what: str) -> None:
    """Say what was written, and what to type next."""
    where = f" --community {shlex.quote(str(directory))}"
    screen.line(f"{answers.title}: {what}", "head")
    screen.paragraph(
        f"Wrote {CHARTER}, {MEMBERS} and {ASSIGNMENTS} to {directory}. The owner is {answers.owner} "
        f"({answers.owner_key}). Open {directory / CHARTER} and read it from top to bottom; change what does not fit."
    )
    screen.head("Next steps:")
    for sentence, why in (
        (f"ask-above check{where}", "check the files and expectations"),
        (f"ask-above grid{where}", "see capabilities by rank"),
        (f'ask-above member add ida --name "Ida Reed"{where}', "add a member"),
        (f"ask-above ladder{where}", "see the ranks; assign one: ask-above assign RANK MEMBER"),
    ):
        screen.line(f"  {sentence}")
        screen.line(f"      {why}", "dim")


def _text(said: str) -> str:
    return " ".join(said.split())


def _zone(said: str | None) -> str:
    """Return the time zone that was said, or ask for one until it is known."""
    while True:
        name = said or click.prompt("In which time zone", default=_here())
        if known_zone(name) is not None and name in _names():
            return str(name)
        from ask_above.charter.names import nearest

        near = nearest(name.rpartition("/")[2], {each.rpartition("/")[2]: each for each in _names()})
        full = ", ".join(each for each in sorted(_names()) if each.rpartition("/")[2] in near)
        wrong = f"There is no time zone '{name}'." + (f" Nearest: {full}." if full else " Such as: Europe/London.")
        if said is not None:
            raise click.UsageError(wrong)
        stdout().line(wrong, "warn")


def _names() -> set[str]:
    from ask_above.charter.moments import zone_names

    return zone_names()


def _here() -> str:
    """Return the time zone of this machine, where it says one."""
    try:
        name = "/".join(Path("/etc/localtime").resolve().parts[-2:])
    except OSError:
        return "UTC"
    return name if name in _names() else "UTC"


def _kind(screen: Screen) -> str:
    screen.line("What kind of site is it?")
    kinds = list(KINDS)
    for n, each in enumerate(kinds, 1):
        screen.line(f"  {n}. {KINDS[each]}")
    chosen = click.prompt("A number", type=click.IntRange(1, len(kinds)))
    return kinds[chosen - 1]
