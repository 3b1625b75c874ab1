"""What ``may`` and ``who`` ask about: a capability, or an act on somebody."""

from __future__ import annotations

import shlex
from typing import Any, NamedTuple

import click

from ask_above.charter.names import SITE
from ask_above.charter.rules import ACT_WORDS, Act
from ask_above.cli.options import asked_about, at_option, complete, gathered, meant, targets
from ask_above.community import Community
from ask_above.decide.acts import GOES_WITH
from ask_above.people.directory import NameKind

_COMING_IN = ("enter", "see", "view", "read", "open", "access", "visit", "find")


class What(NamedTuple):
    """What was typed: a capability or an act, on whom or which rank, where, and what else belongs to an act."""

    name: str
    target: str | None
    at: str
    to: str | None
    of: str | None
    using: str | None

    @property
    def rest(self) -> dict[str, Any]:
        """What belongs to an act, and where, as the methods of a community call it."""
        return {"at": self.at, "to": self.to, "of": self.of, "using": self.using}

    def check(self, opened: Community, *said: str, author: str | None = None) -> None:
        """Refuse what does not go together, and say what does; ``said`` is what was typed before."""
        command = " ".join(["ask-above", *said])
        act = self.name if self.name in ACT_WORDS else None
        if act and not self.target:
            raise click.UsageError(f"'{act}' needs whom or which rank: {command} {act} TARGET")
        if not act and self.target:
            raise click.UsageError(self._misplaced(opened, said))
        if act == Act.UNASSIGN and not self.of:
            raise click.UsageError(f"'unassign' needs from whom: {command} unassign {self.target} of MEMBER")
        for option, wanted in GOES_WITH.items():
            if self.rest[option] and act != wanted:
                raise click.UsageError(f"--{option} goes with {wanted} alone.")
        if author and act:
            raise click.UsageError("--author goes with a capability, not with an act.")

    def meant(self, opened: Community) -> What:
        """Return it with whom a bare word means who is moderated: a member, else a rank."""
        return self._replace(target=meant(opened, self.target)) if self.name == Act.MODERATE and self.target else self

    def command(self, *said: str, author: str | None = None) -> str:
        """Return the command that asks this; ``said`` is what comes before."""
        words = ["ask-above", *said, self.name, *([self.target] if self.target else [])]
        for option, value in {"at": self.at, "author": author, **self.rest}.items():
            if value and not (option == "at" and value == SITE):
                words += [f"--{option}", value]
        return shlex.join(words)

    def _misplaced(self, opened: Community, said: tuple[str, ...]) -> str:
        """Say the right sentence where words stand in another order, or a name of two words has no quotes."""
        name, target = self.name, self.target or ""
        places, kinds = opened.names.directory, (NameKind.MEMBER, NameKind.RANK)
        command, who = ["ask-above", *said], said[-1]
        if len(said) > 1 and places.find(f"{who} {name}", *kinds):
            return f"A name of several words stands in quotes: {shlex.join([*command[:-1], f'{who} {name}', target])}"
        for capability, place in ((name, target), (target, name)):
            known = places.find(place, NameKind.PLACE)
            if known is not None and "." in capability:
                return f"Where comes after 'in': {shlex.join([*command, capability, 'in', known.key])}"
        seeing, where = opened.charter.rules.seeing, places.find(target, NameKind.PLACE)
        if name in _COMING_IN and where is not None and seeing is not None:
            return f"To ask whether they may enter a place: {shlex.join([*command, seeing, 'in', where.key])}"
        using = [each for each in opened.charter.rules.act(Act.MODERATE).using if name in each.split(".")]
        if len(using) == 1 and places.find(target, *kinds) is not None:
            words = [*command, "moderate", target, "--using", using[0]]
            return f"What is done to a member is asked with moderate: {shlex.join(words)}"
        acts = ", ".join(ACT_WORDS)
        return f"'{name}' is no act, so '{target}' has no place here; the acts are {acts}."


_ASKED = {
    "name": click.argument("name", metavar="WHAT", shell_complete=complete(asked_about)),
    "target": click.argument("target", required=False, shell_complete=complete(targets)),
    "at": at_option("Where; the whole site if left out."),
    "to": click.option("--to", metavar="MEMBER", help="For assign: to whom."),
    "of": click.option("--of", metavar="MEMBER", help="For unassign: from whom."),
    "using": click.option("--using", metavar="CAPABILITY", help="For moderate: with which capability."),
}
what_is_asked = gathered("what", What, _ASKED)
"""Adds what is asked about; the command is called with ``what``."""

_LEFT_OUT = {"name": click.argument("name", metavar="[WHAT]", default="", shell_complete=complete(asked_about))}
perhaps_asked = gathered("what", What, _ASKED | _LEFT_OUT)
"""The same where something else may be asked for instead: then its name is empty."""
