"""The grid as a sheet that people fill in, and what was filled in as edits.

A cell says ``yes`` or ``no`` where the charter says so itself: a rank is granted or withheld a capability, a place
allows or denies it. In brackets stands what comes from elsewhere: from other ranks, bundles, the places above.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Final, NamedTuple

from ask_above.change.draft import Edit, EditError
from ask_above.change.places import Say
from ask_above.change.ranks import RankSet
from ask_above.charter.ladder import Rank
from ask_above.charter.names import nearest
from ask_above.decide.decider import Decider
from ask_above.decide.profile import ask_rank
from ask_above.people.directory import Directory, NameKind, folded

YES, NO, AS_IT_COMES = "yes", "no", "as it comes"
CHOICES: Final = (YES, NO, AS_IT_COMES)
COMES: Final = {True: "(yes)", False: "(no)"}
BARRED, NO_MEANING = "(barred)", "-"
HEADS: Final = ("Heading", "Capability", "What it lets one do")

_TICKS: Final = {"yes", "y", "x", "✓", "✔", "☑", "1", "true", "on", "ja", "oui", "+"}
_CROSSES: Final = {"no", "n", "✗", "✘", "0", "false", "off", "nein", "non"}
_COMES: Final = {"", "as it comes", "(yes)", "(no)", "-", "(barred)", "–", "?"}


class GridSheet(NamedTuple):
    """A sheet: the ranks across by their keys, and for each capability the cell of each rank."""

    place: str | None
    ranks: tuple[str, ...]
    cells: Mapping[str, Mapping[str, str]]


class Filled(NamedTuple):
    """What was filled in: the edits that it comes to, and what of the sheet could not be understood."""

    edits: list[Edit]
    faults: list[str]


def sheet(decider: Decider, place: str | None) -> GridSheet:
    """Return the sheet of what ranks carry, or of what differs at a place."""
    compiled = decider.compiled
    ranks = tuple(rank.key for rank in compiled.ranks)
    columns = {
        rank.key: _carried(decider, rank) if place is None else _at_place(decider, rank, compiled.place_at[place])
        for rank in compiled.ranks
    }
    return GridSheet(place, ranks, {key: {r: columns[r][key] for r in ranks} for key in compiled.catalogue.keys})


def _carried(decider: Decider, rank: Rank) -> dict[str, str]:
    compiled = decider.compiled
    carried = compiled.catalogue.everything if rank.unbounded else compiled.carried[rank.position]
    said = dict.fromkeys(rank.grants.words, YES) | dict.fromkeys(rank.withhold.words, NO)
    return {key: said.get(key, COMES[bool(carried & bit)]) for key, bit in compiled.catalogue.bit.items()}


def _at_place(decider: Decider, rank: Rank, place: int) -> dict[str, str]:
    compiled = decider.compiled
    here = compiled.places[place]
    usable = decider.usable(ask_rank(compiled, rank.position), place)
    own = next((each for each in here.overrides if each.label == rank.key), None)
    said: dict[str, str] = {}
    if own is not None:
        said = dict.fromkeys(own.allow.words, YES) | dict.fromkeys(own.deny.words, NO)
        said |= dict.fromkeys(own.bar.words, BARRED)
    meaning = compiled.has_meaning(place)
    return {
        key: said.get(key, COMES[bool(usable & bit)] if meaning & bit or here.kind == "section" else NO_MEANING)
        for key, bit in compiled.catalogue.bit.items()
    }


def meaning_of(text: str) -> str | None:
    """Return what a cell says: yes, no, or as it comes; ``None`` where it says none of these.

    >>> [meaning_of(each) for each in ("x", "✓", "No", "", "(yes)", "perhaps")]
    ['yes', 'yes', 'no', 'as it comes', 'as it comes', None]
    """
    said = " ".join(text.casefold().split())
    if said in _TICKS:
        return YES
    return NO if said in _CROSSES else AS_IT_COMES if said in _COMES else None


def filled(decider: Decider, made_from: GridSheet, lines: Sequence[Sequence[str]]) -> Filled:
    """Return what the lines of a sheet that was filled in come to, beside the sheet that it was made from.

    Nothing that the sheet does not hold is touched. The first line names the ranks, by title or key.
    """
    directory = Directory(decider.compiled.charter, decider.people.register)
    faults: list[str] = []
    at, ranks = _columns(directory, lines[0] if lines else (), faults)
    said: dict[str, dict[str, str]] = {}
    for n, line in enumerate(lines[1:], 2):
        name = line[at].strip() if at < len(line) else ""
        if not name:
            continue
        if name not in made_from.cells:
            near = nearest(name, made_from.cells)
            faults.append(f"Line {n}: there is no capability '{name}'." + (f" Nearest: {near[0]}." if near else ""))
            continue
        for column, rank in ranks.items():
            text = line[column] if column < len(line) else ""
            was = made_from.cells[name].get(rank)
            meant = meaning_of(text)
            if meant is None:
                faults.append(f"Line {n}, {rank}: '{text}' is neither yes, no, nor {AS_IT_COMES}.")
            elif was is not None and meant != meaning_of(was) and text != was:
                said.setdefault(rank, {})[name] = meant
    return Filled([*_edits(decider, made_from.place, said, faults)], faults)


def _columns(directory: Directory, heads: Sequence[str], faults: list[str]) -> tuple[int, dict[int, str]]:
    """Return the column of capabilities, and that of each rank."""
    names = [folded(head) for head in heads]
    at = names.index("capability") if "capability" in names else 0
    ranks: dict[int, str] = {}
    for n, head in enumerate(heads):
        if n == at or not head.strip() or folded(head) in map(folded, HEADS):
            continue
        found = directory.find(head.strip(), NameKind.RANK)
        if found is None:
            near = directory.nearest(head, NameKind.RANK)
            faults.append(f"The column '{head}' names no rank." + (f" Nearest: {near[0]}." if near else ""))
        else:
            ranks[n] = found.key
    return at, ranks


def _edits(
    decider: Decider, place: str | None, said: Mapping[str, Mapping[str, str]], faults: list[str]
) -> Iterator[Edit]:
    for key, cells in said.items():
        rank = decider.compiled.charter.ranks[key]
        if rank.unbounded:
            faults.append(f"{rank.title} may do everything; what a sheet says of it has no effect.")
        elif place is None:
            edit = _carrying(rank, cells)
            if edit.fields:
                yield edit
        else:
            for word, meant in (("clear", AS_IT_COMES), ("allow", YES), ("deny", NO)):
                names = tuple(name for name, cell in cells.items() if cell == meant)
                if names:
                    yield Say(place, key, word, names)


def _carrying(rank: Rank, cells: Mapping[str, str]) -> RankSet:
    """Return the edit by which a rank is granted and withheld what a sheet says."""
    grants = [word for word in rank.grants.words if cells.get(word) in (None, YES)]
    grants += [name for name, cell in cells.items() if cell == YES and name not in grants]
    withhold = [word for word in rank.withhold.words if cells.get(word) in (None, NO)]
    withhold += [name for name, cell in cells.items() if cell == NO and name not in withhold]
    fields = {"grants": grants or None, "withhold": withhold or None}
    had = {"grants": rank.grants.words, "withhold": rank.withhold.words}
    return RankSet(rank.key, {name: value for name, value in fields.items() if tuple(value or ()) != had[name]})


def check(found: Filled) -> list[Edit]:
    """Return the edits of a sheet; raises :class:`EditError` with all that is wrong with it."""
    if found.faults:
        raise EditError("The sheet cannot be taken as it stands; nothing was done. " + " ".join(found.faults))
    return found.edits
