"""``ask-above check``."""

from __future__ import annotations

import sys

import click

from ask_above.cli.options import community_option, folder, format_option
from ask_above.community import Community
from ask_above.errors import FaultyFilesError
from ask_above.show.check import (
    FAULT_COLUMNS,
    check_data,
    fault_data,
    fault_rows,
    show_check,
    show_faults,
)
from ask_above.show.data import write_table
from ask_above.show.screen import stdout


@click.command("check")
@community_option
@format_option
def command(community: str | None, form: str) -> int:
    """Check that the files are well formed, and that the charter holds to its expectations.

    Every fault of every file is reported in one run. Exit status 1 where an expectation fails, 2 where the files
    cannot be meant as they stand.

    \b
    Examples:
      ask-above check
      ask-above check --community wren-valley --format json
    """
    try:
        opened = Community.open(folder(community), keep=True)
    except FaultyFilesError as error:
        _faulty(error, form)
        return 2
    unmet = opened.unmet()
    if form == "text":
        show_check(stdout(), opened.decider, unmet)
    else:
        rows = [
            (each.expectation.where.file, each.expectation.where.line, each.expectation.text, each.because)
            for each in unmet
        ]
        columns = ("file", "line", "expectation", "because")
        write_table(sys.stdout, form, columns, rows, check_data(opened.decider, unmet))
    return 1 if unmet else 0


def _faulty(error: FaultyFilesError, form: str) -> None:
    if form == "text":
        show_faults(stdout(), error.faults)
    else:
        write_table(sys.stdout, form, FAULT_COLUMNS, fault_rows(error.faults), fault_data(error.faults))
