"""``ask-above compare``."""

from __future__ import annotations

import click

from ask_above.charter.names import rank_named
from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import at_option, complete, meant, people
from ask_above.cli.sentence import Spoken
from ask_above.show.compare import comparison_table, show_comparison
from ask_above.show.screen import Screen


@click.command("compare", cls=Spoken, left_out=("with", "and"))
@click.argument("one", shell_complete=complete(people))
@click.argument("other", required=False, shell_complete=complete(people))
@at_option("At one place; else anywhere, and two ranks by what they grant.", default=None)
@click.option("--all", "everything", is_flag=True, help="Also show through what both may what both may.")
@asking(when=True)
def command(one: str, other: str | None, at: str | None, asked: CommandQuestion, *, everything: bool) -> int:
    """Compare two ranks or two members: what only one may, what both may, and through what.

    A rank alone is compared with its original and with the ranks it builds on.

    \b
    Examples:
      ask-above compare rank:volunteer
      ask-above compare rank:editor rank:warden --at front-page
      ask-above compare bram freya
    """
    opened = asked.opened
    first = meant(opened, one)
    rank = rank_named(first)
    if other is not None:
        comparisons = [opened.compare(first, meant(opened, other), at=at, when=asked.when)]
    elif rank is None:
        raise click.UsageError(f"Compare '{one}' with whom? A rank alone is compared with its original.")
    else:
        comparisons = opened.related(rank)

    def show(screen: Screen) -> None:
        if not comparisons:
            screen.line(f"{opened.rank(rank or '').called} was not copied from another rank, and builds on none.")
        for n, comparison in enumerate(comparisons):
            if n:
                screen.line()
            show_comparison(screen, comparison, everything=everything)

    return asked.answer(lambda: comparison_table(comparisons), show)
