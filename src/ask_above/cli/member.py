"""``ask-above member``."""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, NamedTuple
from urllib.parse import quote

import click

from ask_above import change
from ask_above.charter.names import RESERVED, SITE, how_many, is_key
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.changing import How, carry_out, change_options, fields_of, home_names, see_through
from ask_above.cli.moments import SPAN, Span, Typed
from ask_above.cli.options import (
    F,
    alone,
    at_option,
    complete,
    gathered,
    groups,
    home_of,
    members,
    open_here,
    ranks,
    tell,
)
from ask_above.cli.sentence import SpokenGroup
from ask_above.decide.words import day
from ask_above.errors import AmbiguousNameError
from ask_above.people.directory import NameKind
from ask_above.people.register import STATUSES
from ask_above.show.data import Table
from ask_above.show.screen import Screen

_MEMBER = complete(members)


if TYPE_CHECKING:
    from ask_above.community import Community


@click.group("member", cls=SpokenGroup)
def command() -> None:
    """Members: list them, add and invite them, lock them, let them go and bring them back.

    \b
    Examples:
      ask-above member list --status pending
      ask-above member vouch lena --as ada
      ask-above member retire rosa --written keep --why "Moved away"
      ask-above member lock --holding host --group lower-team --plan
    """


def _fields(pairs: Sequence[str]) -> dict[str, str]:
    return {name: value or "" for name, value in fields_of(pairs).items()}


def _new_member(how: How, said: Sequence[str], fields: Mapping[str, str]) -> tuple[str, dict[str, str]]:
    """Return the key of somebody new and their fields, in whatever order name and address were typed.

    Of a name that stands where the key belongs a key is made.
    """
    first, *others = said
    name, email = fields.get("name"), fields.get("email")
    if name is None and not is_key(first) and " " in first.strip():
        name = first
    for other in others:
        if "@" in other and email is None:
            email = other
        elif other in STATUSES:
            raise click.UsageError(f"A member's status is given with --status: --status {other}")
        elif "@" not in other and name is None:
            name = other
        elif other not in (name, email):
            raise click.UsageError(f"Is it '{email if '@' in other else name}' or '{other}'? Say it once.")
    # an address where the key belongs: its first part is the nearest to a name that there is
    if "@" in first.strip("@"):
        email, first = email or first, first.partition("@")[0]
    made = first if is_key(first) else _key_of(how, first)
    if made is not None and made != first:
        tell([f"Its key is {made}. To choose another, say it before the name."])
        name = name or first
    known = {"name": name, "email": email}
    return made or first, {**fields, **{field: value for field, value in known.items() if value is not None}}


def _key_of(how: How, name: str) -> str | None:
    """Return a key for somebody new: their first name, else the whole, else that with a number; ``None`` for none.

    Raises where somebody has the name: whether the two are the same is for whoever adds them to say.
    """
    from ask_above.people.recognising import key_from, new_key

    key = key_from(name.split(maxsplit=1)[0] if name.split() else name)
    if not key:
        return None
    names = home_names(how)
    with suppress(AmbiguousNameError):
        other = names.directory.find(name, NameKind.MEMBER)
        if other is None:
            taken = ChainMap[str, Any]({**names.charter.ranks}, names.register.members)  # type: ignore[arg-type]
            return key if is_key(key) and key not in RESERVED and key not in taken else new_key(name, taken)
    raise click.UsageError(f"There is a member '{name}' already. Another of that name needs a key: KEY '{name}'")


class GivenRank(NamedTuple):
    """The rank that somebody is given in the same change, where, and from when until when."""

    rank: str | None
    at: str
    since: Typed
    until: Typed
    lasting: str | None

    def to(self, how: How, key: str) -> list[change.Assign]:
        """Return the edit that gives it."""
        if self.rank is None:
            if any(self[2:]) or self.at != SITE:
                raise click.UsageError("Which rank? --rank RANK goes with --at, --from, --until and --for.")
            return []
        since, until = Span(*self[2:]).written(open_here(how.community).charter) if any(self[2:]) else ("", "")
        return [change.Assign(key, self.rank, self.at, since, until, how.why)]


with_rank = gathered(
    "given",
    GivenRank,
    {
        "rank": click.option("--rank", metavar="RANK", help="Give them this rank.", shell_complete=complete(ranks)),
        "at": at_option("Where; the whole site if left out."),
        **SPAN,
    },
)
"""Adds what somebody is given at once; the command is called with ``given``."""


