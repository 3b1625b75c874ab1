"""``ask-above rank``."""

from __future__ import annotations

from collections.abc import Sequence

import click

from ask_above import change
from ask_above.charter.ladder import Rank
from ask_above.charter.names import few, how_many, listed
from ask_above.cli.changing import How, carry_out, change_options, fields_said, naming, new_thing, set_command, words_of
from ask_above.cli.options import complete, open_here, ranks, tell
from ask_above.cli.sentence import SpokenGroup
from ask_above.people.directory import NameKind
from ask_above.show.screen import stdout

_RANK = complete(ranks)
_FEW = 8


@click.group("rank", cls=SpokenGroup)
def command() -> None:
    """Change ranks: their place on the ladder, what they grant, their names.

    Each change is planned, shown, and made in charter.yaml; everything else in the file stays as it is.

    \b
    Examples:
      ask-above rank grant host kit.lend
      ask-above rank move founding-friend --below host --as ada
      ask-above rank withdraw photo.upload --plan
    """


@command.command("add", fields=lambda: fields_said("RANK"))
@click.argument("key")
@click.argument("fields", nargs=-1, metavar="[FIELD=VALUE]...")
@click.option("--above", metavar="RANK", shell_complete=_RANK, help="Directly above this rank.")
@click.option("--below", metavar="RANK", shell_complete=_RANK, help="Directly below this rank.")
@click.option("--top", is_flag=True, help="Above all others.")
@change_options
def add(key: str, fields: Sequence[str], above: str | None, below: str | None, *, top: bool, how: How) -> int:
    """Add a rank; a title in place of the key sets both.

    \b
    Example:
      ask-above rank add helper title=Helper grants=place.pin,post.write --above volunteer
    """
    if top and (above or below):
        raise click.UsageError("Give one of --top, --above RANK and --below RANK.")
    above = next(iter(open_here(how.community).charter.ranks), None) if top else above
    return carry_out(how, change.RankAdd(*new_thing(how, NameKind.RANK, key, fields), above, below))


@command.command("copy", fields=lambda: fields_said("RANK"))
@click.argument("original", shell_complete=_RANK)
@click.argument("key")
@click.argument("fields", nargs=-1, metavar="[FIELD=VALUE]...")
@click.option("--above", metavar="RANK", shell_complete=_RANK, help="Directly above this rank.")
@click.option(
    "--below", metavar="RANK", shell_complete=_RANK, help="Directly below this rank; else below the original."
)
@click.option("--without", metavar="CAPABILITY,...", help="What the copy does not grant.")
@change_options
def copy(
    original: str,
    key: str,
    fields: Sequence[str],
    above: str | None,
    below: str | None,
    without: str | None,
    *,
    how: How,
) -> int:
    """Copy a rank.

    \b
    Example:
      ask-above rank copy surveyor sampler title=Sampler --without reading.post --plan
    """
    key, said = new_thing(how, NameKind.RANK, key, fields)
    less = [change.Withhold(key, words_of([without]))] if without else []
    return carry_out(how, change.RankAdd(key, said, above, below, copy_of=original), *less)


@command.command("move")
@click.argument("key", shell_complete=_RANK)
@click.option("--above", metavar="RANK", shell_complete=_RANK, help="Directly above this rank.")
@click.option("--below", metavar="RANK", shell_complete=_RANK, help="Directly below this rank.")
@click.option("--top", "spot", flag_value="top", help="Above all others.")
@click.option("--bottom", "spot", flag_value="bottom", help="Below all others, automatic ranks aside.")
@click.option("--up", "spot", flag_value="up", help="One position up.")
@click.option("--down", "spot", flag_value="down", help="One position down.")
@change_options
def move(key: str, above: str | None, below: str | None, spot: str | None, *, how: How) -> int:
    """Move a rank up or down the ladder.

    \b
    Example:
      ask-above rank move host --up --plan
    """
    if sum(each is not None for each in (above, below, spot)) != 1:
        raise click.UsageError("Give one of --above RANK, --below RANK, --top, --bottom, --up and --down.")
    if spot is not None:
        opened = open_here(how.community)
        above, below = _beside(list(opened.charter.ranks.values()), opened.rank(key), spot)
    return carry_out(how, change.RankMove(key, above, below))


