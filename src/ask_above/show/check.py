"""What ``check`` shows: faults in the files, expectations that do not hold, many communities in one table."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from ask_above.ask.advice.piece import Piece
from ask_above.ask.advice.whole import AdviceGiven
from ask_above.ask.anywhere import high_risk_holders
from ask_above.ask.cover import unbounded_members
from ask_above.ask.expect import Unmet
from ask_above.charter.names import few, how_many, upper
from ask_above.community import Community
from ask_above.decide.decider import Decider
from ask_above.decide.words import day
from ask_above.errors import AskAboveError, Fault, FaultyFilesError
from ask_above.escalation.paths import rows as climb_rows
from ask_above.files.writing import CHARTER
from ask_above.show.answers import show_answer
from ask_above.show.data import Table
from ask_above.show.screen import Screen, at_most

_MOST_COMMANDS, _MOST_OF_A_KIND, _SPOT, _MOST_LINES = 3, 3, 9, 12
_ONE = {
    "ranks": "rank",
    "capabilities": "capability",
    "places": "place",
    "members": "member",
    "assignments": "assignment",
}
COLUMNS = ("community", "title", "faults", "unmet", "unmet_later", "advice", "unbounded", "high_risk", "climbs")


def counts(decider: Decider) -> dict[str, int]:
    """Return how much there is of everything."""
    charter, register = decider.compiled.charter, decider.people.register
    return {
        "ranks": len(charter.ranks),
        "capabilities": len(charter.catalogue.keys),
        "places": len(charter.places),
        "members": len(register.members),
        "assignments": sum(len(register.of(key)) for key in register.members),
    }


def counted(decider: Decider) -> str:
    """Say how much there is of everything."""
    return ", ".join(how_many(number, _ONE[what], what) for what, number in counts(decider).items())


def show_check(
    screen: Screen, decider: Decider, unmet: Sequence[Unmet], *, explain: bool = True, mends: Sequence[str] = ()
) -> None:
    """Show the result of a check of a charter that could be read; ``mends`` are what lets the first unmet be met."""
    charter = decider.compiled.charter
    screen.paragraph(f"{charter.title}: {counted(decider)}", rest="  ", style="head")
    screen.line("✓ The files are well formed.", "yes")
    total = len(charter.expectations)
    if not unmet:
        screen.line(f"✓ {all_met(total)}.", "yes")
        return
    verb = "is" if len(unmet) == 1 else "are"
    screen.line(f"✗ {len(unmet)} of {how_many(total, 'expectation')} {verb} not met.", "no")
    for n, broken in enumerate(unmet):
        if screen.full or n == 0:
            screen.line()
        line = f" ({broken.expectation.where})" if broken.expectation.where.line else ""
        screen.paragraph(f"✗ {broken.expectation.text}{line}", rest="  ", style="no")
        reason = broken.answers[0].reason if broken.answers and not screen.full else broken.because
        screen.paragraph(reason, first="  ", rest="  ")
        for answer in broken.answers if explain and screen.full else ():
            show_answer(screen, answer, indent="    ")
        if mends[n : n + 1] and mends[n]:
            screen.paragraph(f"→ {mends[n]}", first="  ", rest="    ", style="yes")


def show_later(screen: Screen, later: Sequence[tuple[str, Unmet]]) -> None:
    """Show the expectations that are met now and will not be: from which day, and why."""
    for since, broken in later:
        screen.line()
        line = f" ({broken.expectation.where})" if broken.expectation.where.line else ""
        screen.paragraph(f"▲ Not met from {day(since)} on: {broken.expectation.text}{line}", rest="  ", style="warn")
        screen.paragraph(broken.because, first="  ", rest="  ")


def all_met(total: int) -> str:
    """Say that all of so many expectations are met; without a full stop."""
    if not total:
        return "The charter has no expectations"
    return "The expectation is met" if total == 1 else f"All {total} expectations are met"


def show_advice(screen: Screen, given: AdviceGiven) -> None:
    """Show the advice, gravest kind first: a line for each piece; in full each with its reason and what corrects it."""
    screen.line()
    if not given.pieces:
        screen.line("✓ No further advice.", "yes")
    else:
        more = "" if screen.full else " (reasons and commands: --full)"
        screen.line(f"▲ {how_many(len(given.pieces), 'piece', 'pieces')} of advice{more}", "warn")
        (_advice_in_full if screen.full else _advice_in_lines)(screen, given.pieces)
    if given.silenced:
        screen.line(f"Silenced by the charter: {len(given.silenced)}", "dim")
        for each, reason in given.silenced if screen.full else ():
            screen.paragraph(f"{each.what} [{each.code}]: {reason}", first="  ", rest="    ", style="dim")


def by_kind(pieces: Sequence[Piece]) -> dict[str, list[Piece]]:
    """Return advice by its code, in its order."""
    kinds: dict[str, list[Piece]] = {}
    for piece in pieces:
        kinds.setdefault(piece.code, []).append(piece)
    return kinds


def _advice_in_lines(screen: Screen, pieces: Sequence[Piece]) -> None:
    """Show a line for each piece, three of each kind and how many more."""
    shown = [(kind[:_MOST_OF_A_KIND], len(kind) - _MOST_OF_A_KIND) for kind in by_kind(pieces).values()]
    spots = [_spot(piece) for some, _ in shown for piece in some]
    side = min(max((len(spot) for spot in spots), default=0), _SPOT)
    for some, more in shown:
        for piece in some:
            spot = _spot(piece).ljust(side)
            said = f"{upper(piece.what)} [{piece.code}]"
            screen.paragraph(said, first=f"  {spot}  ", rest=" " * (side + 4))
        if more > 0:
            screen.line(f"  {' ' * side}  and {more:,} more [{some[0].code}]", "dim")


def _spot(piece: Piece) -> str:
    if not piece.where.file:
        return ""
    file = "" if piece.where.file == CHARTER else f"{piece.where.file} "
    return f"{file}line {piece.where.line}" if piece.where.line else piece.where.file


def _advice_in_full(screen: Screen, pieces: Sequence[Piece]) -> None:
    """Show each piece with its line, why it matters once for its kind, and what corrects it."""
    for kind in by_kind(pieces).values():
        screen.line()
        screen.paragraph(f"{kind[0].why} [{kind[0].code}]", style="head")
        for piece in kind:
            spot = f" ({piece.where})" if piece.where.file else ""
            screen.paragraph(f"{upper(piece.what)}{spot}", first="▲ ", rest="  ")
            screen.paragraph(piece.mend, first="  → ", rest="    ")
            for command in screen.some(piece.commands, _MOST_COMMANDS, "    ", " like it (--full)"):
                screen.paragraph(command, first="    ", rest="      ", style="yes")


def _unmet_row(unmet: Unmet, code: str = "unmet", since: str = "") -> list[object]:
    where, expectation = unmet.expectation.where, unmet.expectation.text
    return ["expectation", where.file, where.line, code, expectation, f"{since}{unmet.because}", ""]


def check_table(
    decider: Decider, unmet: Sequence[Unmet], given: AdviceGiven, later: Sequence[tuple[str, Unmet]] = ()
) -> Table:
    """Return the result: a row for each thing found, the last for advice."""
    rows = [_unmet_row(row) for row in unmet] + [
        _unmet_row(row, "unmet-later", f"From {day(since)}: ") for since, row in later
    ]
    rows += [
        ["advice", piece.where.file, piece.where.line, piece.code, piece.what, piece.why, piece.mend]
        for piece in given.pieces
    ]
    data = {
        "well_formed": True,
        "faults": [],
        "counts": counts(decider),
        "expectations": len(decider.compiled.charter.expectations),
        "unmet_later": [
            {"expectation": row.expectation.text, "from": since, "because": row.because} for since, row in later
        ],
        "unmet": [
            {
                "expectation": row.expectation.text,
                "file": row.expectation.where.file,
                "line": row.expectation.where.line,
                "because": row.because,
                "answers": [answer.as_data() for answer in row.answers],
            }
            for row in unmet
        ],
        "advice": [_advice_data(piece) for piece in given.pieces],
        "silenced": [{**_advice_data(row), "because": reason} for row, reason in given.silenced],
    }
    return Table(("kind", "file", "line", "code", "what", "why", "mend"), rows, data)


def _advice_data(each: Piece) -> dict[str, Any]:
    return {
        "code": each.code,
        "file": each.where.file,
        "line": each.where.line,
        "what": each.what,
        "why": each.why,
        "mend": each.mend,
        "commands": list(each.commands),
        "concerned": list(each.concerned),
    }


def show_faults(screen: Screen, faults: Sequence[Fault]) -> None:
    """Show what is wrong in the files; of several alike the first, and on which lines the others are."""
    alike: dict[tuple[str, str, str], list[Fault]] = {}
    for fault in faults:
        alike.setdefault((fault.file, fault.code, fault.path), []).append(fault)
    for fault, *others in alike.values():
        spot = f"{fault.file}, line {fault.line}, column {fault.column}" if fault.line else fault.file
        screen.line(f"✗ {spot}{f' · {fault.path}' if fault.path else ''}", "head")
        screen.paragraph(f"{upper(fault.message)}.", first="  ", rest="  ", style="no")
        if fault.expected:
            screen.paragraph(f"expected: {fault.expected}", first="  ", rest="            ")
        if fault.nearest:
            screen.paragraph(f"nearest:  {', '.join(fault.nearest)}", first="  ", rest="            ", style="yes")
        for line in fault.snippet(screen.width - 12):
            screen.line(f"  {line}", "dim")
        if others:
            lines = few(dict.fromkeys(str(other.line) for other in others), at_most(_MOST_LINES))
            screen.paragraph(f"and {len(others)} more like it, on line {lines}", first="  ", rest="    ", style="dim")
        screen.line()
    them = "it" if len(faults) == 1 else "them"
    screen.line(f"{how_many(len(faults), 'fault')}. Correct {them} and try again.", "head")


def fault_table(faults: Sequence[Fault]) -> Table:
    """Return faults as a table, in JSON in the form of a check's result."""
    data = {"well_formed": False, "faults": [fault._asdict() for fault in faults], "expectations": 0, "unmet": []}
    rows = [(*fault[:8], ";".join(fault.nearest)) for fault in faults]
    return Table((*Fault._fields[:8], "nearest"), rows, data)