@command.command("add", fields=lambda: _FIELDS)
@click.argument("key")
@click.argument("called", metavar="[NAME] [ADDRESS] [FIELD=VALUE]...", nargs=-1)
@click.option(
    "--status", type=click.Choice(["active", "pending"]), default="active", show_default=True, help="Whether they wait."
)
@with_rank
@change_options
def add(key: str, called: Sequence[str], status: str, *, given: GivenRank, how: How) -> int:
    """Add a member, with a rank if wanted.

    \b
    Examples:
      ask-above member add ida "Ida Reed" --rank volunteer --plan
      ask-above member add "Ida Reed" ida@river.example --plan
      ask-above member add ida --name "Ida Reed" --email ida@river.example
    """
    pairs = [each for each in called if "=" in each]
    key, fields = _new_member(how, (key, *(each for each in called if each not in pairs)), _fields(pairs))
    return carry_out(how, change.MemberAdd(key, fields, status), *given.to(how, key))


@command.command("invite")
@with_rank
@click.argument("key")
@click.argument("called", metavar="[NAME] [ADDRESS]", nargs=-1)
@click.option("--name", help="The name.")
@click.option("--email", help="The address that the invitation goes to.")
@click.option("--message", default="", help="Your own words for the invitation.")
@click.option(
    "--link",
    envvar="ASK_ABOVE_INVITATION_LINK",
    metavar="URL",
    help="Where one joins, with {key} and {email} in it; else as ASK_ABOVE_INVITATION_LINK says.",
)
@change_options
def invite(
    key: str,
    called: Sequence[str],
    name: str | None,
    email: str | None,
    message: str,
    link: str | None,
    *,
    given: GivenRank,
    how: How,
) -> int:
    """Invite somebody; the invitation goes to the outbox, and the journal keeps who invited whom.

    \b
    Example:
      ask-above member invite ida "Ida Reed" ida@river.example --plan
    """
    from ask_above.show.letters import invitation
    from ask_above.workspace.plans import Plan, plan

    said = {field: value for field, value in (("name", name), ("email", email)) if value is not None}
    key, fields = _new_member(how, (key, *called), said)
    if "email" not in fields:
        raise click.UsageError(f"Where does the invitation go? ask-above member invite {key} ADDRESS")
    home = home_of(how.community)
    address = link.replace("{key}", quote(key)).replace("{email}", quote(fields["email"])) if link else ""

    def planned() -> Plan:
        member = change.MemberAdd(key, fields, "invited")
        made = plan(home, [member, *given.to(how, key)], by=how.by, why=how.why)
        made.letters = invitation(made, key, "\n\n".join(each for each in (message, address) if each))
        return made

    return see_through(how, planned)


class Wanted(NamedTuple):
    """Which members are meant, by what they hold and are, or by a list."""

    holding: str | None = None
    group: str | None = None
    status: str | None = None
    joined_before: str | None = None
    listing: Path | None = None

    def fits(self) -> dict[str, str | None]:
        """Return what they must hold and be."""
        return {name: getattr(self, name) for name in _FILTERS}


_FILTERS = {
    "holding": click.option("--holding", metavar="RANK", help="Those who hold this rank."),
    "group": click.option("--group", metavar="GROUP", help="Those in this group."),
    "status": click.option("--status", metavar="STATUS", help="Those with this status."),
    "joined_before": click.option("--joined-before", metavar="DATE", help="Those who joined before this day."),
}
_LIST = click.option(
    "--list",
    "listing",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    help="Those in this file: a CSV with a column member or key, or a key on each line.",
)
filtering = gathered("wanted", Wanted, _FILTERS)
"""Adds the options that choose members; the command is called with ``wanted``."""

choosing = gathered("wanted", Wanted, {**_FILTERS, "listing": _LIST})
"""Adds the same, and a list of members."""


def rank_and_members(command: F) -> F:
    """Add a rank, the members who are meant, and where: what giving and taking a rank need."""
    for option in (
        at_option("Where; the whole site if left out."),
        choosing,
        click.argument("members", nargs=-1, metavar="[MEMBER]...", shell_complete=complete(members)),
        click.argument("rank", shell_complete=complete(ranks)),
    ):
        command = option(command)
    return command


def by_key(opened: Community, fits: Mapping[str, str | None]) -> dict[str, Any]:
    """Return what members must hold and be with ranks and groups by their keys, however they were named."""
    keyed: dict[str, Any] = dict(fits)
    if keyed.get("holding"):
        keyed["holding"] = opened.names.rank(str(keyed["holding"])).key
    if keyed.get("group"):
        keyed["group"] = opened.names.group(str(keyed["group"])).key
    return keyed


