"""``ask-above group``."""

from __future__ import annotations

from collections.abc import Sequence

import click

from ask_above import change
from ask_above.charter.names import listed
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.changing import How, carry_out, change_options, fields_said, naming, new_thing, set_command
from ask_above.cli.options import complete, groups
from ask_above.cli.sentence import SpokenGroup
from ask_above.people.directory import NameKind
from ask_above.people.register import reached_groups
from ask_above.show.data import Table
from ask_above.show.screen import Screen

_GROUP = complete(groups)


@click.group("group", cls=SpokenGroup)
def command() -> None:
    """List, add, set, rename and remove groups; member put and member take change who is in them.

    \b
    Examples:
      ask-above group list
      ask-above group add night-watch title="Night watch" confers=volunteer --plan
      ask-above member put dara tove upper-team --plan
    """


@command.command("list")
@asking()
def list_groups(asked: CommandQuestion) -> int:
    """List the groups, their members, and what they include and confer.

    \b
    Example:
      ask-above group list
    """
    opened, charter = asked.opened, asked.opened.charter
    reached = [reached_groups(charter, member) for member in opened.register.members.values()]
    inside = {key: sum(key in groups for groups in reached) for key in charter.groups}
    rows = []
    for key, group in charter.groups.items():
        confers = [
            charter.ranks[c.rank].called + ("" if c.place == "site" else f" in {charter.places[c.place].called}")
            for c in group.confers
        ]
        includes = [charter.groups[other].called for other in group.includes]
        rows.append((key, group.title, inside[key], listed(includes), listed(confers)))

    def show(screen: Screen) -> None:
        heads = ["Key", "Title", "Members", "Includes", "Confers"]
        if rows:
            told = [(key, charter.groups[key].called, f"{many:,}", *rest) for key, _, many, *rest in rows]
            screen.table(heads, told, right=[2])
        else:
            screen.line("There are no groups. Make one: ask-above group add KEY title=TITLE")

    return asked.answer(lambda: Table(("group", "title", "members", "includes", "confers"), rows), show)


@command.command("add", fields=lambda: fields_said("GROUP"))
@click.argument("key")
@click.argument("fields", nargs=-1, metavar="[FIELD=VALUE]...")
@change_options
def add(key: str, fields: Sequence[str], *, how: How) -> int:
    """Add a group; a title in place of the key sets both.

    \b
    Example:
      ask-above group add night-watch title="Night watch" includes=upper-team confers=volunteer
    """
    return carry_out(how, change.GroupAdd(*new_thing(how, NameKind.GROUP, key, fields)))


set_command(
    command,
    _GROUP,
    "GroupSet",
    """Set title, about, includes or confers of a group; nothing after the sign takes it out.

\b
Example:
  ask-above group set upper-team about="Above the weir" --plan
""",
)


@command.command("rename")
@click.argument("key", shell_complete=_GROUP)
@naming
@change_options
def rename(key: str, title: str | None, new_key: str | None, *, how: How) -> int:
    """Rename a group, or change its key in every reference to it.

    \b
    Example:
      ask-above group rename upper-team Upper folk --plan
    """
    return carry_out(how, change.GroupRename(key, title, new_key))


@command.command("remove")
@click.argument("keys", nargs=-1, required=True, metavar="GROUP...", shell_complete=_GROUP)
@change_options
def remove(keys: Sequence[str], *, how: How) -> int:
    """Remove groups; their members leave them.

    \b
    Example:
      ask-above group remove samplers --plan
    """
    return carry_out(how, *(change.GroupRemove(key) for key in keys))
