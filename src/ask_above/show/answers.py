"""An answer on the screen."""

from __future__ import annotations

from ask_above.decide.answer import Answer
from ask_above.show.screen import Screen


def show_answer(screen: Screen, answer: Answer, *, indent: str = "") -> None:
    """Show an answer and its explanation."""
    account = answer.account
    screen.paragraph(account.sentence, first=indent, rest=f"{indent}  ", style="yes" if answer.allowed else "no")
    screen.paragraph(f"Because: {account.reason}", first=indent, rest=f"{indent}  ", style="head")
    screen.line()
    screen.line(f"{indent}Explanation:", "dim")
    for step in account.steps:
        screen.paragraph(f"{step.text} [{step.rule}]", first=f"{indent}  {step.mark} ", rest=f"{indent}    ")
    for note in account.notes:
        screen.paragraph(f"Note: {note}", first=indent, rest=f"{indent}  ", style="warn")