def in_order(how: How, rank: str, members: Sequence[str]) -> tuple[str, list[str]]:
    """Return the rank and the members; where a member stands first and a rank among the others, as they are meant."""
    directory = open_here(how.community).names.directory if members else None
    # a name that is a rank's means the rank, whoever else has it
    if directory is None or directory.find(rank, NameKind.RANK) or not directory.find(rank, NameKind.MEMBER):
        return rank, list(members)
    ranks = [member for member in members if directory.find(member, NameKind.RANK)]
    if len(ranks) != 1:
        return rank, list(members)
    people = [rank, *(member for member in members if member != ranks[0])]
    tell([f"Taken as: {ranks[0]} {' '.join(people)}. The rank comes first."])
    return ranks[0], people


def chosen(how: How, keys: Sequence[str], wanted: Wanted) -> list[str]:
    """Return the members who are named, who stand in a list, or who fit."""
    ways = "--holding, --group, --status, --joined-before, or --list"
    fits = wanted.fits()
    if bool(keys) + bool(wanted.listing) + any(fits.values()) > 1:
        raise click.UsageError(f"Name the members, or say which by {ways}; one of these alone.")
    named = list(keys) if wanted.listing is None else _listed(wanted.listing)
    if named:
        # whoever is named twice, by whichever of their names, is meant once
        find = open_here(how.community).names.directory.find if named[1:] else None
        known = [find(name, NameKind.MEMBER) if find else None for name in named]
        return list({each.key if each else name: name for each, name in zip(known, named, strict=True)}.values())
    if not any(fits.values()):
        raise click.UsageError(f"Name a member, or say which: {ways}.")
    from ask_above.ask.choosing import choose

    opened = open_here(how.community)
    found = choose(opened.decider, opened.names.moment(), **by_key(opened, fits))
    if not found:
        raise click.UsageError("Nobody fits.")
    return found


def _listed(file: Path) -> list[str]:
    """Return the members that a file lists."""
    import csv

    from ask_above.files.yaml_text import text_of

    try:
        rows = [row for row in csv.reader(text_of(file).split("\n"), strict=True) if row and row[0].strip()]
    except csv.Error as error:
        raise click.UsageError(f"{file.name} cannot be read as CSV: {error}.") from None
    heads = [cell.strip() for cell in rows[0]] if rows else []
    # a list that people keep may be one key a line, without a first line that says so
    at = next((heads.index(name) for name in ("member", "key") if name in heads), None)
    if at is None and any(len(row) > 1 for row in rows):
        raise click.UsageError(f"{file.name} has no column member or key in its first line.")
    found = [row[at or 0].strip() for row in (rows if at is None else rows[1:]) if len(row) > (at or 0)]
    if not found:
        raise click.UsageError(f"{file.name} lists nobody.")
    return found


_FOR_A_TIME = "What lasts for a time is a rank: ask-above assign RANK MEMBER --until WHEN."
_LOCKED = f"A lock has no end: it lasts until ask-above member restore. {_FOR_A_TIME}"
_IN_A_GROUP = f"A place in a group has no end: it lasts until ask-above member take. {_FOR_A_TIME}"


def _status(name: str, text: str, status: str, example: str, options: Sequence[Any] = (), *, no_end: str = "") -> None:
    def act(keys: Sequence[str], wanted: Wanted, written: str = "", *, given: GivenRank | None = None, how: How) -> int:
        from ask_above.change import MemberStatus

        found = chosen(how, keys, wanted)
        edits: list[change.Edit] = [MemberStatus(key, status, written or "") for key in found]
        return carry_out(how, *edits, *(edit for key in found for edit in (given.to(how, key) if given else ())))

    act.__doc__ = f"{text}\n\n\b\nExample:\n  ask-above member {name} {example}"
    wrapped: Any = change_options(choosing(act))
    for option in options:
        wrapped = option(wrapped)
    command.command(name, no_end=no_end)(
        click.argument("keys", nargs=-1, metavar="[MEMBER]...", shell_complete=_MEMBER)(wrapped)
    )


