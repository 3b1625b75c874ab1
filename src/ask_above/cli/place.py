"""``ask-above place``."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Sequence
from typing import NamedTuple

import click

from ask_above import change
from ask_above.charter.names import SITE, listed
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.changing import How, carry_out, change_options, fields_said, naming, new_thing, set_command, words_of
from ask_above.cli.options import complete, gathered, open_here, places
from ask_above.cli.sentence import SpokenGroup
from ask_above.people.directory import NameKind

_PLACE = complete(places)


@click.group("place", cls=SpokenGroup)
def command() -> None:
    """Places: list them, change where they stand, what differs there, who may enter.

    \b
    Examples:
      ask-above place list
      ask-above place override notices member --deny post.write
      ask-above place except river-talk otto --clear
      ask-above place move river-talk --into field --keep
      ask-above place realign lower-gauges --plan
    """


@command.command("list")
@click.argument("at", required=False, default="site", metavar="[PLACE]", shell_complete=_PLACE)
@asking(figure=True)
def list_(at: str, asked: CommandQuestion) -> int:
    """Show the tree of places, or the part below one, and what differs in each.

    Numbers of entries that give, take and bar (override sets included), exceptions, gates, and entries that say the
    opposite of the place above.

    \b
    Example:
      ask-above place list alder-mouth
    """
    from ask_above.ask.places import spots
    from ask_above.show.places import place_table, show_places

    opened = asked.opened
    if asked.is_drawn("places", opened, at=at):
        return 0
    overviews = spots(opened.decider.compiled, opened.place(at).key)
    return asked.answer(lambda: place_table(overviews), lambda screen: show_places(screen, overviews))


@command.command("add", fields=lambda: fields_said("PLACE"))
@click.argument("key")
@click.argument("kind", default="")
@click.argument("fields", nargs=-1, metavar="[FIELD=VALUE]...")
@click.option(
    "--into", default="site", show_default=True, metavar="PLACE", shell_complete=_PLACE, help="In which place."
)
@click.option("--only", metavar="TERM,...", help="Who may come in: groups, ranks, or RANK+; its gate.")
@change_options
def add(key: str, kind: str, fields: Sequence[str], into: str, only: str | None, *, how: How) -> int:
    """Make a place of a kind; a title in place of the key sets both.

    \b
    Example:
      ask-above place add tide-talk board title="Tide talk" --into alder-mouth
    """
    if "=" in kind:
        fields, kind = (kind, *fields), ""
    made, given = new_thing(how, NameKind.PLACE, key, fields, into)
    kind = kind or given.pop("kind", "")
    # the kind is the argument that people forget, so the error says which kinds there are
    if not kind:
        opened = open_here(how.community)
        here = listed(dict.fromkeys(p.kind for p in opened.charter.places.values() if p.key != SITE), "or")
        known = f" This community has {here}." if here else ""
        raise click.UsageError(f"Which kind of place is it?{known} Say: ask-above place add {shlex.quote(key)} KIND")
    gate = [change.SetGate(made, {"any": _terms(only)})] if only else []
    return carry_out(how, change.PlaceAdd(made, kind, into, given), *gate)


@command.command("copy")
@click.argument("key", shell_complete=_PLACE)
@click.argument("new")
@click.option("--into", metavar="PLACE", shell_complete=_PLACE, help="In which place; beside the old one if left out.")
@change_options
def copy(key: str, new: str, into: str | None, *, how: How) -> int:
    """Copy a place with all in it; NEW is the key or the title.

    \b
    Example:
      ask-above place copy alder-mouth "Lower Alder"
    """
    made, fields = new_thing(how, NameKind.PLACE, new, ())
    return carry_out(how, change.PlaceCopy(key, made, into, fields))


@command.command("move")
@click.argument("key", shell_complete=_PLACE)
@click.option("--into", required=True, metavar="PLACE", shell_complete=_PLACE, help="Into which; site for the top.")
@click.option("--keep/--as-section", default=None, help="Keep what it says itself, or take the section's.")
@change_options
def move(key: str, into: str, *, keep: bool | None, how: How) -> int:
    """Move a place into another section, and say whether it keeps its own overrides or takes the section's.

    \b
    Example:
      ask-above place move photo-wall into field --keep --plan
    """
    # either may be meant, and the other one opens or closes what nobody asked for
    if keep is None:
        if not sys.stdin.isatty():
            raise click.UsageError("Say which: --keep its own overrides and exceptions, or take those --as-section.")
        keep = click.confirm("Keep its own overrides and exceptions?")
    return carry_out(how, change.PlaceMove(key, into, keep))


@command.command("rename")
@click.argument("key", shell_complete=_PLACE)
@naming
@change_options
def rename(key: str, title: str | None, new_key: str | None, *, how: How) -> int:
    """Give a place another title, or another key with every reference to it.

    \b
    Example:
      ask-above place rename notices News board --plan
    """
    return carry_out(how, change.PlaceRename(key, title, new_key))


@command.command("remove")
@click.argument("key", shell_complete=_PLACE)
@change_options
def remove(key: str, *, how: How) -> int:
    """Remove a place and all in it; assignments there end.

    \b
    Example:
      ask-above place remove alder-board --plan
    """
    return carry_out(how, change.PlaceRemove(key))


set_command(
    command,
    _PLACE,
    "PlaceSet",
    """Set title, about or kind of a place.

