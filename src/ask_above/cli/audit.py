"""``ask-above audit``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click

from ask_above.cli.asking import CommandQuestion, asking
from ask_above.cli.options import progress
from ask_above.cli.sentence import Spoken
from ask_above.show.screen import Screen


@click.command("audit", cls=Spoken)
@click.argument("logs", nargs=-1, required=True, type=click.Path(path_type=Path, exists=True), metavar="LOG...")
@click.option(
    "--map", "mapped", multiple=True, metavar="COLUMN=FIELD", help="Which field a column is, again and again."
)
@click.option("--usage", is_flag=True, help="Also show which capabilities were used through which rank.")
@click.option("--least", is_flag=True, help="Also show what the ranks grant beyond what the log needs.")
@click.option("--cluster", metavar="local|ADDRESS", help="Have the logs read by the workers of a Dask cluster.")
@asking(figure=True)
def command(
    logs: Sequence[Path],
    mapped: Sequence[str],
    cluster: str | None,
    asked: CommandQuestion,
    *,
    usage: bool,
    least: bool,
) -> int:
    """Compare a log of actions with what was allowed at the time.

    LOG is a file of CSV, JSON lines or Parquet, or a folder of Parquet files, with the columns member, action, when,
    and where there are any place, author, target, to, of, using; times in ISO 8601. The journal knows every state: each
    row is judged by that of its moment. Exit status 1 where something was not allowed. --figure draws what each rank
    grants and what of it was used.

    \b
    Examples:
      ask-above audit actions.csv.gz
      ask-above audit forum.jsonl --map "user=member" --map "ts=when" --usage
      ask-above audit actions.csv.gz --least
      ask-above audit actions.csv.gz --figure usage.png
      ask-above audit logs/ --cluster local
    """
    from ask_above.show.audit import audit_table, show_audit, show_least

    for name in ("--usage",) * usage + ("--least",) * least:
        asked.check_whole(name)
    mapping = _mapping(mapped)
    with progress("Reading") as told:
        audit = asked.opened.audit(list(logs), mapping=mapping, cluster=cluster, told=told)
    status = 0 if audit else 1
    if asked.is_drawn("usage", audit):
        return status

    def show(screen: Screen) -> None:
        show_audit(screen, audit, usage=usage)
        if least:
            show_least(screen, audit, audit.least())

    return asked.answer(lambda: audit_table(audit, least=least), show, status)


def _mapping(said: Sequence[str]) -> dict[str, str]:
    fields = {}
    for each in said:
        column, sign, field = each.partition("=")
        if not sign:
            raise click.UsageError(f"'{each}' is no COLUMN=FIELD.")
        fields[column.strip()] = field.strip()
    return fields
