"""Commands in the words of a sentence: ``in notices`` for ``--at notices``, ``by tomas``, ``until friday``.

A command takes each of these words for the option of its own that it stands for. What follows is its value, up to the
next such word or option, so that a title of several words needs no quotes. For a command that there is not, one table
has the sentence that is meant; a test goes through it, so that each begins with a command that is there.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import takewhile
from typing import Any, Final

import click
from click.core import ParameterSource

_ASSIGN, _UNASSIGN = "assign RANK MEMBER", "unassign RANK MEMBER"
_LOCK, _RESTORE = "member lock MEMBER", "member restore MEMBER"
_RETIRE, _HAND_OVER = "member retire MEMBER", "member hand-over MEMBER"
_CHECK, _LADDER, _JOURNAL, _NEW = "check", "ladder", "journal", "new DIR"
_MAY, _PEOPLE, _PLACES = "may WHO WHAT in PLACE", "member list", "place list"
_SAY = "place override PLACE RANK --allow CAPABILITY"

MEANT: Final = {
    **dict.fromkeys(("give", "promote", "appoint", "add-role", "add-rank"), _ASSIGN),
    **dict.fromkeys(("revoke", "demote", "dismiss", "take", "remove-role", "remove-rank"), _UNASSIGN),
    **dict.fromkeys(("ban", "block", "suspend", "lock", "disable", "kick"), _LOCK),
    **dict.fromkeys(("unban", "unblock", "unlock", "enable", "restore", "reinstate"), _RESTORE),
    **dict.fromkeys(("retire", "leave", "offboard", "resign"), _RETIRE),
    **dict.fromkeys(("hand-over", "handover", "transfer", "owner", "chown"), _HAND_OVER),
    **dict.fromkeys(("vouch", "approve", "confirm"), "member vouch MEMBER"),
    **dict.fromkeys(("invite", "add-user", "add-member", "adduser", "register"), "member invite KEY --email ADDRESS"),
    **dict.fromkeys(("forget", "erase", "anonymize"), "member forget MEMBER"),
    **dict.fromkeys(("members", "users", "people", "user", "persons"), _PEOPLE),
    **dict.fromkeys(("ranks", "roles", "role", "levels", "hierarchy"), _LADDER),
    **dict.fromkeys(("places", "channels", "channel", "boards", "sections", "tree"), _PLACES),
    **dict.fromkeys(("groups", "teams", "team"), "group list"),
    **dict.fromkeys(("can", "ask", "allowed", "has", "why", "explain"), _MAY),
    **dict.fromkeys(("permissions", "rights", "capabilities", "matrix", "table"), "grid"),
    **dict.fromkeys(("validate", "lint", "verify", "test", "doctor"), _CHECK),
    **dict.fromkeys(("history", "log", "changes", "events"), _JOURNAL),
    **dict.fromkeys(("diff", "effect", "what-if", "preview"), "impact OLD"),
    **dict.fromkeys(("rollback", "revert", "back"), "undo"),
    **dict.fromkeys(("create", "init", "start", "setup", "begin", "make"), _NEW),
    **dict.fromkeys(("show", "info", "whois", "inspect", "details"), "describe NAME"),
    **dict.fromkeys(("allow", "override"), _SAY),
    **dict.fromkeys(("deny", "forbid"), "place override PLACE RANK --deny CAPABILITY"),
    **dict.fromkeys(("except", "exception"), "place except PLACE MEMBER --allow CAPABILITY"),
    **dict.fromkeys(("gate", "close", "private"), "place gate PLACE --any GROUP"),
    "grant": "rank grant RANK CAPABILITY",
    "withhold": "rank withhold RANK CAPABILITY",
    "withdraw": "rank withdraw CAPABILITY",
    "add": "rank add KEY, place add KEY KIND, group add KEY or member add KEY",
    "remove": "rank remove RANK, place remove PLACE, group remove GROUP or member retire MEMBER",
    "delete": "rank remove RANK, place remove PLACE, group remove GROUP or member retire MEMBER",
    "rename": "rank rename RANK TITLE, place rename PLACE TITLE or group rename GROUP TITLE",
    "move": "rank move RANK --above RANK or place move PLACE --into PLACE",
    "edit": "charter set PATH VALUE",
    "set": "charter set PATH VALUE",
    "get": "charter get PATH",
    "rules": "charter get rules",
    **dict.fromkeys(("capability", "permission", "right"), "charter set capabilities.HEADING.KEY SENTENCE"),
    "expect": "charter add expectations SENTENCE",
    "expectations": "charter get expectations",
    "list": "member list, ladder, place list or group list",
    "help": "--help",
    "version": "--version",
    "put": "member put MEMBER GROUP",
    "join": "assign RANK MEMBER --as MEMBER",
    "html": "report FILE.html",
    "sheet": "grid --sheet FILE.xlsx",
}
"""For each word the sentence to say, without ``ask-above`` before it."""

UNDER: Final = {
    "member": {
        "delete": "retire",
        "remove": "retire",
        "ban": "lock",
        "unlock": "restore",
        "handover": "hand-over",
        "approve": "vouch",
        "rename": "set",
        "new": "add",
        "create": "add",
        "edit": "set",
    },
    "rank": {
        "delete": "remove",
        "new": "add",
        "create": "add",
        "edit": "set",
        "revoke": "withdraw",
        "allow": "grant",
        "deny": "withhold",
        "give": "grant",
        "list": "ladder",
    },
    "place": {
        "delete": "remove",
        "new": "add",
        "create": "add",
        "allow": "override",
        "deny": "override",
        "edit": "set",
        "exception": "except",
        "private": "gate",
    },
    "group": {"delete": "remove", "new": "add", "create": "add", "edit": "set", "put": "member put", "show": "list"},
    "charter": {"show": "get", "edit": "set", "append": "add", "delete": "remove"},
}
"""The same for the commands of a group."""
_STANDS_FOR: Final = {
    "in": ("at", "into"),
    "at": ("at",),
    "into": ("into",),
    "by": ("author",),
    "on": ("when",),
    "to": ("to", "title"),
    "of": ("of",),
    "using": ("using",),
    "with": ("using",),
    "from": ("since",),
    "until": ("until",),
    "for": ("lasting", "only"),
    "as": ("by",),
    "since": ("since",),
    "above": ("above",),
    "over": ("above",),
    "below": ("below",),
    "under": ("below",),
    "because": ("why",),
    "without": ("without",),
    "beside": ("beside",),
}
"""For each word the parameters that it may stand for, the first that the command has."""
_AS_OPTION: Final = ("allow", "deny", "bar", "leave", "only", "status", "email", "name", "group", "holding")
"""Words that stand for an option of that very name where a command has it and it takes a value."""
_TIME: Final = ("until", "for", "--until", "--for")
_OF_TIME: Final = ("until", "since", "lasting", "when")
_IN_TIME: Final = re.compile(
    r".*\d.*|end|next|this|last|now|today|tomorrow|yesterday|noon|midnight|ago"
    r"|(hour|day|week|month|year|weekend)s?|(mon|tues|wednes|thurs|fri|satur|sun)day"
    r"|jan\w*|feb\w*|mar(ch)?|apr(il)?|may|june?|july?|aug(ust)?|sep\w*|oct\w*|nov\w*|dec\w*"
)
_ARTICLES: Final = ("a", "an", "one", "the", "of", "in")
"""Words of a moment or of a stretch of time, and what stands between them."""


def sentence(group: str, word: str) -> str | None:
    """Return the sentence that is meant by a word, below a group or by itself; ``None`` where nobody knows."""
    if not group:
        return MEANT.get(word.lower())
    said = UNDER.get(group, {}).get(word.lower())
    if said is None:
        return None
    return said if " " in said or said == "ladder" else f"{group} {said}"


_PERHAPS_EMPTY = ("why", "message", "value", "text")
"""Where nothing is a value like others: a reason, what a letter says, a field, a note.

