"""What the commands that change something share: plan, show, ask, make."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Mapping, Sequence
from functools import wraps
from typing import TYPE_CHECKING, Any, Final, NamedTuple, cast

import click

from ask_above import change
from ask_above.charter.names import SITE, few, is_key
from ask_above.cli.options import F, community_option, complete, full_option, gathered, home_of, people, progress, tell

if TYPE_CHECKING:
    from ask_above.decide.names import Names
    from ask_above.people.directory import NameKind
    from ask_above.show.screen import Screen
    from ask_above.workspace.plans import Plan


_FEW = 6


class How(NamedTuple):
    """How a change is to be made, as the options say."""

    by: str | None
    why: str
    only_plan: bool
    yes: bool
    force: bool
    tell: bool
    community: str | None


HOW: Final = "by why only_plan yes force tell"
"""The parameters that say how a change is made."""

change_options = gathered(
    "how",
    How,
    {
        # asked at each call: who sets the variable after the program is loaded, as tests do, is heard
        "by": click.option(
            "--as",
            "by",
            metavar="MEMBER",
            default=lambda: os.environ.get("ASK_ABOVE_AS"),
            help="The member who makes the change; else as ASK_ABOVE_AS says.",
            shell_complete=complete(people),
        ),
        "why": click.option("--why", default="", metavar="TEXT", help="The reason, for the journal."),
        "only_plan": click.option("--plan", "only_plan", is_flag=True, help="Show the plan, and stop."),
        "yes": click.option("--yes", is_flag=True, help="Make the change without asking."),
        "force": click.option("--force", is_flag=True, help="Break expectations; needs --why."),
        "tell": click.option("--tell", is_flag=True, help="Write letters to those concerned, into the outbox."),
        "community": lambda command: community_option(full_option(command)),
    },
)
"""Adds the options of every change; the command is called with ``how``."""


def naming(command: F) -> F:
    """Add what a thing may be renamed to: a title, said as an argument, an option or a field, or a key."""

    @wraps(command)
    def wrapped(*args: Any, said: Sequence[str], title: str | None, new_key: str | None, **given: Any) -> Any:
        fields = [each for each in said if each.startswith(("title=", "key="))]
        words = " ".join(each for each in said if each not in fields)
        found = {**fields_of(fields), **({"title": words} if words else {})}
        title, new_key = title or found.get("title"), new_key or found.get("key")
        if title is None and new_key is None:
            raise click.UsageError("Give a new title, or --key KEY.")
        return command(*args, title=title, new_key=new_key, **given)

    options: tuple[Any, ...] = (
        click.argument("said", nargs=-1, metavar="[TITLE]"),
        click.option("--title", help="What people call it."),
        click.option("--key", "new_key", metavar="KEY", help="Its key, with every reference to it."),
    )
    for option in reversed(options):
        wrapped = option(wrapped)
    return cast("F", wrapped)


def carry_out(how: How, *edits: change.Edit) -> int:
    """Plan edits, show what they do, ask, and make them."""
    from ask_above.change.draft import NamedByExpectationError
    from ask_above.workspace.plans import plan

    home = home_of(how.community)

    def planned() -> Plan:
        with progress("Changes") as told:
            return plan(home, edits, by=how.by, why=how.why, told=told)

    try:
        return see_through(how, planned)
    except NamedByExpectationError as error:
        if how.yes or not sys.stdin.isatty() or not asked(f"{error.said} Remove it as well?"):
            raise
        # they go first, so that nothing names any more what is removed
        return carry_out(how, *(change.CharterRemove("expectations", each) for each in error.expectations), *edits)


def see_through(how: How, planned: Callable[[], Plan]) -> int:
    """Show a plan, ask, and make it; where somebody else was faster it is planned anew, and others wait for it."""
    from ask_above.workspace.storage import ChangedMeanwhileError

    made = planned()
    try:
        return _show_and_make(how, made)
    except ChangedMeanwhileError:
        if not how.yes:
            raise
        # others wait from here on, so that the plan that was made anew is not overtaken as well
        with made.home.locked():
            return _show_and_make(how, planned())


def _show_and_make(how: How, made: Plan) -> int:
    from ask_above.show.plans import show_plan
    from ask_above.show.screen import stdout

    screen = stdout()
    if made.is_empty:
        screen.line(f"Nothing changes: this is so already ({made.what}).")
        return 0
    tell(made.snapshot.notices)
    show_plan(screen, made, force=how.force)
    if made.refusals or (made.passable and not (how.force and how.why and made.may_pass)):
        return 1
    # a plan that may not be made has ended above with 1, so that scripts can rely on the status of --plan
    if how.only_plan:
        details = "" if screen.full else " Details: --full"
        screen.line(f"Plan only: nothing was changed.{details}", "dim")
        return 0
    if not how.yes and not asked("Make this change?"):
        return 1
    # worked out before the change is made: they tell who gains and loses by it
    letters = [*made.letters, *(_letters(made) if how.tell else ())]
    entry = made.apply(force=how.force, letters=letters)
    tell(made.home.told)
    back = "It cannot be undone." if entry.kind == "forget" else f"To undo it: ask-above undo {entry.number}"
    screen.line(f"Done: change {entry.number}. {back}", "yes")
    if how.tell or letters:
        many = f"{len(letters):,} messages" if len(letters) != 1 else "one message"
        screen.line(f"Wrote {many} to the outbox." if letters else "No letter: nobody concerned has an address.")
        _without_address(screen, made)
    return 0


def _without_address(screen: Screen, made: Plan) -> None:
    """Name those who are concerned and get no letter."""
    from ask_above.show.news import News
    from ask_above.show.screen import at_most

    members, keys = made.after.register.members, {*News(made).concerned, *_invited(made)}
    silent = [members[key].called for key in members if key in keys and not members[key].email]
    if silent:
        screen.paragraph(
            f"Without an address, so without a letter: {few(silent, at_most(_FEW))}.", rest="  ", style="warn"
        )


def _invited(made: Plan) -> list[str]:
    """Return the members whom a change invites; who was invited before has the invitation."""
    new = [row for row in made.rows if row.table == "members" and row.before is None]
    return [row.key for row in new if (row.after or {}).get("status") == "invited"]


def asked(question: str) -> bool:
    """Ask on the terminal whether something is to be done; raises where there is none."""
    if not sys.stdin.isatty():
        raise click.UsageError("No terminal to ask on: --yes makes the change, --plan only shows it.")
    return click.confirm(question, default=False)


def _letters(made: Plan) -> Sequence[tuple[str, str]]:
    from ask_above.show.letters import invitation, letters

    # a change that invites by itself has its invitation already, in words of one's own
    invited = [] if made.letters else _invited(made)
    return [*(letter for key in invited for letter in invitation(made, key, "")), *letters(made)]


def new_thing(
    how: How, kind: NameKind, said: str, pairs: Sequence[str], section: str = SITE
) -> tuple[str, dict[str, Any]]:
    """Return the key and the fields of something new; of a title that stands where the key belongs a key is made.

    A title that another of its kind has already is refused where no key was said: the two could not be told apart. A
    place of that title in another section gets that section's key before its own.
    """
    fields = {name: value for name, value in fields_of(pairs).items() if value is not None}
    # a key is taken as it is, title or not: whoever knows keys means them
    if is_key(said):
        return said, fields
    from ask_above.people.directory import NameKind, folded
    from ask_above.people.recognising import key_from

    key = key_from(said)
    if not is_key(key):
        return said, fields
    names = home_names(how)
    titled = [place for place in names.charter.places.values() if folded(place.title) == folded(said)]
    # two boards called Notices in two sections are told apart by the section
    if kind is NameKind.PLACE and section != SITE and (titled or key in names.charter.places):
        parent = names.place(section).key
        if all(place.parent != parent for place in titled):
            key, titled = f"{parent}-{key}", []
    other = None if not titled and kind is NameKind.PLACE else names.directory.find(said, kind)
    if other is not None and other.key != key:
        raise click.UsageError(
            f"There is a {kind} '{said}' already: {other.key}. Another of that title needs a key: KEY title='{said}'"
        )
    tell([f"Its key is {key}."])
    return key, {"title": said, **fields}


def home_names(how: How) -> Names:
    """Return what names mean in the community that is changed."""
    from ask_above.workspace.storage import opened

    home = home_of(how.community)
    return opened(home, home.read())


def fields_of(pairs: Sequence[str]) -> dict[str, Any]:
    """Read FIELD=VALUE again and again; nothing after the sign takes the field out.

    Lists are separated by commas; moderates, assigns and manages are written only:a,b or except:a,b.
    """
    fields: dict[str, Any] = {}
    for pair in pairs:
        name, sign, value = pair.partition("=")
        if not sign:
            raise click.UsageError(f"'{pair}' is no FIELD=VALUE.")
        read = _value(name, value) if value else None
        if fields.setdefault(name, read) != read:
            raise click.UsageError(f"{name} is given twice, as '{fields[name]}' and as '{read}'. Say it once.")
    return fields


def _value(name: str, value: str) -> Any:
    if name in ("builds-on", "after", "apart-from", "grants", "withhold", "includes", "confers"):
        return [word.strip() for word in value.split(",") if word.strip()]
    if name in ("moderates", "assigns", "manages"):
        way, _, rest = value.partition(":")
        return {way: [word.strip() for word in rest.split(",") if word.strip()]}
    if name == "perks":
        return {key.strip(): said.strip() for key, _, said in (word.partition(":") for word in value.split(","))}
    return value


def words_of(names: Sequence[str]) -> list[str]:
    """Return names, with those joined by commas taken apart, each once."""
    return list(dict.fromkeys(word for name in names for word in name.replace(",", " ").split()))


def fields_said(noun: str) -> dict[str, str]:
    """Return the fields of a rank, a place or a group that are set, each with what it is."""
    from ask_above.charter.reading import form

    known: Mapping[str, Any] = getattr(form, noun).fields
    left_out = ("key", "overrides", "exceptions", "gate", "like", "places")
    return {name: known[name].about for name in known if name not in left_out}


def set_command(group: click.Group, complete_key: Callable[..., Any], edit: str, help_text: str) -> None:
    """Add the subcommand ``set``, which sets fields of one thing by an edit of :mod:`ask_above.change`."""

    @group.command("set", help=help_text, fields=lambda: fields_said(edit.removesuffix("Set").upper()))
    @click.argument("key", shell_complete=complete_key)
    @click.argument("fields", nargs=-1, required=True, metavar="FIELD=VALUE...")
    @change_options
    def set_fields(key: str, fields: Sequence[str], *, how: How) -> int:
        return carry_out(how, getattr(change, edit)(key, fields_of(fields)))