def _beside(ranks: Sequence[Rank], rank: Rank, spot: str) -> tuple[str | None, str | None]:
    """Return the rank above or below which a spot on the ladder is."""
    ends = {"up": ranks[0], "top": ranks[0], "down": ranks[-1], "bottom": ranks[-1]}
    if not rank.automatic:  # the bottom is that of the ranks that one can be assigned
        ends["bottom"] = [each for each in ranks if each.key == rank.key or not (each.automatic or each.entry)][-1]
    if rank.key == ends[spot].key:
        raise click.UsageError(f"{rank.called} stands at the {'top' if spot in ('top', 'up') else 'bottom'} already.")
    if spot in ("top", "up"):
        return (ends["top"].key if spot == "top" else ranks[rank.position - 1].key), None
    return None, (ends["bottom"].key if spot == "bottom" else ranks[rank.position + 1].key)


@command.command("rename")
@click.argument("key", shell_complete=_RANK)
@naming
@change_options
def rename(key: str, title: str | None, new_key: str | None, *, how: How) -> int:
    """Rename a rank, or change its key.

    \b
    Example:
      ask-above rank rename host "Talk host" --plan
    """
    return carry_out(how, change.RankRename(key, title, new_key))


set_command(
    command,
    _RANK,
    "RankSet",
    """Set fields of a rank; nothing after the sign takes a field out: color="#257292" limit=3 badge=.

\b
Example:
  ask-above rank set host badge=✿ --plan
""",
)


@command.command("grant", left_out=("to",))
@click.argument("key", shell_complete=_RANK)
@click.argument("names", nargs=-1, required=True, metavar="CAPABILITY...")
@click.option("--pattern", is_flag=True, help="Write a pattern such as post.* as it is: it grants later ones too.")
@change_options
def grant(key: str, names: Sequence[str], *, pattern: bool, how: How) -> int:
    """Grant capabilities to a rank.

    \b
    Example:
      ask-above rank grant host kit.lend --plan
    """
    words = words_of(names)
    patterns = [word for word in words if word.endswith("*")]
    # somebody who types post.* is surprised either way, so it is said
    if patterns and not pattern:
        tell([f"{listed(patterns)} grants what there is now; --pattern grants later capabilities too."])
    return carry_out(how, change.Grant(key, words, pattern))


@command.command("withhold", left_out=("from",))
@click.argument("key", shell_complete=_RANK)
@click.argument("names", nargs=-1, required=True, metavar="CAPABILITY...")
@change_options
def withhold(key: str, names: Sequence[str], *, how: How) -> int:
    """Withhold capabilities from a rank.

    \b
    Example:
      ask-above rank withhold volunteer photo.upload --plan
    """
    return carry_out(how, change.Withhold(key, words_of(names)))


@command.command("withdraw")
@click.argument("name", metavar="CAPABILITY")
@change_options
def withdraw(name: str, *, how: How) -> int:
    """Withhold a capability from every rank that grants it, except unbounded ones.

    \b
    Example:
      ask-above rank withdraw kit.lend --plan
    """
    from ask_above.change.ranks import carriers
    from ask_above.decide.explain import source_of

    opened = open_here(how.community)
    compiled = opened.decider.compiled
    for key in carriers(opened.charter, name) if name in opened.charter.catalogue.bit else ():
        where, said = source_of(compiled, opened.rank(key), name)
        stdout().line(f"  {opened.rank(key).called} grants {name}{said} ({where})")
    return carry_out(how, change.Withdraw(name))


@command.command("remove")
@click.argument("key", shell_complete=_RANK)
@click.option("--instead", metavar="RANK", shell_complete=_RANK, help="The rank that its members get instead.")
@click.option("--none", "nothing", is_flag=True, help="Its members get no other rank.")
@change_options
def remove(key: str, instead: str | None, *, nothing: bool, how: How) -> int:
    """Remove a rank; --instead assigns another to its members.

    \b
    Example:
      ask-above rank remove newcomer --none --plan
    """
    opened = open_here(how.community)
    rank = opened.rank(key)
    now = opened.names.moment()
    # past assignments are history, and nobody has to decide about them
    given = opened.register.naming("rank", {key})
    lasting = (each for each in given if each.period.end is None or each.period.end > now)
    holders = list(dict.fromkeys(each.member for each in lasting))
    if holders and instead is None and not nothing:
        names = few(holders, _FEW, called=lambda holder: opened.member(holder).called)
        have = how_many(len(holders), "member has", "members have")
        raise click.UsageError(f"{have} {rank.called}: {names}. Add --instead RANK or --none.")
    return carry_out(how, change.RankRemove(key, instead))