class Hosted(NamedTuple):
    """What one community comes to: ``faults`` where it cannot be read, else the numbers.

    ``unbounded`` and ``high_risk`` count members, ``climbs`` the ranks that can reach something of high risk or come to
    be unbounded.
    """

    community: str
    title: str
    faults: int
    unmet: int | None = None
    unmet_later: int | None = None
    advice: int | None = None
    unbounded: int | None = None
    high_risk: int | None = None
    climbs: int | None = None


def hosted(folders: Iterable[Path], told: Callable[[int, int], None]) -> list[Hosted]:
    """Return what each of some folders comes to, in the order of their names."""
    some = sorted(folders)
    communities = []
    for n, folder in enumerate(some, 1):
        communities.append(_one(folder))
        told(n, len(some))
    return communities


def _one(folder: Path) -> Hosted:
    try:
        community = Community.open(folder)
    except FaultyFilesError as error:
        return Hosted(folder.name, "", len(error.faults))
    except (AskAboveError, OSError):
        return Hosted(folder.name, "", 1)
    decider, at = community.decider, community.names.moment()
    able = {key for keys in high_risk_holders(decider, at).values() for key in keys}
    climbs = sum(bool(free or high) for _, free, high, *_ in climb_rows(decider))
    return Hosted(
        folder.name,
        community.charter.title,
        0,
        len(community.unmet()),
        len(community.unmet_later()),
        len(community.advice().pieces),
        len(unbounded_members(decider, at)),
        len(able),
        climbs - sum(rank.unbounded for rank in community.charter.ranks.values()),
    )


def show_hosted(screen: Screen, some: list[Hosted]) -> None:
    """Show them as a table."""
    screen.line(how_many(len(some), "community", "communities"), "head")
    screen.line()
    heads = ["Folder", "Title", "Faults", "Unmet", "Will be", "Advice", "Unbounded", "High risk", "Ranks that climb"]
    rows = [["" if cell is None else str(cell) for cell in each] for each in some]
    screen.table(heads, rows, right=range(2, len(heads)))
