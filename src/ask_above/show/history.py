"""What happened to a member, on the screen and as data."""

from __future__ import annotations

from datetime import UTC
from typing import TYPE_CHECKING

from ask_above.charter.moments import zone
from ask_above.decide.words import minute
from ask_above.show.data import Table
from ask_above.show.screen import Screen

if TYPE_CHECKING:
    from ask_above.workspace.journal import Event, History


def show_history(screen: Screen, history: History) -> None:
    """Show what happened, the first first; times are in the charter's time zone."""
    screen.line(f"History of {history.called or history.member}", "head")
    at = zone(history.timezone) or UTC
    screen.line(f"Times in {history.timezone}{'. Contact details are left out.' if history.hidden else ''}", "dim")
    screen.line()
    rows = [[str(event.number), minute(event.at, at), event.what, _by(event), event.why] for event in history.events]
    if rows:
        screen.table(["Change", "When", "What", "By", "Why"], rows)
    else:
        screen.line("No entries: nothing of this member was changed since the journal began.")


def _by(event: Event) -> str:
    if not event.by:
        return "maintainer"
    return f"{event.name} ({event.by})" if event.name and event.name != event.by else event.by


def history_table(history: History) -> Table:
    """Return what happened as a table."""
    rows = ([event.number, event.at.isoformat(), *event[2:]] for event in history.events)
    return Table(("number", "at", "what", "by", "name", "why"), rows)