Elsewhere it is a variable of a script that is not set: left out, it would show, change or open more than is meant.
"""


_LISTS = ("members", "keys", "names", "duties")
"""Arguments of several names, which people write as a list: ``bram, otto and dara``."""


class Spoken(click.Command):
    """A command that takes words for its options.

    ``left_out`` are words that say nothing in it. One that keeps no end says by ``no_end`` what to do in its place.
    ``fields`` are those that it sets, each with what it is: its help lists them.
    """

    takes_words = True

    def __init__(
        self,
        *args: Any,
        left_out: Sequence[str] = (),
        no_end: str = "",
        fields: Callable[[], Mapping[str, str]] | None = None,
        **given: Any,
    ) -> None:
        super().__init__(*args, **given)
        self.left_out, self.no_end, self.fields = left_out, no_end, fields

    def get_short_help_str(self, limit: int = 45) -> str:  # noqa: ARG002 (it is folded, whatever the room)
        """Return what it does, whole: the first clause of its help, which is folded where it is long and never cut."""
        first = " ".join((self.help or "").partition("\n\n")[0].split())
        return f"{re.split(r'[:;.](?: |$)', first, maxsplit=1)[0]}."

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the fields that the command sets."""
        if self.fields is not None:
            with formatter.section("Fields, as FIELD=VALUE or --FIELD VALUE"):
                formatter.write_dl(list(self.fields().items()))
        super().format_epilog(ctx, formatter)

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Read the arguments, words among them."""
        args = args if ctx.resilient_parsing else self.in_pairs(args)
        said = [*self.in_options(args)] if self.takes_words else args
        left = super().parse_args(ctx, said if ctx.resilient_parsing else self.said_once(said))
        if not ctx.resilient_parsing:
            self.check_arguments(ctx)
        return left

    def check_arguments(self, ctx: click.Context) -> None:
        """Refuse arguments that are empty, and take names that are written as a list one by one."""
        for param in self.params:
            name, value = str(param.name), ctx.params.get(str(param.name))
            typed = ctx.get_parameter_source(name) is ParameterSource.COMMANDLINE
            if not typed or not isinstance(param, click.Argument) or name in _PERHAPS_EMPTY:
                continue
            words = value if isinstance(value, tuple) else (value,)
            if any(not str(word).strip() for word in words):
                plain = re.sub(r"[][.]", "", param.make_metavar(ctx))
                raise click.UsageError(f"{plain} is empty. Say what, or leave it out.")
            if name in _LISTS and words[1:]:
                ctx.params[name] = tuple(bare for word in words if (bare := word.rstrip(",")) not in ("", "and"))

    def in_pairs(self, args: list[str]) -> list[str]:
        """Return the arguments with fields that were written as options, ``--limit 2``, as pairs behind the others."""
        options = {name for param in self.params for name in param.opts}
        known = {f"--{name}": name for name in (self.fields() if self.fields else ()) if f"--{name}" not in options}
        kept, pairs, rest = list[str](), list[str](), list(args)
        while rest and rest[0] != "--":
            word = rest.pop(0)
            name, sign, value = word.partition("=")
            if name not in known:
                kept.append(word)
            elif sign or (rest and not rest[0].startswith("-")):
                pairs.append(f"{known[name]}={value if sign else rest.pop(0)}")
            else:
                raise click.UsageError(f"{name} needs a value: {known[name]}=VALUE")
        return [*kept, *rest, *pairs]

    def said_once(self, args: list[str]) -> list[str]:
        """Return the arguments with each option once: lists are joined, two values are asked about and none dropped."""
        single = {name: param for param in self.params if _has_one_value(param) for name in param.opts}
        choices = {name: option.name for option in self.params for name in _choices(option)}
        chosen: dict[str | None, str] = {}
        kept: list[str] = []
        at: dict[str, int] = {}
        rest = list(args)
        while rest:
            word = rest.pop(0)
            if word == "--":
                return [*kept, word, *rest]
            name, sign, value = word.partition("=")
            if name in choices and chosen.setdefault(choices[name], name) != name:
                raise click.UsageError(f"{chosen[choices[name]]} and {name} exclude each other. Give one of them.")
            option = single.get(name)
            if option is None or not (sign or rest):
                kept.append(word)
                continue
            value = value if sign else rest.pop(0)
            if not value.strip() and option.name not in _PERHAPS_EMPTY:
                raise click.UsageError(f"{name} is followed by nothing. Say what, or leave it out.")
            before = at.setdefault(str(option.name), len(kept) + 1)
            if before > len(kept):
                kept += [name, value]
            elif str(option.metavar).endswith(",..."):
                kept[before] += f",{value}"
            elif kept[before] != value:
                raise click.UsageError(f"{name} is given twice, as '{kept[before]}' and as '{value}'. Say it once.")
        return kept

    def in_options(self, args: list[str], *, unfinished: bool = False) -> Iterator[str]:
        """Yield the arguments with each such word as its option; ``unfinished``: the last may still want its value."""
        options = {param.name: param for param in self.params if isinstance(param, click.Option)}
        words = {
            word: options[name].opts[-1]
            for word, names in _STANDS_FOR.items()
            for name in [next((each for each in names if each in options), None)]
            if name is not None
        }
        # an option of that very name counts before what the word stands for in other commands
        words |= {
            word: f"--{word}"
            for word in _AS_OPTION
            for option in options.values()
            if f"--{word}" in option.opts and not option.is_flag
        }
        # "of" says nothing in one command and is an option in another
        left_out = [word for word in self.left_out if word not in words]
        with_value = {
            name: str(option.name) for option in options.values() if not option.is_flag for name in option.opts
        }
        needs = any(isinstance(param, click.Argument) and param.required for param in self.params)
        rest, spoken = list(args), 0 if needs else 1
        while rest:
            word = rest.pop(0)
            if word == "--":
                yield from (word, *rest)
                return
            # the last word may be the argument itself, and the first before one other: a rank called "to" or "from"
            follow = [*takewhile(lambda each: each[:1] != "-", rest)]
            alone = len(rest) + 1 == len(args)
            if word in left_out and ((follow and (spoken or follow[1:])) or (alone and not needs)):
                continue
            if word in with_value and rest:
                value = [rest.pop(0)]
                while (
                    with_value[word] in _OF_TIME
                    and rest
                    and (rest[0] in _ARTICLES or _IN_TIME.fullmatch(rest[0].lower()))
                ):
                    value.append(rest.pop(0))
                yield from (word, " ".join(value))
            # the shell completes what comes after the word, so it has to be an option already
            elif unfinished and not rest and word in words and spoken:
                yield words[word]
            elif word in words and spoken and _begins_a_value(word, rest, words):
                value = [rest.pop(0)]
                while rest and not rest[0].startswith("-") and rest[0] not in words:
                    value.append(rest.pop(0))
                yield from _placed(word, words[word], value, options)
            elif not unfinished and follow and spoken and self.no_end and word in _TIME:
                raise click.UsageError(self.no_end)
            else:
                spoken += 1
                yield word


def _placed(word: str, option: str, value: list[str], options: Mapping[str, click.Option]) -> tuple[str, str]:
    """Return an option and its value: ``on`` is followed by a moment or by a place, and a place may have an article."""
    # on friday, and on River talk
    if word == "on" and "at" in options and not any(_IN_TIME.fullmatch(each.lower()) for each in value):
        option = "--at"
    if option in ("--at", "--into") and len(value) > 1 and value[0] == "the":
        value = value[1:]
    said = " ".join(value)
    return option, "site" if option == "--at" and said == "whole site" else said


def _choices(param: click.Parameter) -> Sequence[str]:
    """Return by which names an option is set where these, or others of it, exclude each other."""
    several = isinstance(param, click.Option) and param.is_flag and (not param.is_bool_flag or param.secondary_opts)
    return [*param.opts, *param.secondary_opts] if several else ()


def _has_one_value(param: click.Parameter) -> bool:
    """Whether it is an option that is followed by one value and said once."""
    return isinstance(param, click.Option) and not param.is_flag and not param.multiple and not param.count


def _begins_a_value(word: str, rest: list[str], words: Mapping[str, str]) -> bool:
    """Whether what comes next is a value; after a word of time it may be ``in 3 weeks``."""
    if not rest or rest[0].startswith("-"):
        return False
    return rest[0] not in words or (rest[0] == "in" and word in ("until", "from", "on") and len(rest) > 1)


class Exact(Spoken):
    """A command whose arguments are words themselves."""

    takes_words = False


class SpokenGroup(click.Group):
    """A group of such commands; for one that there is not it names the right sentence."""

    command_class = Spoken

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        """Find a command."""
        if args and not args[0].startswith("-") and args[0] not in self.commands and not ctx.resilient_parsing:
            raise click.UsageError(no_command(self.name or "", args[0], [*self.commands], args[1:]))
        return super().resolve_command(ctx, args)


class ExactGroup(SpokenGroup):
    """A group of commands whose arguments are words themselves."""

    command_class = Exact


def no_command(group: str, word: str, known: list[str], rest: Sequence[str] = ()) -> str:
    """Say that there is no such command, and the sentence that is meant, else the nearest names.

    ``rest`` is what follows: it takes the place of the first name in a sentence of that one.
    """
    from ask_above.charter.names import nearest

    meant = sentence(group, word)
    if meant is not None:
        *before, last = meant.split() if meant.count(" ") else [meant, ""]
        if rest and last.isupper() and not any(letter.isupper() for name in before for letter in name):
            meant = shlex.join([*before, *rest])
        return f"There is no command '{word}'. Say: ask-above {meant}"
    near = nearest(word, known)
    called = " ".join(["ask-above", *([group] if group else []), "--help"])
    hint = f" Nearest: {', '.join(near)}." if near else f" See: {called}"
    return f"There is no command '{word}'.{hint}"
