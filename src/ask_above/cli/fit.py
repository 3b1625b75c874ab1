"""``ask-above fit``."""

from __future__ import annotations

from collections.abc import Sequence

import click

from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import capabilities, complete
from ask_above.cli.sentence import Exact
from ask_above.community import Wanted
from ask_above.show.fit import fit_table, show_fit, show_new_rank
from ask_above.show.screen import Screen


@click.command("fit", cls=Exact)
@click.argument(
    "needs", nargs=-1, required=True, metavar="CAPABILITY [in PLACE]...", shell_complete=complete(capabilities)
)
@click.option("--never", multiple=True, metavar="CAPABILITY", help="What they must not have anywhere; repeat for more.")
@click.option("--most", default=3, show_default=True, type=click.IntRange(1), help="How many ranks to put together.")
@click.option(
    "--limit", default=50, show_default=True, type=click.IntRange(0), help="Propose a new rank above this weight."
)
@asking()
def command(needs: Sequence[str], never: Sequence[str], most: int, limit: int, asked: CommandQuestion) -> int:
    """Find the ranks that grant what someone needs, and as little else as possible.

    Say each thing as in an expectation: a capability, and in which place; without a place, anywhere will do. What is
    too much weighs 1, 5 or 25 by its risk, for each place. Where all weighs more than the limit, or nothing fits, a
    new rank is proposed. Exit status 1 where nothing gives what is needed.

    \b
    Examples:
      ask-above fit reading.post in upper-gauges rota.join in rota
      ask-above fit post.publish in front-page --never contact.see.all
    """
    opened = asked.opened
    wanted = _read(needs)
    fit = opened.fit(wanted, never=never, most=most)
    proposal = None if fit.few is not None and fit.few.weight <= limit else opened.propose(wanted, never=never)

    def show(screen: Screen) -> None:
        show_fit(screen, fit)
        if fit.few is None or fit.few.weight > limit:
            show_new_rank(screen, fit, proposal, limit)

    return asked.answer(lambda: fit_table(fit, proposal), show, 0 if fit.few is not None else 1)


def _read(words: Sequence[str]) -> list[Wanted]:
    """Read ``CAPABILITY [in PLACE]`` again and again; commas do no harm, nor do titles of several words."""
    wanted: list[Wanted] = []
    rest = _words(words)
    while rest:
        name = rest.pop(0)
        place: list[str] = []
        if rest[:1] == ["in"]:
            rest.pop(0)
            while rest and (not place or "." not in rest[0]):
                place.append(rest.pop(0))
            if not place:
                raise click.UsageError("'in' stands at the end; name the place after it.")
        wanted.append((name, " ".join(place)) if place else name)
    return wanted


def _words(words: Sequence[str]) -> list[str]:
    """Return what was typed piece by piece; what stood in quotes is one piece, but for a capability and its place."""
    pieces = [piece.strip() for word in words for piece in word.split(",") if piece.strip()]
    typed: list[str] = []
    for piece in pieces:
        name, within, place = piece.partition(" in ")
        typed += [name, "in", place] if within else piece.split() if "." in piece else [piece]
    return typed
