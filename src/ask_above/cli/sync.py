"""``ask-above sync``."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ask_above.charter.names import how_many
from ask_above.cli.changing import HOW, How, change_options, see_through
from ask_above.cli.options import alone, home_of, tell
from ask_above.cli.sentence import Spoken
from ask_above.show.screen import stdout

if TYPE_CHECKING:
    from ask_above.files.directories import DirectoryMapping
    from ask_above.workspace.plans import Plan

_PASSWORD = "ASK_ABOVE_DIRECTORY_PASSWORD"  # noqa: S105 (the name of a variable)


@click.command("sync", cls=Spoken)
@click.argument("mapping", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.option("--let-go", is_flag=True, help="Keep by hand what came from it from now on.")
@click.option("--link", is_flag=True, help="Link people who are likely members already.")
@change_options
def command(mapping: Path, *, how: How, let_go: bool, link: bool) -> int:
    """Take members and groups from a directory, as a mapping says: one plan, one change.

    MAPPING is a YAML file: where the directory is (LDAP, or a file of LDIF or SCIM resources), which attribute is what,
    and what its groups give here. Only what it claims is touched; ranks that were given by hand stay. The password to
    bind with is ASK_ABOVE_DIRECTORY_PASSWORD, or is asked for. A directory is read whole or not at all; where more are
    gone than the mapping's most-absent, nothing is done.

    \b
    Examples:
      ask-above sync directory.yaml --plan
      ask-above sync directory.yaml --yes --why "As every night"
    """
    from ask_above.files.directories import read_directory, read_mapping
    from ask_above.workspace import syncing

    mapped = read_mapping(mapping)
    home = home_of(how.community)
    if let_go:
        alone("--let-go", f"mapping {HOW}")
        done = see_through(how, lambda: syncing.plan_letting_go(home, mapped.name, by=how.by, why=how.why))
        if done == 0 and not how.only_plan:
            syncing.let_go(home, mapped.name)
        return done
    read = syncing.understood(mapped, read_directory(mapped, _password(mapped)))
    people = how_many(len(read.people), "person", "people")
    groups = how_many(read.groups, "group")
    stdout().line(f"{mapped.name}: {people}, {groups}", "head")
    stdout().line(f"  people by {mapped.people['filter']} below {mapped.people['base'] or 'all of it'}", "dim")

    def planned() -> Plan:
        return syncing.plan_sync(home, mapped, read, by=how.by, why=how.why, link=link)

    made = planned()
    tell(read.notes)
    # the first plan is shown at once; only where time has passed on its conditions is it made anew
    done = see_through(how, lambda: made if not made.is_overtaken(made.before.moment()) else planned())
    if done == 0 and not how.only_plan and made.source:
        syncing.keep_claims(home, mapped)
    return done


def _password(mapping: DirectoryMapping) -> str | None:
    if "bind" not in mapping.said:
        return None
    known = os.environ.get(_PASSWORD)
    if known is None and not sys.stdin.isatty():
        raise click.UsageError(f"Binding as {mapping.said['bind']} needs a password: set {_PASSWORD}.")
    return known if known is not None else str(click.prompt("Password", hide_input=True, err=True))
