"""Completion in shells, with the names of the community at hand, and words such as ``in`` understood."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

import click
from click.shell_completion import BashComplete, FishComplete, ShellComplete, ZshComplete

from ask_above.cli import options
from ask_above.cli.sentence import Spoken

VARIABLE: Final = "_ASK_ABOVE_COMPLETE"
"""What a shell sets when it asks."""


def words_as_options(cli: click.Command, args: Sequence[str]) -> list[str]:
    """Return what stands before the word that is being typed, each word that stands for an option as that option."""
    command, done = cli, 0
    with click.Context(cli, resilient_parsing=True) as ctx:
        while isinstance(command, click.Group) and done < len(args):
            found = command.get_command(ctx, args[done])
            if found is None:
                return list(args)
            command, done = found, done + 1
    for param in command.params:
        _completed(param)
    if not isinstance(command, Spoken) or not command.takes_words:
        return list(args)
    return [*args[:done], *command.in_options(list(args[done:]), unfinished=True)]


_BY_KIND: Final = {
    "MEMBER": options.members,
    "RANK": options.ranks,
    "PLACE": options.places,
    "GROUP": options.groups,
    "CAPABILITY": options.capabilities,
    "WHO": options.people,
}
"""What there is of each kind of value that a command's help names."""


def _completed(param: click.Parameter) -> None:
    """Have a parameter completed by the kind of its value, where it says no more of itself."""
    kind = (param.metavar or param.name or "").strip("[].").upper()
    if kind in _BY_KIND and param._custom_shell_complete is None:
        param._custom_shell_complete = options.complete(_BY_KIND[kind])


class _AsOptions(ShellComplete):
    def get_completion_args(self) -> tuple[list[str], str]:
        args, incomplete = super().get_completion_args()
        return words_as_options(self.cli, args), incomplete


class _Bash(_AsOptions, BashComplete):
    @staticmethod
    def _check_version() -> None:
        """Ask no shell for its version: the script is made where there may be none."""


class _Zsh(_AsOptions, ZshComplete):
    pass


class _Fish(_AsOptions, FishComplete):
    pass


_KINDS: Final[dict[str, type[ShellComplete]]] = {"bash": _Bash, "zsh": _Zsh, "fish": _Fish}


def _shell(cli: click.Command, shell: str) -> ShellComplete:
    return _KINDS[shell](cli, {}, "ask-above", VARIABLE)


def script(cli: click.Command, shell: str) -> str:
    """Return what a shell reads to complete ``ask-above``."""
    return _shell(cli, shell).source()


def completed(cli: click.Command, asked: str) -> str:
    """Return what a shell asks for: ``bash_complete``, or its script, ``bash_source``."""
    shell, _, what = asked.partition("_")
    return script(cli, shell) if what == "source" else _shell(cli, shell).complete()
