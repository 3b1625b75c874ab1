"""What ``check`` shows: faults in the files, expectations that do not hold."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ask_above.ask.expect import Unmet
from ask_above.decide.may import Decider
from ask_above.errors import Fault
from ask_above.show.answers import show_answer
from ask_above.show.screen import Screen

FAULT_COLUMNS = ("file", "line", "column", "path", "code", "message", "expected", "found", "nearest")


def counts(decider: Decider) -> dict[str, int]:
    """Return how much there is of everything."""
    charter, register = decider.frame.charter, decider.people.register
    return {
        "ranks": len(charter.ranks),
        "capabilities": len(charter.catalogue.keys),
        "places": len(charter.places),
        "members": len(register.members),
        "assignments": sum(len(register.of(key)) for key in register.members),
    }


def show_check(screen: Screen, decider: Decider, unmet: Sequence[Unmet], *, explain: bool = True) -> None:
    """Show the result of a check of a charter that could be read."""
    charter = decider.frame.charter
    said = ", ".join(f"{number} {what}" for what, number in counts(decider).items())
    screen.line(charter.title, "head")
    screen.paragraph(f"  {said}", rest="  ")
    screen.line()
    screen.line("✓ The files are well formed.", "yes")
    total = len(charter.expectations)
    if not unmet:
        kept = f"All {total} expectations hold." if total else "It states no expectations."
        screen.line(f"✓ {kept}", "yes")
        return
    screen.line(f"✗ {len(unmet)} of {total} expectations {'does' if len(unmet) == 1 else 'do'} not hold.", "no")
    for each in unmet:
        screen.line()
        line = f" ({each.expectation.where})" if each.expectation.where.line else ""
        screen.line(f"✗ {each.expectation.text}{line}", "no")
        screen.paragraph(each.because, first="  ", rest="  ")
        for answer in each.answers if explain else ():
            show_answer(screen, answer, indent="    ")


def check_data(decider: Decider, unmet: Sequence[Unmet]) -> dict[str, Any]:
    """Return the result as plain data."""
    return {
        "well_formed": True,
        "faults": [],
        "counts": counts(decider),
        "expectations": len(decider.frame.charter.expectations),
        "unmet": [
            {
                "expectation": each.expectation.text,
                "file": each.expectation.where.file,
                "line": each.expectation.where.line,
                "because": each.because,
                "answers": [answer.as_data() for answer in each.answers],
            }
            for each in unmet
        ],
    }


def show_faults(screen: Screen, faults: Sequence[Fault]) -> None:
    """Show what is wrong in the files."""
    for fault in faults:
        spot = f"{fault.file}, line {fault.line}, column {fault.column}" if fault.line else fault.file
        screen.line(f"✗ {spot}{f' · {fault.path}' if fault.path else ''}", "head")
        screen.paragraph(f"{fault.message[:1].upper()}{fault.message[1:]}.", first="  ", rest="  ", style="no")
        if fault.expected:
            screen.paragraph(f"expected: {fault.expected}", first="  ", rest="            ")
        if fault.nearest:
            screen.paragraph(f"nearest:  {', '.join(fault.nearest)}", first="  ", rest="            ", style="yes")
        for line in fault.snippet(screen.width - 12):
            screen.line(f"  {line}", "dim")
        screen.line()
    screen.line(f"{len(faults)} {'fault' if len(faults) == 1 else 'faults'}; nothing was read.", "head")


def fault_data(faults: Sequence[Fault]) -> dict[str, Any]:
    """Return faults as plain data, in the form of a check's result."""
    return {
        "well_formed": False,
        "faults": [fault._asdict() for fault in faults],
        "expectations": 0,
        "unmet": [],
    }


def fault_rows(faults: Sequence[Fault]) -> list[list[object]]:
    """Return faults as rows for machines."""
    return [
        [
            fault.file,
            fault.line,
            fault.column,
            fault.path,
            fault.code,
            fault.message,
            fault.expected,
            fault.found,
            ";".join(fault.nearest),
        ]
        for fault in faults
    ]