_status("accept", "Note that somebody took the invitation: they become active.", "active", "wim --plan")
_status(
    "vouch", "Vouch for somebody who waits: they become active.", "active", "lena --rank volunteer --plan", [with_rank]
)
_status("lock", "Lock somebody out, and keep what they wrote.", "locked", "bram --plan", no_end=_LOCKED)
_status("restore", "Bring somebody back as they were.", "active", "niko --plan")
_status(
    "retire",
    "Let somebody go; what they wrote is kept, handed to a member, or removed: recorded for the site to carry out.",
    "retired",
    "bram --written keep --plan",
    [
        click.option(
            "--written",
            metavar="keep|remove|MEMBER",
            default="keep",
            show_default=True,
            help="What becomes of what they wrote.",
        )
    ],
)


_FIELDS: Final[Mapping[str, str]] = {
    "name": "the full name",
    "email": "the address",
    "phone": "the telephone number",
    "kind": "person or bot",
    "groups": "all their groups, with ; between them",
    "note": "a note for other administrators",
    "user_name": "what they sign in with",
    "external_id": "their number in another program",
}


@command.command("set", fields=lambda: _FIELDS)
@click.argument("members", nargs=-1, required=True, metavar="MEMBER... [FIELD=VALUE]...", shell_complete=_MEMBER)
@change_options
def set_fields(members: Sequence[str], *, how: How) -> int:
    """Change name, address, kind, groups or note of members.

    \b
    Examples:
      ask-above member set bram --email bram@river.example --plan
      ask-above member set bram freya groups=upper-team --plan
    """
    fields = _fields([member for member in members if "=" in member])
    keys = [member for member in members if "=" not in member]
    if not keys or not fields:
        raise click.UsageError("Say which member, and what to set: ask-above member set bram email=bram@river.example")
    return carry_out(how, *(change.MemberSet(key, fields) for key in keys))


@command.command("note")
@click.argument("key", shell_complete=_MEMBER)
@click.argument("text")
@change_options
def note(key: str, text: str, *, how: How) -> int:
    """Leave a note about a member for the other administrators, in the place of the one before.

    \b
    Example:
      ask-above member note bram "Prefers mornings" --plan
    """
    return carry_out(how, change.MemberSet(key, {"note": text}))


@command.command("show")
@click.argument("key", shell_complete=_MEMBER)
@click.option(
    "--everything", "all_of_it", is_flag=True, help="All that is kept: notes, past ranks, the journal, letters."
)
@click.option("--as", "by", metavar="MEMBER", help="Only what this member may see.", shell_complete=_MEMBER)
@asking()
def show(key: str, by: str | None, asked: CommandQuestion, *, all_of_it: bool) -> int:
    """Show what is kept about a member; --everything for whoever asks what that is.

    \b
    Examples:
      ask-above member show dara
      ask-above member show dara --everything --as dara --format json
    """
    from ask_above.show.member import about, everything, show_member

    if all_of_it:
        asked.check_whole("--everything")
    opened = asked.opened
    viewer, now = opened.member(by).key if by else None, opened.names.moment()
    kept = everything(opened, key, viewer, now, opened.journal()) if all_of_it else about(opened, key, viewer, now)
    if not kept.get("hidden"):
        from ask_above.files.signins import last_signins

        last = last_signins(asked.folder, opened.charter, opened.register)
        kept["last_sign_in"] = last.get(opened.member(key).key)
    rows = [[name, ";".join(each) if isinstance(each, list) else each] for name, each in kept["member"].items()]
    rows += [["rank", f"{each['rank']} at {each['place']}"] for each in kept["ranks"]]
    return asked.answer(
        lambda: Table(("field", "value"), rows, kept), lambda screen: show_member(screen, kept, opened.charter)
    )


@command.command("forget")
@click.argument("key", shell_complete=_MEMBER)
@change_options
def forget(key: str, *, how: How) -> int:
    """Forget a member who asks for it: name, address, notes and key go for good, a numbered stranger stays.

    They go from the register, its files, the journal and the outbox; nothing brings them back. What the charter's files
    say of them has to be taken out first.

    \b
    Example:
      ask-above member forget dara --why "Asked for it on 3 November" --plan
    """
    return carry_out(how, change.MemberForget(key))


@command.command("put", left_out=("into", "in", "to"), no_end=_IN_A_GROUP)
@click.argument("members", nargs=-1, required=True, metavar="MEMBER...", shell_complete=_MEMBER)
@click.argument("group", shell_complete=complete(groups))
@change_options
def put(members: Sequence[str], group: str, *, how: How) -> int:
    """Put members into a group, or one into several.

    \b
    Example:
      ask-above member put dara tove upper-team --plan
    """
    members, into = _and_groups(how, members, group)
    return carry_out(how, *(change.MemberGroups(key, put=into) for key in members))


