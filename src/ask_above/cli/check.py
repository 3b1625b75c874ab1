"""``ask-above check``."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeAlias

import click

from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import alone, open_here, progress, write_findings
from ask_above.cli.sentence import Spoken
from ask_above.community import Community
from ask_above.errors import FaultyFilesError
from ask_above.show.check import check_table, fault_table, show_advice, show_check, show_faults, show_later
from ask_above.show.data import Form, Table, write_json
from ask_above.show.screen import Screen, stdout

if TYPE_CHECKING:
    from ask_above.ask.advice.piece import Piece
    from ask_above.ask.expect import Unmet

Found: TypeAlias = "tuple[Sequence[Unmet], Sequence[tuple[str, Unmet]], Sequence[Piece]]"
"""The expectations that do not hold, those that will not, and the advice."""


_FOR_PROGRAMS = (Form.SARIF, Form.JUNIT)
_MOST_MENDED = 5


@click.command("check", cls=Spoken)
@click.option("--advice", is_flag=True, help="Only the advice.")
@click.option("--schema", is_flag=True, help="Write the charter's format as a JSON Schema, for editors, and stop.")
@click.option("--with-names", is_flag=True, help="For --schema: with this charter's own names, to be offered.")
@click.option(
    "--each",
    metavar="DIR",
    type=click.Path(path_type=Path, exists=True, file_okay=False),
    help="Every community in this folder, as one table.",
)
@click.option("--fix", is_flag=True, hidden=True)
@click.option("--strict", is_flag=True, help="Exit with 1 where there is advice, too.")
@asking(findings=True)
def command(
    asked: CommandQuestion, *, advice: bool, fix: bool, schema: bool, with_names: bool, strict: bool, each: Path | None
) -> int:
    """Check files and expectations, and list advice.

    Every fault of every file is reported in one run. Exit status 1 where an expectation fails (with --strict also where
    there is advice), 2 where the files cannot be meant as they stand. Advice that is meant is silenced by its code in
    the charter: rules.advice.silent.

    \b
    Examples:
      ask-above check
      ask-above check --advice --format md
      ask-above check --community wren-valley --format json
      ask-above check --strict --format sarif
      ask-above check --schema --with-names
      ask-above check --each ./communities
    """
    # some type it out of habit: they are told what to do in its place
    if fix:
        raise click.UsageError("check changes nothing. It shows the commands that correct what it finds: check --full")
    if each is not None:
        alone("--each", "form")
        return _each(each, asked)
    if with_names and not schema:
        raise click.UsageError("--with-names goes with --schema.")
    if schema:
        alone("--schema", "with_names")
        write_json(sys.stdout, _schema(asked.community, with_names=with_names))
        return 0
    try:
        opened = asked.opened
    except FaultyFilesError as error:
        return _faulty(error, asked)
    unmet = [] if advice else opened.unmet()
    later = [] if advice else opened.unmet_later()
    with progress("Looking") as told:
        given = opened.advice(told=told)

    def show(screen: Screen) -> None:
        if not advice:
            show_check(screen, opened.decider, unmet, mends=_mends(opened, unmet))
            show_later(screen, later)
            _show_by_hand(opened)
        show_advice(screen, given)

    # an edit by hand that undid a change counts like a failure, until somebody says that it is known
    undone = bool(opened.home.read().undone)
    status = _status(unmet, later, given.pieces, strict=strict) or int(undone)
    if asked.form in _FOR_PROGRAMS:
        _findings(asked, (unmet, later, given.pieces), strict=strict)
        return status
    return asked.answer(lambda: check_table(opened.decider, unmet, given, later), show, status)


def _mends(opened: Community, unmet: Sequence[Unmet]) -> list[str]:
    """Return what would make the first few expectations hold again, each tried."""
    from ask_above.ask.ways.search import mending

    some, mends = unmet[:_MOST_MENDED], list[str]()
    with progress("What would mend it") as told:
        for n, each in enumerate(some, 1):
            mends.append(mending(opened.decider, each, opened.names.moment()))
            told(n, len(some))
    return mends


def _each(folder: Path, asked: CommandQuestion) -> int:
    """Show every community in a folder; 2 where one cannot be read, 1 where an expectation of one does not hold."""
    from ask_above.show.check import COLUMNS, hosted, show_hosted

    if asked.form in _FOR_PROGRAMS:
        raise click.UsageError(f"--format {asked.form} is of one community; leave out --each.")
    with progress("Communities") as told:
        communities = hosted((file.parent for file in folder.glob("*/charter.yaml")), told)
    if not communities:
        raise click.UsageError(f"No folder in '{folder}' holds a charter.yaml.")
    status = 2 if any(one.faults for one in communities) else int(any(one.unmet for one in communities))
    return asked.answer(lambda: Table(COLUMNS, communities), lambda screen: show_hosted(screen, communities), status)


def _schema(community: str | None, *, with_names: bool) -> dict[str, Any]:
    from ask_above.charter.reading.schema import json_schema, schema_with_names

    if not with_names:
        return json_schema()
    opened = open_here(community)
    return schema_with_names(opened.charter, opened.register.members)


def _status(unmet: Sequence[Unmet], later: Sequence[object], pieces: Sequence[Piece], *, strict: bool) -> int:
    return 1 if unmet or (strict and (pieces or later)) else 0


def _findings(asked: CommandQuestion, found: Found, *, strict: bool) -> None:
    """Write what was found for the programs around a repository; where advice counts, it counts as failed."""
    from ask_above.show import findings, junit

    cases = junit.of_expectations(asked.opened.charter.expectations, *found[:2])
    if strict:
        cases += junit.of_findings(findings.of_check([], *found[1:]))
    status = _status(*found, strict=strict)
    write_findings(asked.form, asked.community, "check", findings.of_check(*found), cases, status)


def _show_by_hand(opened: Community) -> None:
    """Show what an edit by hand has come to, as a plan would."""
    from ask_above.show.impact import show_by_hand
    from ask_above.workspace.plans import by_hand

    edited = by_hand(opened.home, opened.home.read(), opened.names, opened.names.moment())
    if edited is not None:
        show_by_hand(stdout(), edited)


def _faulty(error: FaultyFilesError, asked: CommandQuestion) -> int:
    def show(screen: Screen) -> None:
        show_faults(screen, error.faults)
        if error.way_back:
            screen.paragraph(error.way_back, first="→ ", rest="  ")

    if asked.form in _FOR_PROGRAMS:
        from ask_above.show import findings, junit

        said = findings.of_faults(error.faults), junit.of_faults(error.faults)
        write_findings(asked.form, asked.community, "check", *said, 2)
        return 2
    return asked.answer(lambda: fault_table(error.faults), show, 2)
