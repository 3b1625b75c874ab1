"""``ask-above charter``."""

from __future__ import annotations

import re
from typing import Any

import click

from ask_above import change
from ask_above.cli.changing import How, carry_out, change_options
from ask_above.cli.options import community_option, open_here
from ask_above.cli.sentence import ExactGroup
from ask_above.errors import QuestionError
from ask_above.visible import visible


@click.group("charter", cls=ExactGroup)
def command() -> None:
    """Read or change any part of the charter: rules, catalogue, bundles, override sets, perks, expectations.

    PATH names a spot by its keys, joined by dots: rules.authority.moderate.over, bundles.upkeep, ranks.host.limit. An
    item of a list is named by its key, its number from 1, or what it says.

    \b
    Examples:
      ask-above charter get rules.authority
      ask-above charter set rules.authority.moderate.over level --plan
      ask-above charter add bundles.calming thread.close --plan
      ask-above charter remove rules.seeing --plan
    """


@command.command("get")
@click.argument("path", required=False, default="")
@community_option
def get(path: str, community: str | None) -> int:
    """Show a part of the charter, as it is written.

    \b
    Example:
      ask-above charter get rules
    """
    import yaml

    from ask_above.change.steps import at
    from ask_above.change.whole import found, missing
    from ask_above.cli.options import home_of
    from ask_above.files.yaml_text import compose, plain

    open_here(community)
    home = home_of(community)
    data = plain(compose(home.read().texts[home.name]))
    where, rest = found(data, path) if path else ((), [])
    if rest:
        raise QuestionError(missing(data, path))
    said = at(data, where)
    text = said if isinstance(said, str) else yaml.safe_dump(said, sort_keys=False, allow_unicode=True).rstrip()
    click.echo(visible(text, breaks=True))
    return 0


@command.command("set")
@click.argument("path")
@click.argument("value")
@change_options
def set_(path: str, value: str, *, how: How) -> int:
    """Set a part of the charter.

    \b
    Example:
      ask-above charter set rules.disagreement deny --plan
    """
    return carry_out(how, change.CharterSet(path, _value(value)))


@command.command("add")
@click.argument("path")
@click.argument("value")
@change_options
def add(path: str, value: str, *, how: How) -> int:
    """Add to a list, or KEY=VALUE to named things.

    \b
    Examples:
      ask-above charter add expectations "host may thread.close in river-talk" --plan
      ask-above charter add capabilities.Posts post.quote="Quote a post" --plan
    """
    entry = re.fullmatch(r"([a-z][a-z0-9._-]*)=(.+)", value)
    edit = (
        change.CharterAdd(path, _value(entry[2]), named=entry[1]) if entry else change.CharterAdd(path, _value(value))
    )
    return carry_out(how, edit)


@command.command("remove")
@click.argument("path")
@click.argument("value", required=False)
@change_options
def remove(path: str, value: str | None, *, how: How) -> int:
    """Remove a part of the charter, or one item of a list.

    \b
    Example:
      ask-above charter remove rules.seeing --plan
    """
    return carry_out(how, change.CharterRemove(path, None if value is None else _value(value)))


def _value(text: str) -> Any:
    """Read a value: a list or mapping as YAML writes it in one line, else text as it stands."""
    from ask_above.files.yaml_text import read_yaml

    if text.strip()[:1] not in ("[", "{"):
        return text
    document = read_yaml("the value", text.encode())
    if document.faults:
        fault = document.faults[0]
        raise QuestionError(f"{text} is no list or mapping in one line, such as [a, b] or {{a: 1}}: {fault.message}.")
    return document.data