@command.command("take", left_out=("from", "of"))
@click.argument("members", nargs=-1, required=True, metavar="MEMBER...", shell_complete=_MEMBER)
@click.argument("group", shell_complete=complete(groups))
@change_options
def take(members: Sequence[str], group: str, *, how: How) -> int:
    """Take members out of a group, or one out of several.

    \b
    Example:
      ask-above member take dara upper-team --plan
    """
    members, out = _and_groups(how, members, group)
    return carry_out(how, *(change.MemberGroups(key, take=out) for key in members))


def _and_groups(how: How, said: Sequence[str], last: str) -> tuple[list[str], tuple[str, ...]]:
    """Return members and groups: after the first name groups may stand, before the last."""
    directory = open_here(how.community).names.directory
    groups = [
        name
        for name in said[1:]
        if directory.find(name, NameKind.GROUP) is not None and directory.find(name, NameKind.MEMBER) is None
    ]
    return [name for name in said if name not in groups], (*groups, last)


@command.command("hand-over")
@click.argument("key", shell_complete=_MEMBER)
@change_options
def hand_over(key: str, *, how: How) -> int:
    """Hand the ownership over to another member.

    \b
    Example:
      ask-above member hand-over olaf --plan
    """
    return carry_out(how, change.HandOver(key))


_COLUMNS = "Which columns: key, name, email, kind, status, joined, groups, ranks, note, where they hold a rank."


@command.command("list")
@click.argument("named", nargs=-1, metavar="[PART-OF-NAME]")
@filtering
@click.option("--in", "at", metavar="PLACE", help="Those who have a rank in this place, or hold one for it.")
@click.option("--waiting", is_flag=True, help="Those pending or invited, since when, and when they last signed in.")
@click.option("--sort", "by_column", type=click.Choice(["key", "name", "status", "joined"]), help="Sort by a column.")
@click.option("--columns", metavar="NAME,...", help=_COLUMNS)
@click.option("--as", "by", metavar="MEMBER", help="Only what this member may see.", shell_complete=_MEMBER)
@asking()
def list_members(
    named: Sequence[str],
    wanted: Wanted,
    at: str | None,
    by_column: str | None,
    columns: str | None,
    by: str | None,
    asked: CommandQuestion,
    *,
    waiting: bool,
) -> int:
    """List members; --as shows only the names, addresses and notes that this member may see.

    \b
    Example:
      ask-above member list --status pending
      ask-above member list fen --in field
    """
    from ask_above.ask.choosing import LIST_COLUMNS, choose, member_rows

    opened = asked.opened
    now = opened.names.moment()
    if waiting:
        alone("--waiting", "form")
        from ask_above.cli.roster import show_waiting

        return show_waiting(asked, -1)
    fits = by_key(opened, wanted.fits())
    place = opened.place(at).key if at is not None else None
    viewer = opened.member(by).key if by else None
    keys = choose(opened.decider, now, named=" ".join(named), place=place, viewer=viewer, **fits)
    holding = fits["holding"]
    left_out = ("note", "phone") if holding else ("note", "phone", "where")
    shown = columns.replace(" ", "").split(",") if columns else [c for c in LIST_COLUMNS if c not in left_out]
    unknown = [column for column in shown if column not in LIST_COLUMNS]
    if unknown:
        raise click.UsageError(f"There is no column {', '.join(unknown)}; there are {', '.join(LIST_COLUMNS)}.")
    rows = member_rows(opened.decider, now, keys, shown, viewer, holding)
    if by_column:
        column = list(LIST_COLUMNS).index(by_column)
        # the column to sort by need not be among those shown
        order = member_rows(opened.decider, now, keys, list(LIST_COLUMNS), viewer)
        rows = [
            row for _, row in sorted(zip([str(o[column]) for o in order], rows, strict=True), key=lambda pair: pair[0])
        ]

    def show(screen: Screen) -> None:
        screen.line(f"{len(rows):,} of {len(opened.register.members):,} members", "head")
        idle = sum(not opened.decider.people.ask(key, now).is_active for key in keys)
        if holding and idle:
            screen.line(
                f"{how_many(idle, 'of them is', 'of them are')} not active; the rank does not count for them.", "warn"
            )
        screen.line()
        drop = () if columns else ("Kind", "Joined", "Groups", "Email", "Status")
        cells = (
            [day(cell) if head == "joined" and cell else cell for head, cell in zip(shown, row, strict=True)]
            for row in rows
        )
        screen.list([column.capitalize() for column in shown], cells, drop)

    return asked.answer(lambda: Table(shown, rows), show)
