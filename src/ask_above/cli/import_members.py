"""``ask-above import``."""

from __future__ import annotations

import re
import shlex
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import click

from ask_above import change
from ask_above.charter.names import few, listed
from ask_above.cli.changing import HOW, How, asked, change_options, see_through
from ask_above.cli.member import GivenRank, with_rank
from ask_above.cli.moments import MomentWords, meant
from ask_above.cli.options import OutFile, alone, home_of, open_here, progress, tell
from ask_above.cli.sentence import Spoken
from ask_above.errors import FaultyFilesError
from ask_above.people.directory import NameKind
from ask_above.show.screen import stdout

if TYPE_CHECKING:
    from ask_above.decide.names import Names
    from ask_above.people.reading import FileRow, FileRows
    from ask_above.people.recognising import Known, Recogniser
    from ask_above.people.register import Register
    from ask_above.workspace.home import Home

_MOST_NAMED = 8
_ISO = re.compile(r"\d{4}-\d{2}-\d{2}")
_MOST_MISSING = 0.2
"""A file that lacks a greater share of the members is refused."""


@click.command("import", cls=Spoken)
@click.argument("file", required=False, type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.option(
    "--status", type=click.Choice(["active", "pending", "invited"]), help="What those are whose row does not say."
)
@click.option(
    "--map",
    "mapped",
    multiple=True,
    metavar="COLUMN=FIELD|FILE",
    help="Which field a column is, again and again; or a file with such lines.",
)
@click.option("--save-map", metavar="FILE", type=OutFile(), help="Keep what --map says, for --map.")
@click.option(
    "--absent",
    type=click.Choice(["leave", "tell", "retire"]),
    default="leave",
    show_default=True,
    help="What becomes of members whom the file does not name.",
)
@click.option("--link", is_flag=True, help="Link people who are likely members already.")
@click.option("--days-first", is_flag=True, help="Of dates that could be two days the day stands first.")
@with_rank
@click.option("--anew", is_flag=True, help="Start anew from the two CSV files; the database is put aside.")
@change_options
def command(
    file: Path | None,
    status: str | None,
    mapped: Sequence[str],
    save_map: Path | None,
    absent: str,
    *,
    anew: bool,
    link: bool,
    days_first: bool,
    given: GivenRank,
    how: How,
) -> int:
    """Merge a file of members or assignments (.csv, .xlsx, .ods) into the register; all of it or nothing.

    Separators, signs, dates and columns are recognised and told; --plan shows the first ten rows. A file of members has
    the columns key, name, email, kind, status, joined, groups, note, id, user_name, external_id, was, or what people
    call these; without a key members are found by their external id or user name. Who has the address or the name of
    somebody here is likely the same person: it is asked, or --link links them. New ones get a key from their name. An
    empty cell leaves what there is. A file with the columns member and rank is one of assignments: those that are not
    held are given.

    \b
    Examples:
      ask-above import newcomers.csv --status pending --plan
      ask-above import newcomers.csv --status active --map "note=" --absent tell --plan
      ask-above import course.csv --rank surveyor in field --until 2027-12-31 --plan
      ask-above import assignments.put-aside.csv
      ask-above import --anew
    """
    if anew:
        alone("--anew", "only_plan yes")
        return _anew(how)
    if file is None:
        raise click.UsageError("Name a file to merge, or say --anew.")
    mapping = _mapping(mapped)
    saved = "".join(f"{column}={field}\n" for column, field in mapping.items())
    if save_map is not None and save_map.exists() and save_map.read_text("utf-8", errors="replace") != saved:
        raise click.UsageError(f"'{save_map}' is there already and says something else; name another file.")
    from ask_above.files.people_lists import column_of_ranks
    from ask_above.files.sheets import as_csv

    content = as_csv(file)
    if ranks := column_of_ranks(content, mapping):
        alone("a file of assignments", f"file mapped save_map days_first {HOW}")
        return _keep_map(save_map, saved, how, _assignments(how, file, content, ranks, mapping, days_first=days_first))
    rank = given.to(how, "")
    wishes = Wishes(status or "", mapping, absent, link, days_first, rank[0] if rank else None)
    return _keep_map(save_map, saved, how, _members(how, file.name, content, wishes))


def _keep_map(file: Path | None, saved: str, how: How, done: int) -> int:
    """Keep what was mapped, once an import is made; returns its exit status."""
    if file is not None and not done and not how.only_plan:
        file.write_text(saved, encoding="utf-8")
    return done


class Wishes(NamedTuple):
    """What the options say of a list of members."""

    status: str
    mapping: Mapping[str, str]
    absent: str
    link: bool
    days_first: bool
    given: change.Assign | None


def _members_first(file: Path, ranks: str) -> tuple[str, str]:
    """Say how a list of people and their ranks is taken in two steps."""
    command = f"ask-above import {shlex.quote(str(file))} --map {shlex.quote(f'{ranks}=')}"
    return (
        f"The column {ranks} makes {file.name} a list of assignments to members who are here already.",
        f"To add the members first: {command}; then import it again.",
    )


def _assignments(
    how: How, file: Path, content: bytes, ranks: str, mapping: Mapping[str, str], *, days_first: bool
) -> int:
    from ask_above.change.importing import ImportAssignments
    from ask_above.files.people_lists import read_given
    from ask_above.workspace.plans import Plan, plan
    from ask_above.workspace.storage import opened

    home = home_of(how.community)

    def planned() -> Plan:
        rows, notes = read_given(file.name, content, mapping, days_first=days_first)
        names = opened(home, home.read())
        addresses: dict[str, list[str]] = {}
        for member in names.register.members.values():
            addresses.setdefault(member.email.casefold(), []).append(member.key)
        rows.rows = [_by_key(names, rows, row, addresses) for row in rows.rows]
        if rows.faults:
            raise FaultyFilesError(rows.faults)
        tell(notes)
        try:
            with progress("Assignments") as told:
                return plan(home, [ImportAssignments(rows, told)], by=how.by, why=how.why)
        except FaultyFilesError as error:
            if any(fault.code == "unknown-member" for fault in error.faults):
                tell(_members_first(file, ranks))
            raise

    return see_through(how, planned)


def _by_key(names: Names, rows: FileRows, row: FileRow, addresses: Mapping[str, Sequence[str]]) -> FileRow:
    """Return a row of assignments by keys and ISO dates, as far as it is understood; ``addresses`` are members'."""
    called = [cell for column, cell in row.cells.items() if column.startswith("member") and cell]
    known_by = [names.directory.find(cell, NameKind.MEMBER) for cell in called]
    keys_meant = dict.fromkeys(known.key for known in known_by if known is not None)
    keys_meant |= dict.fromkeys(keys[0] for cell in called if len(keys := addresses.get(cell.casefold(), ())) == 1)
    if len(keys_meant) > 1:
        rows.fault(row, "member", "two-members", f"{listed(map(repr, called))} are not one member", "one in each row")
    cells = {column: cell for column, cell in row.cells.items() if not column.startswith("member")}
    cells["member"] = next(iter(keys_meant), called[0] if called else "")
    for column, kind in (("rank", NameKind.RANK), ("place", NameKind.PLACE)):
        known = names.directory.find(cells[column], kind) if cells.get(column) else None
        cells |= {column: known.key} if known else {}
    for column in ("from", "until"):
        cell = cells.get(column, "")
        if cell and not _ISO.match(cell):
            moment = meant(MomentWords(cell), names.charter.zone)
            cells[column] = moment.isoformat() if moment else cell
    return row._replace(cells=cells)


def _members(how: How, name: str, content: bytes, wishes: Wishes) -> int:
    from ask_above.change.importing import Import
    from ask_above.files.people_lists import read_people
    from ask_above.show.plans import show_understood
    from ask_above.workspace.plans import Plan, plan

    home = home_of(how.community)
    rows, understood = read_people(name, content, wishes.mapping, days_first=wishes.days_first)
    show_understood(stdout(), name, understood, whole=how.only_plan or sys.stdin.isatty())
    if rows.faults and not understood.rows:
        raise FaultyFilesError(rows.faults)
    same, shows = _look_for_others(how, home, name, content, wishes)

    def planned() -> Plan:
        again, _ = read_people(name, content, wishes.mapping, days_first=wishes.days_first)
        again.rows = [
            row._replace(cells={**row.cells, "key": same[row.line]}) if row.line in same else row for row in again.rows
        ]
        with progress("Members") as told:
            retires = wishes.absent == "retire"
            edit = Import(again, wishes.status, told, retires, wishes.link, shows, _given(how, wishes.given))
            return plan(home, [edit], by=how.by, why=how.why)

    return see_through(how, planned)


def _given(how: How, edit: change.Assign | None) -> change.Assign | None:
    """Return what all in the list are given, by its keys."""
    if edit is None:
        return None
    opened = open_here(how.community)
    return edit._replace(rank=opened.rank(edit.rank).key, place=opened.place(edit.place).key)


def _look_for_others(how: How, home: Home, file: str, content: bytes, wishes: Wishes) -> tuple[dict[int, str], bool]:
    """Tell whom the file does not name, and ask who may be somebody's double; refuse where too many are missing.

    Returns whom a line is about where that was answered, and whether names may be told; where nobody can be asked such
    a line is a fault. Names are told to those alone who may see them (``rules.contacts``).
    """
    from ask_above.ask.choosing import sees
    from ask_above.change.draft import Draft
    from ask_above.change.importing import absent
    from ask_above.files.people_lists import read_people
    from ask_above.people.recognising import Recogniser, known_of, new_key
    from ask_above.workspace.plans import named
    from ask_above.workspace.storage import opened

    snapshot = home.read()
    names = opened(home, snapshot)
    seeing, _ = sees(names.decider, names.moment(), named(names, how.by) or None)
    rows, _ = read_people(file, content, wishes.mapping, days_first=wishes.days_first)
    members, people, meant = snapshot.register.members, Recogniser(), dict[int, str]()
    asks = not how.yes and sys.stdin.isatty()
    for row in rows.rows if seeing and not wishes.link else ():
        known = known_of(row.cells)
        likely = [] if row.cells.get("key") else _likely(people, snapshot.register, known)
        if likely and not asks and known.email and members[likely[0]].email.casefold() != known.email.casefold():
            tell([f"Line {row.line}: {known.name} may be {likely[0]}; a column key says who is meant."])
        for key in likely[:1] if asks else ():
            called = f"{members[key].called} ({key}, {members[key].email or 'no address'})"
            same = asked(f"Line {row.line}: is {known.name} ({known.email or 'no address'}) the member {called}?")
            taken = {*members, *snapshot.charter.ranks, *meant.values()}
            meant[row.line] = key if same else new_key(known.name or known.email.partition("@")[0], taken)
    rows.rows = [
        row._replace(cells={**row.cells, "key": meant[row.line]}) if row.line in meant else row for row in rows.rows
    ]
    if wishes.absent == "leave":
        return meant, seeing
    draft = Draft(dict, snapshot.charter, snapshot.register, 0, "")
    missing = absent(rows, draft)
    active = sum(member.is_active for member in members.values())
    if missing:
        called = few((members[key].called if seeing else key for key in missing), _MOST_NAMED)
        tell([f"The file does not name {len(missing):,} of {active:,} active members: {called}."])
    if wishes.absent == "retire" and len(missing) > _MOST_MISSING * active and not how.force:
        raise click.UsageError(
            f"{len(missing):,} of {active:,} active members are missing from {file}, more than a fifth: that looks "
            "like half a file. Nothing was done; --force retires them all the same, with a reason."
        )
    return meant, seeing


def _likely(people: Recogniser, register: Register, known: Known) -> list[str]:
    """Return who is likely meant by a row that names nobody beyond doubt."""
    from ask_above.people.recognising import TwoPeopleError

    try:
        if people.who(register, known) is not None:
            return []
        return [*people.likely(register, known), *people.likely(register, known._replace(email=""))]
    except TwoPeopleError:
        return []  # told as a fault


def _mapping(said: Sequence[str]) -> dict[str, str]:
    """Read COLUMN=FIELD again and again, and files with such lines."""
    fields: dict[str, str] = {}
    for each in said:
        lines = [each] if "=" in each else _lines_of(Path(each))
        for line in lines:
            column, sign, field = line.partition("=")
            if not sign:
                raise click.UsageError(f"'{line}' is no COLUMN=FIELD.")
            fields[column.strip()] = field.strip()
    return fields


def _lines_of(file: Path) -> list[str]:
    if not file.is_file():
        raise click.UsageError(f"'{file}' is neither COLUMN=FIELD nor a file with such lines.")
    from ask_above.files.yaml_text import text_of

    return [line for line in text_of(file).split("\n") if line.strip()]


def _anew(how: How) -> int:
    """Put the database aside, so that the two CSV files hold the register again."""
    from ask_above.workspace.anew import ready_for_anew, start_anew

    home = home_of(how.community)
    if how.by:
        raise click.UsageError("Only the maintainer of the files starts anew; leave out --as.")
    size = ready_for_anew(home)
    stdout().paragraph(
        f"The register is read from members.csv and assignments.csv from now on, with {size} members. The database and "
        "its journal are put aside: nothing of them is lost, and nothing of them counts."
    )
    if how.only_plan:
        stdout().line("Nothing was done; this was the plan.", "dim")
        return 0
    if not how.yes and not asked("Start anew?"):
        return 1
    for line in start_anew(home):
        stdout().line(line, "yes")
    return 0