\b
Example:
  ask-above place set photo-wall about="Pictures of the river" --plan
""",
)


class PlaceWords(NamedTuple):
    """What is to be said of capabilities at a place."""

    leave: str | None
    allow: str | None
    deny: str | None
    bar: str | None
    clear: bool


saying = gathered(
    "words",
    PlaceWords,
    {
        "allow": click.option("--allow", metavar="CAPABILITY,...", help="What is allowed there."),
        "deny": click.option(
            "--deny", metavar="CAPABILITY,...", help="What is denied there; a place further down may allow it."
        ),
        "bar": click.option("--bar", metavar="CAPABILITY,...", help="What is barred there; nothing gives it back."),
        "leave": click.option("--leave", metavar="CAPABILITY,...", help="Take back what is said of these."),
        "clear": click.option("--clear", is_flag=True, help="Take back all that is said."),
    },
)


def _say(how: How, place: str, of: str, words: PlaceWords, *, member: bool) -> int:
    given = {"clear": words.leave, "allow": words.allow, "deny": words.deny, "bar": words.bar}
    edits = [change.Say(place, of, word, words_of([names]), member) for word, names in given.items() if names]
    if words.clear:
        edits.insert(0, change.Say(place, of, "clear", (), member))
    if not edits:
        raise click.UsageError("Say what: --allow, --deny or --bar CAPABILITY[,CAPABILITY...], or --clear.")
    return carry_out(how, *edits)


@command.command("override")
@click.argument("place", shell_complete=_PLACE)
@click.argument("of", metavar="RANK|RANK+|GROUP")
@saying
@change_options
def override(place: str, of: str, words: PlaceWords, *, how: How) -> int:
    """Say what a rank, a rank and all above it, or a group may do differently at a place.

    \b
    Example:
      ask-above place override notices member --allow post.write --plan
    """
    return _say(how, place, of, words, member=False)


@command.command("except")
@click.argument("place", shell_complete=_PLACE)
@click.argument("member")
@saying
@change_options
def exception(place: str, member: str, words: PlaceWords, *, how: How) -> int:
    """Say what one member may do differently at a place.

    \b
    Example:
      ask-above place except notices bram --allow place.pin --plan
    """
    return _say(how, place, member, words, member=True)


def _terms(said: str) -> list[str]:
    """Return a gate's terms, between commas: titles have spaces."""
    return [word.strip() for word in said.split(",") if word.strip()]


@command.command("gate")
@click.argument("place", shell_complete=_PLACE)
@click.argument("terms", nargs=-1, metavar="[TERM]...")
@click.option("--any", "--only", "some", metavar="TERM,...", help="At least one of these groups, ranks, or RANK+.")
@click.option("--all", "every", metavar="TERM,...", help="All of these.")
@click.option("--none", metavar="TERM,...", help="None of these.")
@click.option("--teaser", is_flag=True, help="Others may know that the place is there.")
@click.option("--clear", is_flag=True, help="Take the gate away.")
@change_options
def gate(
    place: str,
    terms: Sequence[str],
    some: str | None,
    every: str | None,
    none: str | None,
    *,
    teaser: bool,
    clear: bool,
    how: How,
) -> int:
    """Set the gate of a place, or take it away.

    \b
    Example:
      ask-above place gate rota --any upper-team --plan
    """
    # terms without an option are those of --any, the most common gate
    some = ",".join([*([some] if some else []), *terms]) or None
    asked = (("any", some), ("all", every), ("none", none))
    said = {word: _terms(given) for word, given in asked if given}
    if clear == bool(said):
        raise click.UsageError("Say what the gate asks for: --any, --all, --none; or --clear.")
    return carry_out(how, change.SetGate(place, {**said, "teaser": "true"} if teaser and said else said))


@command.command("like")
@click.argument("place", shell_complete=_PLACE)
@click.argument("sets", nargs=-1, metavar="[SET]...")
@change_options
def like(place: str, sets: Sequence[str], *, how: How) -> int:
    """Let a place be like override sets; none to be like no set.

    \b
    Example:
      ask-above place like photo-wall read-only --plan
    """
    return carry_out(how, change.SetLike(place, words_of(sets)))


@command.command("realign")
@click.argument("place", shell_complete=_PLACE)
@change_options
def realign(place: str, *, how: How) -> int:
    """Bring a place back in line with its section: its own overrides and exceptions go, its gate stays.

    \b
    Example:
      ask-above place realign lower-gauges --plan
    """
    return carry_out(how, change.Realign(place))
