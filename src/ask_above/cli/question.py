"""What ``may`` and ``who`` ask about: a capability, or an act on somebody."""

from __future__ import annotations

from typing import NamedTuple

import click

from ask_above.charter.expectations import ACT_WORDS
from ask_above.cli.options import at_option, capabilities, complete, gathered, people

_GOES_WITH = {"to": "assign", "of": "unassign", "using": "moderate"}


class What(NamedTuple):
    """What was typed: a capability or an act, on whom or which rank, where, and what else belongs to an act."""

    name: str
    target: str | None
    at: str
    to: str | None
    of: str | None
    using: str | None

    def check(self, command: str, author: str | None = None) -> None:
        """Refuse what does not go together, and say what does."""
        act = self.name if self.name in ACT_WORDS else None
        if act and not self.target:
            raise click.UsageError(f"'{act}' needs whom or which rank: ask-above {command} {act} TARGET")
        if not act and self.target:
            raise click.UsageError(
                f"'{self.name}' is no act, so '{self.target}' has no place here; the acts are {', '.join(ACT_WORDS)}."
            )
        if act == "unassign" and not self.of:
            raise click.UsageError("'unassign' needs from whom: --of MEMBER")
        given = {"to": self.to, "of": self.of, "using": self.using}
        for option, wanted in _GOES_WITH.items():
            if given[option] and act != wanted:
                raise click.UsageError(f"--{option} goes with {wanted} alone.")
        if author and act:
            raise click.UsageError("--author goes with a capability, not with an act.")


what_is_asked = gathered(
    "what",
    What,
    {
        "name": click.argument(
            "name", metavar="WHAT", shell_complete=complete(lambda c: [*ACT_WORDS, *capabilities(c)])
        ),
        "target": click.argument(
            "target", required=False, shell_complete=complete(lambda c: [*c.charter.ranks, *people(c)])
        ),
        "at": at_option("Where; the site itself where it is left out."),
        "to": click.option("--to", metavar="MEMBER", help="For assign: to whom."),
        "of": click.option("--of", metavar="MEMBER", help="For unassign: from whom."),
        "using": click.option("--using", metavar="CAPABILITY", help="For moderate: with which capability."),
    },
)
"""Adds what is asked about; the command is called with ``what``."""
