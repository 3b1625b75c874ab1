"""``ask-above rank``."""

from __future__ import annotations

from collections.abc import Sequence

import click

from ask_above.cli.changing import How, carry_out, change_options, fields_of, words_of
from ask_above.cli.options import complete, open_here
from ask_above.show.screen import stdout

_RANK = complete(lambda c: list(c.charter.ranks))


@click.group("rank")
def command() -> None:
    """Change ranks: their place on the ladder, what they carry, their names.

    Each change is planned, shown, and made in charter.yaml; everything else in the file stays as it is.

    \b
    Examples:
      ask-above rank grant host kit.lend
      ask-above rank move founding-friend --below host --as ada
      ask-above rank withdraw photo.upload --plan
    """


@command.command("add")
@click.argument("key")
@click.argument("fields", nargs=-1, metavar="[FIELD=VALUE]...")
@click.option("--above", metavar="RANK", shell_complete=_RANK, help="Directly above this rank.")
@click.option("--below", metavar="RANK", shell_complete=_RANK, help="Directly below this rank.")
@change_options
def add(key: str, fields: Sequence[str], above: str | None, below: str | None, *, how: How) -> int:
    """Make a rank: ask-above rank add helper title=Helper grants=post.pin,post.write --above volunteer."""
    from ask_above.change import RankAdd

    return carry_out(how, RankAdd(key, {k: v for k, v in fields_of(fields).items() if v is not None}, above, below))


@command.command("copy")
@click.argument("original", shell_complete=_RANK)
@click.argument("key")
@click.argument("fields", nargs=-1, metavar="[FIELD=VALUE]...")
@click.option("--above", metavar="RANK", shell_complete=_RANK, help="Directly above this rank.")
@click.option(
    "--below", metavar="RANK", shell_complete=_RANK, help="Directly below this rank; else below the original."
)
@change_options
def copy(original: str, key: str, fields: Sequence[str], above: str | None, below: str | None, *, how: How) -> int:
    """Make a copy of a rank, which says what it was copied from."""
    from ask_above.change import RankAdd

    said = {k: v for k, v in fields_of(fields).items() if v is not None}
    return carry_out(how, RankAdd(key, said, above, below, copy_of=original))


@command.command("move")
@click.argument("key", shell_complete=_RANK)
@click.option("--above", metavar="RANK", shell_complete=_RANK, help="Directly above this rank.")
@click.option("--below", metavar="RANK", shell_complete=_RANK, help="Directly below this rank.")
@change_options
def move(key: str, above: str | None, below: str | None, *, how: How) -> int:
    """Move a rank up or down the ladder."""
    from ask_above.change import RankMove

    if (above is None) == (below is None):
        raise click.UsageError("Say where to: --above RANK or --below RANK.")
    return carry_out(how, RankMove(key, above, below))


@command.command("rename")
@click.argument("key", shell_complete=_RANK)
@click.option("--title", help="What people call it.")
@click.option("--key", "new_key", metavar="KEY", help="Its key, with every reference to it.")
@change_options
def rename(key: str, title: str | None, new_key: str | None, *, how: How) -> int:
    """Give a rank another title, or another key."""
    from ask_above.change import RankRename

    if title is None and new_key is None:
        raise click.UsageError("Say what: --title TEXT or --key KEY.")
    return carry_out(how, RankRename(key, title, new_key))


@command.command("set")
@click.argument("key", shell_complete=_RANK)
@click.argument("fields", nargs=-1, required=True, metavar="FIELD=VALUE...")
@change_options
def set_fields(key: str, fields: Sequence[str], *, how: How) -> int:
    """Set fields of a rank; nothing after the sign takes a field out: color="#257292" limit=3 badge=."""
    from ask_above.change import RankSet

    return carry_out(how, RankSet(key, fields_of(fields)))


@command.command("grant")
@click.argument("key", shell_complete=_RANK)
@click.argument("names", nargs=-1, required=True, metavar="CAPABILITY...")
@change_options
def grant(key: str, names: Sequence[str], *, how: How) -> int:
    """Let a rank carry capabilities."""
    from ask_above.change import Grant

    return carry_out(how, Grant(key, words_of(names)))


@command.command("withhold")
@click.argument("key", shell_complete=_RANK)
@click.argument("names", nargs=-1, required=True, metavar="CAPABILITY...")
@change_options
def withhold(key: str, names: Sequence[str], *, how: How) -> int:
    """Keep a rank from carrying capabilities."""
    from ask_above.change import Withhold

    return carry_out(how, Withhold(key, words_of(names)))


@command.command("withdraw")
@click.argument("name", metavar="CAPABILITY")
@change_options
def withdraw(name: str, *, how: How) -> int:
    """Keep every rank that carries a capability from carrying it, the unbounded ones aside."""
    from ask_above.change import Withdraw
    from ask_above.change.ranks import carriers
    from ask_above.decide.sources import source_of

    opened = open_here(how.community)
    compiled = opened.decider.compiled
    for key in carriers(opened.charter, name) if name in opened.charter.catalogue.bit else ():
        where, said = source_of(compiled, opened.rank(key), name)
        stdout().line(f"  {opened.rank(key).title} carries {name}{said} ({where})")
    return carry_out(how, Withdraw(name))


@command.command("remove")
@click.argument("key", shell_complete=_RANK)
@click.option("--instead", metavar="RANK", shell_complete=_RANK, help="What its holders are given instead.")
@click.option("--none", "nothing", is_flag=True, help="Its holders are given nothing instead.")
@change_options
def remove(key: str, instead: str | None, *, nothing: bool, how: How) -> int:
    """Remove a rank; says who holds it, and gives them another, or nothing."""
    from ask_above.change import RankRemove

    opened = open_here(how.community)
    rank = opened.rank(key)
    now = opened.names.moment()
    lasting = (each for each in opened.register.assignments if each.period.end is None or each.period.end > now)
    holders = list(dict.fromkeys(each.member for each in lasting if each.rank == key))
    if holders and instead is None and not nothing:
        names = ", ".join(opened.member(each).called for each in holders[:8]) + (" and others" if holders[8:] else "")
        raise click.UsageError(f"{len(holders)} hold {rank.title}: {names}. Say --instead RANK, or --none.")
    return carry_out(how, RankRemove(key, instead))
