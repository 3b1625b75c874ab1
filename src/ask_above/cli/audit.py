"""``ask-above audit``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click

from ask_above.cli.options import Figure, community_option, figure_option, format_option, open_here, progress
from ask_above.cli.sentence import Spoken
from ask_above.show.data import put_out
from ask_above.show.screen import Screen


@click.command("audit", cls=Spoken)
@click.argument("logs", nargs=-1, required=True, type=click.Path(path_type=Path, exists=True), metavar="LOG...")
@click.option(
    "--map", "mapped", multiple=True, metavar="COLUMN=FIELD", help="Which field a column is, again and again."
)
@click.option("--usage", is_flag=True, help="Also show which capabilities were used through which rank.")
@click.option("--least", is_flag=True, help="Also show what the ranks grant beyond what the log needs.")
@click.option("--cluster", metavar="local|ADDRESS", help="Have the logs read by the workers of a Dask cluster.")
@community_option
@format_option
@figure_option
def command(
    logs: Sequence[Path],
    mapped: Sequence[str],
    cluster: str | None,
    community: str | None,
    form: str,
    figure: Figure | None,
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

    opened = open_here(community)
    mapping = _mapping(mapped)
    with progress("Reading") as told:
        audit = opened.audit(list(logs), mapping=mapping, cluster=cluster, told=told)
    if figure is not None:
        from ask_above.show import figures

        figure.write(figures.usage, audit)
        return 0 if audit else 1

    def show(screen: Screen) -> None:
        show_audit(screen, audit, usage=usage)
        if least:
            show_least(screen, audit, audit.least())

    put_out(form, lambda: audit_table(audit, least=least), show)
    return 0 if audit else 1


def _mapping(said: Sequence[str]) -> dict[str, str]:
    fields = {}
    for each in said:
        column, sign, field = each.partition("=")
        if not sign:
            raise click.UsageError(f"'{each}' is no COLUMN=FIELD.")
        fields[column.strip()] = field.strip()
    return fields
