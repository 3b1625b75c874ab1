"""A first look at a list of people: what was understood of its columns, and its first rows."""

from __future__ import annotations

from ask_above.files.people_lists import Understood
from ask_above.show.screen import Screen


def show_understood(screen: Screen, name: str, understood: Understood, *, whole: bool) -> None:
    """Show which column is which field, and what else was recognised; with ``whole`` the first rows too."""
    renamed = [(column, field) for column, field in understood.columns if column != field]
    if whole or renamed or understood.notes:
        said = ", ".join(f"{column or 'a column without a name'} → {field or 'left out'}" for column, field in renamed)
        screen.paragraph(f"{name}: {said or 'every column is called as here'}.", rest="  ", style="head")
    for note in understood.notes:
        screen.paragraph(note, first="  ", rest="  ")
    if whole and understood.rows:
        heads = list(dict.fromkeys(field for _, field in understood.columns if field))
        shown = [head for head in heads if head in understood.rows[0]] or list(understood.rows[0])
        if "name" in understood.rows[0] and "name" not in shown:
            shown.insert(0, "name")
        screen.table(
            [head.capitalize() for head in shown], [[row.get(h, "") for h in shown] for row in understood.rows]
        )
        screen.line()
